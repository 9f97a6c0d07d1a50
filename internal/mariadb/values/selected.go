package values

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// Selection is what a SELECT asks for so that [Column.FromSelect] reads the value; name is
// quoted already.
func (c *Column) Selection(name string) string {
	switch c.Kind {
	case Float, Double:
		return "CAST(" + name + " AS DOUBLE)" // as itself it would be rounded to its display width
	case UUID, Inet4, Inet6:
		return "CAST(" + name + " AS CHAR)"
	case Year:
		return c.Compared(name)
	case Enum, Set:
		if c.asked {
			return "CONVERT(" + name + " USING utf8mb4)"
		}
		return name
	default:
		return name
	}
}

// Compared is what is compared with a value that [Column.FromSelect] has read, and what rows are
// ordered by for that; name is quoted already. A year of two digits shows, and compares, without its
// century, which it has.
func (c *Column) Compared(name string) string {
	if c.TwoDigits() {
		return "YEAR(" + name + ")"
	}
	return name
}

// TwoDigits reports whether the column is a YEAR(2).
func (c *Column) TwoDigits() bool { return c.Kind == Year && strings.HasPrefix(c.Type, "year(2)") }

// FromSelect appends a value that a SELECT brought: text in the column's own character
// set (character_set_results is NULL), times in UTC. With an [*Undecodable] the
// text is returned, too.
func (c *Column) FromSelect(dst, text []byte) ([]byte, error) {
	switch c.Kind {
	case Integer, Year:
		return appendStripped(dst, text), nil // ZEROFILL
	case Decimal:
		return appendStripped(dst, text), nil
	case Float, Double:
		v, err := strconv.ParseFloat(string(text), 64)
		if err != nil {
			return dst, fmt.Errorf("%.40q is no number", text)
		}
		if c.Kind == Float {
			return AppendFloat(dst, float64(float32(v)), 32), nil
		}
		return AppendFloat(dst, v, 64), nil
	case Bits:
		if len(text) > 8 {
			return dst, fmt.Errorf("a BIT of %d bytes", len(text))
		}
		return strconv.AppendUint(dst, bigEndian(text), 10), nil
	case Date:
		return append(dst, text...), nil
	case Time:
		return appendSelectedClock(dst, text)
	case DateTime, Timestamp:
		return c.appendSelectedInstant(dst, text)
	case Enum, Set:
		if c.asked {
			return append(dst, text...), nil
		}
		out, ok := c.decode(dst, text)
		if !ok {
			return out, &Undecodable{append([]byte(nil), text...), "U+FFFD"}
		}
		return out, nil
	case UUID, Inet4, Inet6:
		return append(dst, text...), nil
	default:
		return c.appendText(dst, text)
	}
}

// appendStripped takes zeros off the front of a number.
func appendStripped(dst, text []byte) []byte {
	if len(text) > 0 && text[0] == '-' {
		dst, text = append(dst, '-'), text[1:]
	}
	for len(text) > 1 && text[0] == '0' && text[1] != '.' {
		text = text[1:]
	}
	return append(dst, text...)
}

// appendSelectedClock writes six decimals.
func appendSelectedClock(dst, text []byte) ([]byte, error) {
	at := bytes.IndexByte(text, '.')
	if at < 0 {
		return append(append(dst, text...), ".000000"...), nil
	}
	behind := len(text) - at - 1
	if behind > 6 {
		return dst, errTemporal(text)
	}
	return append(append(dst, text...), "000000"[behind:]...), nil
}

func (c *Column) appendSelectedInstant(dst, text []byte) ([]byte, error) {
	if len(text) < 19 || text[10] != ' ' {
		return dst, errTemporal(text)
	}
	start := len(dst)
	dst, err := appendSelectedClock(dst, text)
	if err != nil || string(text[5:7]) == "00" || string(text[8:10]) == "00" {
		return dst, err // no date: as the server writes it
	}
	dst[start+10] = 'T'
	if c.Kind == Timestamp {
		dst = append(dst, 'Z')
	}
	return dst, nil
}
