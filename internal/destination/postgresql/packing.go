package postgresql

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"math"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
)

// packing appends a value in the binary form that the server's type receives (the functions
// *recv of its types). It reports false for a value that has none here, or that the type may
// not hold: text leaves the verdict to the server.
type packing func(dst, canonical []byte) ([]byte, bool)

// packingOf is a column's packing for a type of the server, by its name as format_type has it;
// nil where there is none.
func packingOf(c *change.Column, kind string) packing {
	bare, modifier, _ := strings.Cut(kind, "(")
	if _, behind, found := strings.Cut(modifier, ")"); found {
		bare += behind // timestamp(3) with time zone
	}
	rule := c.Rule
	if c.Treatment != "" {
		rule = change.RuleText
	}
	switch bare {
	case "text", "character varying", "character":
		if rule == change.RuleText || rule == change.RuleEnum {
			return packText
		}
	case "smallint", "integer", "bigint":
		if rule == change.RuleInteger || rule == change.RuleUnsigned {
			return packInteger(map[string]int{"smallint": 2, "integer": 4, "bigint": 8}[bare])
		}
	case "numeric":
		if rule == change.RuleDecimal || rule == change.RuleInteger || rule == change.RuleUnsigned {
			return packNumeric
		}
	case "boolean":
		if rule == change.RuleBoolean {
			return packBoolean
		}
	case "real", "double precision":
		if rule == change.RuleFloat {
			return packFloat(map[string]int{"real": 32, "double precision": 64}[bare])
		}
	case "uuid":
		if rule == change.RuleUUID {
			return packUUID
		}
	case "date":
		if rule == change.RuleDate {
			return packDate
		}
	case "timestamp without time zone":
		if rule == change.RuleTimestamp {
			return packTimestamp
		}
	case "timestamp with time zone":
		if rule == change.RuleTimestampTZ {
			return func(dst, text []byte) ([]byte, bool) {
				local, utc := bytes.CutSuffix(text, []byte("Z"))
				if !utc {
					return dst, false
				}
				return packTimestamp(dst, local)
			}
		}
	case "bytea":
		if rule == change.RuleBinary {
			return packText // the canonical text is the bytes
		}
	case "json":
		if rule == change.RuleJSON {
			return packText
		}
	case "jsonb":
		if rule == change.RuleJSON {
			return func(dst, text []byte) ([]byte, bool) { return append(append(dst, 1), text...), true } // jsonb_recv: version 1
		}
	}
	return nil
}

func packText(dst, text []byte) ([]byte, bool) { return append(dst, text...), true }

func packBoolean(dst, text []byte) ([]byte, bool) {
	switch string(text) {
	case "true":
		return append(dst, 1), true
	case "false":
		return append(dst, 0), true
	}
	return dst, false
}

// packInteger is for integers of so many bytes.
func packInteger(size int) packing {
	return func(dst, text []byte) ([]byte, bool) {
		n, err := strconv.ParseInt(string(text), 10, 8*size) // the conversion does not escape: nothing is copied
		if err != nil {
			return dst, false
		}
		switch size {
		case 2:
			return binary.BigEndian.AppendUint16(dst, uint16(n)), true
		case 4:
			return binary.BigEndian.AppendUint32(dst, uint32(n)), true
		}
		return binary.BigEndian.AppendUint64(dst, uint64(n)), true
	}
}

// packFloat is for floating-point numbers of so many bits.
func packFloat(bits int) packing {
	return func(dst, text []byte) ([]byte, bool) {
		f, err := strconv.ParseFloat(string(text), bits)
		if err != nil {
			return dst, false
		}
		if bits == 32 {
			return binary.BigEndian.AppendUint32(dst, math.Float32bits(float32(f))), true
		}
		return binary.BigEndian.AppendUint64(dst, math.Float64bits(f)), true
	}
}

func packUUID(dst, text []byte) ([]byte, bool) {
	if len(text) != 36 || text[8] != '-' || text[13] != '-' || text[18] != '-' || text[23] != '-' {
		return dst, false
	}
	from := len(dst)
	for _, part := range [][]byte{text[:8], text[9:13], text[14:18], text[19:23], text[24:]} {
		grown, err := hex.AppendDecode(dst, part)
		if err != nil {
			return dst[:from], false
		}
		dst = grown
	}
	return dst, true
}

// epoch is the day that the server's dates count from: 2000-01-01, in days from Go's.
const epoch = 946_684_800 / 86_400

// day reads YYYY-MM-DD, as days from the epoch.
func day(text []byte) (int64, bool) {
	if len(text) != 10 || text[4] != '-' || text[7] != '-' {
		return 0, false
	}
	year, ok := digits(text[:4])
	month, ok1 := digits(text[5:7])
	date, ok2 := digits(text[8:])
	if !ok || !ok1 || !ok2 || year == 0 {
		return 0, false
	}
	at := time.Date(year, time.Month(month), date, 0, 0, 0, 0, time.UTC)
	if at.Day() != date || int(at.Month()) != month {
		return 0, false // there is no such day
	}
	return at.Unix()/86_400 - epoch, true // year 1 is far before Go's epoch, and a whole number of days
}

// digits reads a number that is nothing but digits.
func digits(text []byte) (n int, ok bool) {
	for _, b := range text {
		if b < '0' || b > '9' {
			return 0, false
		}
		n = 10*n + int(b-'0')
	}
	return n, true
}

func packDate(dst, text []byte) ([]byte, bool) {
	days, ok := day(text)
	return binary.BigEndian.AppendUint32(dst, uint32(int32(days))), ok
}

// packTimestamp takes YYYY-MM-DDTHH:MM:SS.ffffff.
func packTimestamp(dst, text []byte) ([]byte, bool) {
	if len(text) != 26 || text[10] != 'T' || text[13] != ':' || text[16] != ':' || text[19] != '.' {
		return dst, false
	}
	days, ok := day(text[:10])
	hour, ok1 := digits(text[11:13])
	minute, ok2 := digits(text[14:16])
	second, ok3 := digits(text[17:19])
	micros, ok4 := digits(text[20:])
	if !ok || !ok1 || !ok2 || !ok3 || !ok4 || hour > 23 || minute > 59 || second > 59 {
		return dst, false
	}
	at := ((days*24+int64(hour))*60+int64(minute))*60 + int64(second)
	return binary.BigEndian.AppendUint64(dst, uint64(at*1_000_000+int64(micros))), true
}

// packNumeric writes groups of four decimal digits (numeric_recv): how many, the power of
// 10,000 of the first, the sign, and how many digits stand behind the point.
func packNumeric(dst, text []byte) ([]byte, bool) {
	const negative = 0x4000
	sign := uint16(0)
	whole := text
	if len(text) > 0 && text[0] == '-' {
		sign, whole = negative, text[1:]
	}
	whole, behind, pointed := bytes.Cut(whole, []byte("."))
	if len(whole) == 0 || pointed && len(behind) == 0 || len(whole)+len(behind) > 1000 {
		return dst, false
	}
	for _, part := range [][]byte{whole, behind} {
		for _, b := range part {
			if b < '0' || b > '9' {
				return dst, false
			}
		}
	}
	whole = bytes.TrimLeft(whole, "0")
	start := len(dst)
	dst = append(dst, 0, 0, 0, 0, byte(sign>>8), byte(sign))
	dst = binary.BigEndian.AppendUint16(dst, uint16(len(behind)))
	weight := (len(whole)+3)/4 - 1
	groups, empty := 0, 0 // empty are the last ones that are zero, which are not written
	group := func(n int) {
		switch {
		case n == 0 && groups == 0:
			weight--
		case n == 0:
			empty++
		default:
			for ; empty > 0; empty-- {
				dst, groups = append(dst, 0, 0), groups+1
			}
			dst, groups = binary.BigEndian.AppendUint16(dst, uint16(n)), groups+1
		}
	}
	for at := 0; at < len(whole); {
		size := (len(whole)-at-1)%4 + 1
		n, _ := digits(whole[at : at+size])
		group(n)
		at += size
	}
	for at := 0; at < len(behind); at += 4 {
		n, _ := digits(behind[at:min(at+4, len(behind))])
		for size := len(behind) - at; size < 4; size++ {
			n *= 10
		}
		group(n)
	}
	if groups == 0 {
		weight = 0
	}
	binary.BigEndian.PutUint16(dst[start:], uint16(groups))
	binary.BigEndian.PutUint16(dst[start+2:], uint16(int16(weight)))
	return dst, true
}
