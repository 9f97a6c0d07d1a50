package postgresql

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"rillmark/internal/change"
)

// writing appends a value's text, as the server reads it, to dst.
type writing func(dst, canonical []byte) ([]byte, error)

// writingOf is how a column's values are written; nil where their canonical text will do.
func writingOf(c *change.Column) writing {
	if c.Treatment != "" {
		return nil
	}
	switch c.Rule {
	case change.RuleBinary:
		return func(dst, canonical []byte) ([]byte, error) {
			return hex.AppendEncode(append(dst, `\x`...), canonical), nil
		}
	case change.RuleArray:
		element := c.Element
		return func(dst, canonical []byte) ([]byte, error) { return appendArray(dst, canonical, element) }
	default:
	}
	return nil
}

// appendArray makes of a JSON array the server's text of an array (the manual, section
// "Array Input and Output Syntax"). A JSON string is that text itself.
func appendArray(dst, canonical []byte, element change.Rule) ([]byte, error) {
	if len(canonical) > 0 && canonical[0] == '"' {
		var text string
		err := json.Unmarshal(canonical, &text)
		return append(dst, text...), err
	}
	var items []json.RawMessage
	if err := json.Unmarshal(canonical, &items); err != nil {
		return dst, fmt.Errorf("an array that is none: %w", err)
	}
	dst = append(dst, '{')
	for i, item := range items {
		if i > 0 {
			dst = append(dst, ',')
		}
		var err error
		if dst, err = appendElement(dst, item, element); err != nil {
			return dst, err
		}
	}
	return append(dst, '}'), nil
}

func appendElement(dst []byte, item json.RawMessage, element change.Rule) ([]byte, error) {
	switch {
	case string(item) == "null" && element != change.RuleJSON:
		return append(dst, "NULL"...), nil
	case item[0] == '[' && element != change.RuleJSON:
		return appendArray(dst, item, element)
	case item[0] != '"' || element == change.RuleJSON:
		return appendQuoted(dst, item), nil
	}
	var text string
	if err := json.Unmarshal(item, &text); err != nil {
		return dst, err
	}
	if element == change.RuleBinary {
		raw, err := base64.StdEncoding.DecodeString(text)
		return appendQuoted(dst, hex.AppendEncode([]byte(`\x`), raw)), err
	}
	return appendQuoted(dst, []byte(text)), nil
}

func appendQuoted(dst, text []byte) []byte {
	dst = append(dst, '"')
	for _, b := range text {
		if b == '"' || b == '\\' {
			dst = append(dst, '\\')
		}
		dst = append(dst, b)
	}
	return append(dst, '"')
}

// appendCopied appends a text as COPY reads it (the manual, COPY, "Text Format").
func appendCopied(dst, text []byte) []byte {
	if bytes.IndexByte(text, '\\') < 0 && bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\t') < 0 && bytes.IndexByte(text, '\r') < 0 {
		return append(dst, text...)
	}
	for _, b := range text {
		switch b {
		case '\\':
			dst = append(dst, '\\', '\\')
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\t':
			dst = append(dst, '\\', 't')
		case '\r':
			dst = append(dst, '\\', 'r')
		default:
			dst = append(dst, b)
		}
	}
	return dst
}
