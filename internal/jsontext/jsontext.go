// Package jsontext appends pieces of JSON to byte slices without allocating,
// where encoding/json would need a value to marshal.
package jsontext

import (
	"encoding/binary"
	"unicode/utf8"
	"unsafe"
)

const hexDigits = "0123456789abcdef"

// AppendString appends s as a JSON string (RFC 8259, section 7). Bytes that are
// not valid UTF-8 become the replacement character.
func AppendString[T string | []byte](dst []byte, s T) []byte {
	switch v := any(s).(type) {
	case string:
		return appendBytes(dst, unsafe.Slice(unsafe.StringData(v), len(v))) // only read
	case []byte:
		return appendBytes(dst, v)
	}
	return dst
}

func appendBytes(dst, s []byte) []byte {
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); {
		if i+8 <= len(s) && isPlain(binary.LittleEndian.Uint64(s[i:])) {
			i += 8
			continue
		}
		c := s[i]
		if c >= 0x20 && c < utf8.RuneSelf && c != '"' && c != '\\' {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(s[i:])
			if r != utf8.RuneError || size != 1 {
				i += size
				continue
			}
			dst = append(append(dst, s[start:i]...), "\uFFFD"...)
			i++
			start = i
			continue
		}
		dst = append(dst, s[start:i]...)
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		start = i
	}
	return append(append(dst, s[start:]...), '"')
}

// isPlain reports whether eight bytes are all characters of ASCII that stand in a
// JSON string as they are. It may say no of some that are.
func isPlain(x uint64) bool {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	quote, slash := x^'"'*ones, x^'\\'*ones
	return (x|(x-' '*ones)|(quote-ones)&^quote|(slash-ones)&^slash)&highs == 0
}

// IsNumber reports whether a text is a number, and not NaN or an infinity.
func IsNumber(text []byte) bool {
	if len(text) > 0 && text[0] == '-' {
		text = text[1:]
	}
	return len(text) > 0 && text[0] >= '0' && text[0] <= '9'
}
