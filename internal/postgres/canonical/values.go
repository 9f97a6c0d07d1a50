// Package canonical makes the text in which a PostgreSQL server sends a value the
// canonical text of its rule (see [change.Rule]).
package canonical

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"unicode/utf8"

	"rillmark/internal/jsontext"
)

// Converter appends the canonical form of a value, which the server sent as
// text, to dst. A nil Converter means that the text is canonical already.
type Converter func(dst, text []byte) ([]byte, error)

// Valid is a converter that first replaces what is no UTF-8 with U+FFFD, and tells noText.
func Valid(convert Converter, noText func(text []byte)) Converter {
	return func(dst, text []byte) ([]byte, error) {
		if !utf8.Valid(text) {
			noText(text)
			text = bytes.ToValidUTF8(text, []byte("\uFFFD"))
		}
		if convert == nil {
			return append(dst, text...), nil
		}
		return convert(dst, text)
	}
}

// Boolean makes t and f true and false.
func Boolean(dst, text []byte) ([]byte, error) {
	switch string(text) {
	case "t":
		return append(dst, "true"...), nil
	case "f":
		return append(dst, "false"...), nil
	}
	return nil, fmt.Errorf("%.20q is no boolean", text)
}

// Timestamp makes "2026-11-23 09:14:07.5" RFC 3339 with six decimals.
// What has another shape (infinity, BC, a year over 9999) stays as it is.
func Timestamp(dst, text []byte) ([]byte, error) {
	if len(text) < 19 || len(text) > 26 || text[4] != '-' || text[10] != ' ' || text[len(text)-1] == 'C' {
		return append(dst, text...), nil
	}
	dst = append(dst, text[:10]...)
	dst = append(dst, 'T')
	return appendTime(dst, text[11:])
}

// TimestampTZ is the same for a value in UTC, which ends in +00.
func TimestampTZ(dst, text []byte) ([]byte, error) {
	n := len(text) - 3
	if n < 19 || n > 26 || text[4] != '-' || text[10] != ' ' || string(text[n:]) != "+00" {
		return append(dst, text...), nil
	}
	dst = append(dst, text[:10]...)
	dst = append(dst, 'T')
	dst, err := appendTime(dst, text[11:n])
	return append(dst, 'Z'), err
}

// Time is a time of day with six decimals.
func Time(dst, text []byte) ([]byte, error) { return appendTime(dst, text) }

// appendTime writes 09:14:07[.5] with six decimals.
func appendTime(dst, text []byte) ([]byte, error) {
	if len(text) < 8 || len(text) > 15 || text[2] != ':' || text[5] != ':' || len(text) > 8 && text[8] != '.' {
		return nil, fmt.Errorf("%.40q is no time of day", text)
	}
	dst = append(dst, text...)
	if len(text) == 8 {
		return append(dst, ".000000"...), nil
	}
	return append(dst, "000000"[:15-len(text)]...), nil
}

// TimeTZ makes "09:14:07.5+02" or "+05:30" a full-time of RFC 3339. An
// offset with seconds, which that form cannot hold, stays as it is.
func TimeTZ(dst, text []byte) ([]byte, error) {
	at := bytes.LastIndexAny(text, "+-")
	if at < 8 {
		return nil, fmt.Errorf("%.40q is no time of day with an offset", text)
	}
	offset := text[at:]
	if len(offset) > 6 {
		return append(dst, text...), nil
	}
	dst, err := appendTime(dst, text[:at])
	if err != nil {
		return nil, err
	}
	dst = append(dst, offset...)
	if len(offset) == 3 {
		dst = append(dst, ":00"...)
	}
	return dst, nil
}

// JSON takes white space out of a json value, which keeps what its
// writer typed; jsonb needs nothing.
func JSON(dst, text []byte) ([]byte, error) {
	return jsontext.Compact(dst, text), nil // the server has looked whether it is valid
}

func Bytea(dst, text []byte) ([]byte, error) {
	if len(text) < 2 || text[0] != '\\' || text[1] != 'x' {
		return nil, errors.New("a bytea value is not in hex form")
	}
	dst, err := hex.AppendDecode(dst, text[2:])
	if err != nil {
		return nil, errors.New("a bytea value is not in hex form")
	}
	return dst, nil
}
