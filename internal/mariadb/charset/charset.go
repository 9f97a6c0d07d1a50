// Package charset turns text in any character set that a MariaDB server has into UTF-8.
//
// The tables were read off a server, which converts by them itself, so that a value is
// the one that the server's own SELECT gives: see scripts/charsets, which makes
// tables.z. The sets of Unicode are decoded here.
package charset

import (
	"bytes"
	"compress/zlib"
	_ "embed"
	"encoding/binary"
	"fmt"
	"io"
	"sync"
	"unicode/utf16"
	"unicode/utf8"
)

// A Decoder appends text as UTF-8 to dst. What it cannot decode becomes U+FFFD, and ok is
// then false: the caller says so. A nil Decoder is for text that is UTF-8 already, but has
// to be checked.
type Decoder func(dst, text []byte) (decoded []byte, ok bool)

//go:embed tables.z
var packed []byte

// table maps what stands in one character set. Codes of two and three bytes are kept by
// their number; a set has at most one lead byte of codes of three.
type table struct {
	one  [256]rune // 0 where the byte is none or leads a longer code
	lead [256]uint8
	more map[uint32]rune
}

var tables = sync.OnceValue(unpack)

// unpack reads tables.z: for each set its name, and its codes with their runes, as zlib
// packed varints: the code's length, and both as differences to those before.
func unpack() map[string]*table {
	r, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		panic(err) // it is a part of the program
	}
	data, err := io.ReadAll(r)
	if err != nil {
		panic(err)
	}
	all := make(map[string]*table)
	next := func() int64 {
		v, n := binary.Varint(data)
		data = data[n:]
		return v
	}
	for len(data) > 0 {
		name := string(data[1 : 1+data[0]])
		data = data[1+data[0]:]
		t := &table{more: make(map[uint32]rune)}
		all[name] = t
		code, r := int64(0), int64(0)
		for n := next(); n > 0; n-- {
			length := next()
			code += next()
			r += next()
			if length == 1 {
				t.one[code] = rune(r)
				continue
			}
			t.more[uint32(code)] = rune(r)
			lead := byte(code >> (8 * (length - 1)))
			t.lead[lead] = max(t.lead[lead], uint8(length))
		}
	}
	return all
}

func (t *table) decode(dst, text []byte) ([]byte, bool) {
	ok := true
	for i := 0; i < len(text); {
		b := text[i]
		if b == 0 || t.one[b] != 0 {
			dst = utf8.AppendRune(dst, t.one[b])
			i++
			continue
		}
		r, n := t.long(text[i:])
		if r == 0 {
			r, n, ok = utf8.RuneError, 1, false
		}
		dst = utf8.AppendRune(dst, r)
		i += n
	}
	return dst, ok
}

func (t *table) long(text []byte) (r rune, n int) {
	code := uint32(text[0])
	for n = 2; n <= int(t.lead[text[0]]) && n <= len(text); n++ {
		code = code<<8 | uint32(text[n-1])
		if r := t.more[code]; r != 0 {
			return r, n
		}
	}
	return 0, 1
}

// For is the decoder of a character set, by the server's name of it.
func For(name string) (Decoder, error) {
	switch name {
	case "utf8mb4", "utf8mb3", "utf8":
		return nil, nil
	case "ascii":
		return decodeASCII, nil
	case "ucs2", "utf16":
		return func(dst, text []byte) ([]byte, bool) { return decodeUTF16(dst, text, binary.BigEndian) }, nil
	case "utf16le":
		return func(dst, text []byte) ([]byte, bool) { return decodeUTF16(dst, text, binary.LittleEndian) }, nil
	case "utf32":
		return decodeUTF32, nil
	}
	t := tables()[name]
	if t == nil {
		return nil, fmt.Errorf("the character set %q is not known", name)
	}
	return t.decode, nil
}

// Check appends text that should be UTF-8.
func Check(dst, text []byte) ([]byte, bool) {
	if utf8.Valid(text) {
		return append(dst, text...), true
	}
	return append(dst, bytes.ToValidUTF8(text, []byte("\uFFFD"))...), false
}

func decodeASCII(dst, text []byte) ([]byte, bool) {
	ok := true
	for _, b := range text {
		if b >= utf8.RuneSelf {
			dst, ok = utf8.AppendRune(dst, utf8.RuneError), false
			continue
		}
		dst = append(dst, b)
	}
	return dst, ok
}

func decodeUTF16(dst, text []byte, order binary.ByteOrder) ([]byte, bool) {
	ok := len(text)%2 == 0
	for ; len(text) >= 2; text = text[2:] {
		r := rune(order.Uint16(text))
		if utf16.IsSurrogate(r) {
			pair := rune(utf8.RuneError)
			if len(text) >= 4 {
				pair = utf16.DecodeRune(r, rune(order.Uint16(text[2:])))
			}
			if r = pair; r == utf8.RuneError {
				ok = false
			} else {
				text = text[2:]
			}
		}
		dst = utf8.AppendRune(dst, r)
	}
	return dst, ok
}

func decodeUTF32(dst, text []byte) ([]byte, bool) {
	ok := len(text)%4 == 0
	for ; len(text) >= 4; text = text[4:] {
		r := rune(binary.BigEndian.Uint32(text))
		if !utf8.ValidRune(r) {
			r, ok = utf8.RuneError, false
		}
		dst = utf8.AppendRune(dst, r)
	}
	return dst, ok
}
