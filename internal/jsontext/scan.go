package jsontext

import (
	"errors"
	"fmt"
)

// What a library's parser does recursively, or only to a depth, is done here by
// counting: a database takes documents that are nested as deep as it likes.

// Compact appends a JSON value without the white space between its parts (RFC
// 8259, section 2). The value must be valid, which is not checked.
func Compact(dst, value []byte) []byte {
	start := 0
	for i := 0; i < len(value); i++ {
		switch value[i] {
		case ' ', '\t', '\n', '\r':
			dst = append(dst, value[start:i]...)
			start = i + 1
		case '"':
			for i++; i < len(value) && value[i] != '"'; i++ {
				if value[i] == '\\' {
					i++
				}
			}
		}
	}
	if start > len(value) {
		return dst
	}
	return append(dst, value[start:]...)
}

// Depth is how deep a value's arrays and objects are nested.
func Depth(value []byte) (deepest int) {
	depth := 0
	for i := 0; i < len(value); i++ {
		switch value[i] {
		case '[', '{':
			depth++
			deepest = max(deepest, depth)
		case ']', '}':
			depth--
		case '"':
			for i++; i < len(value) && value[i] != '"'; i++ {
				if value[i] == '\\' {
					i++
				}
			}
		}
	}
	return deepest
}

var errCut = errors.New("a JSON value is cut off")

// Next splits the first value off, without white space around it.
func Next(text []byte) (value, rest []byte, err error) {
	text = skipSpace(text)
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '[', '{':
			depth++
		case ']', '}':
			if depth--; depth < 0 {
				return text[:i], text[i:], nil
			}
			if depth == 0 {
				return text[:i+1], text[i+1:], nil
			}
		case '"':
			for i++; ; i++ {
				if i >= len(text) {
					return nil, nil, errCut
				}
				if text[i] == '\\' {
					i++
				} else if text[i] == '"' {
					break
				}
			}
			if depth == 0 {
				return text[:i+1], text[i+1:], nil
			}
		case ',', ':', ' ', '\t', '\n', '\r':
			if depth == 0 {
				return text[:i], text[i:], nil
			}
		}
	}
	if depth > 0 || len(text) == 0 {
		return nil, nil, errCut
	}
	return text, nil, nil
}

func skipSpace(text []byte) []byte {
	for len(text) > 0 && (text[0] == ' ' || text[0] == '\t' || text[0] == '\n' || text[0] == '\r') {
		text = text[1:]
	}
	return text
}

// Elements calls each with the elements of an array.
func Elements(array []byte, each func(value []byte) error) error {
	return parts(array, '[', ']', func(rest []byte) ([]byte, error) {
		value, rest, err := Next(rest)
		if err != nil {
			return nil, err
		}
		return rest, each(value)
	})
}

// Members calls each with the members of an object; name is a JSON string.
func Members(object []byte, each func(name, value []byte) error) error {
	return parts(object, '{', '}', func(rest []byte) ([]byte, error) {
		name, rest, err := Next(rest)
		if err != nil {
			return nil, err
		}
		if rest = skipSpace(rest); len(rest) == 0 || rest[0] != ':' {
			return nil, fmt.Errorf("a member of a JSON object has no colon behind its name")
		}
		value, rest, err := Next(rest[1:])
		if err != nil {
			return nil, err
		}
		return rest, each(name, value)
	})
}

func parts(text []byte, open, end byte, one func(rest []byte) ([]byte, error)) error {
	text = skipSpace(text)
	if len(text) == 0 || text[0] != open {
		return fmt.Errorf("a JSON value does not begin with %q", open)
	}
	text = skipSpace(text[1:])
	for first := true; ; first = false {
		if len(text) == 0 {
			return errCut
		}
		if text[0] == end {
			return nil
		}
		if !first {
			if text[0] != ',' {
				return fmt.Errorf("two parts of a JSON value have %q between them", text[0])
			}
			text = text[1:]
		}
		var err error
		if text, err = one(text); err != nil {
			return err
		}
		text = skipSpace(text)
	}
}
