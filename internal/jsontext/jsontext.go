// Package jsontext appends pieces of JSON to byte slices without allocating,
// where encoding/json would need a value to marshal.
package jsontext

import "unicode/utf8"

const hexDigits = "0123456789abcdef"

// AppendString appends s as a JSON string (RFC 8259, section 7). Bytes that are
// not valid UTF-8 become the replacement character.
func AppendString[T string | []byte](dst []byte, s T) []byte {
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= 0x20 && c < utf8.RuneSelf && c != '"' && c != '\\' {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(string(s[i:min(i+utf8.UTFMax, len(s))]))
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

// IsNumber tells a number in text form from NaN and the infinities.
func IsNumber(text []byte) bool {
	if len(text) > 0 && text[0] == '-' {
		text = text[1:]
	}
	return len(text) > 0 && text[0] >= '0' && text[0] <= '9'
}
