package parquetfile

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// converter gives a value in its Parquet type, or says what about it the type does not hold.
type converter func(text []byte) (parquet.Value, error)

// leafOf is a Parquet type as far as values depend on it: the physical type, and what it means
// (Parquet's "Logical Types").
type leafOf struct {
	kind    parquet.Kind
	size    int // of fixed bytes
	meaning format.LogicalTypeValue
}

func leafType(t parquet.Type) leafOf {
	l := leafOf{kind: t.Kind()}
	if l.kind == parquet.FixedLenByteArray {
		l.size = t.Length()
	}
	if logical := t.LogicalType(); logical != nil {
		l.meaning = logical.Value
	}
	return l
}

// String names the type as Parquet's own notation does.
func (l leafOf) String() string {
	name := strings.ToLower(l.kind.String())
	if l.kind == parquet.FixedLenByteArray {
		name = fmt.Sprintf("%s(%d)", name, l.size)
	}
	if l.meaning != nil {
		name += " (" + l.meaning.String() + ")"
	}
	return name
}

// converterOf says how values of a column are written as a Parquet type; nil where they are not,
// and then why. A note says which values do not fit.
func converterOf(c *change.Column, l leafOf) (convert converter, note string) {
	number := c.Rule == change.RuleInteger || c.Rule == change.RuleUnsigned
	switch meaning := l.meaning.(type) {
	case nil:
		return plainConverter(c, l)
	case *format.IntType:
		if number {
			return integers(l.kind, int(meaning.BitWidth), !meaning.IsSigned), narrow(c, int(meaning.BitWidth), !meaning.IsSigned)
		}
	case *format.DecimalType:
		if number || c.Rule == change.RuleDecimal {
			return decimals(l, int(meaning.Precision), int(meaning.Scale)), encode.TooLong(c, int(meaning.Precision), int(meaning.Scale))
		}
	case *format.DateType:
		if c.Rule == change.RuleDate {
			return days, ""
		}
	case *format.TimeType:
		if c.Rule == change.RuleTime {
			return moments("15:04:05.999999", sinceMidnight, l.kind, meaning.Unit)
		}
	case *format.TimestampType:
		if c.Rule == change.RuleTimestampTZ && meaning.IsAdjustedToUTC {
			return moments(time.RFC3339Nano, time.Time.UnixMicro, l.kind, meaning.Unit)
		}
		if c.Rule == change.RuleTimestamp && !meaning.IsAdjustedToUTC {
			return moments("2006-01-02T15:04:05.999999", time.Time.UnixMicro, l.kind, meaning.Unit)
		}
	case *format.UUIDType:
		if c.Rule == change.RuleUUID {
			return uuids, ""
		}
	case *format.JsonType:
		if c.Rule == change.RuleJSON || c.Rule == change.RuleArray {
			return bytesOf, ""
		}
	case *format.StringType, *format.EnumType:
		if c.Rule != change.RuleBinary && l.kind == parquet.ByteArray {
			return bytesOf, ""
		}
	}
	return nil, refusal(c, l)
}

// plainConverter is for types without a meaning of their own.
func plainConverter(c *change.Column, l leafOf) (converter, string) {
	number := c.Rule == change.RuleInteger || c.Rule == change.RuleUnsigned
	switch l.kind {
	case parquet.Boolean:
		if c.Rule == change.RuleBoolean {
			return func(text []byte) (parquet.Value, error) { return parquet.BooleanValue(string(text) == "true"), nil }, ""
		}
	case parquet.Int32, parquet.Int64:
		bits := 32
		if l.kind == parquet.Int64 {
			bits = 64
		}
		if number {
			return integers(l.kind, bits, false), narrow(c, bits, false)
		}
	case parquet.Int96: // how older programs write timestamps
		if c.Rule == change.RuleTimestampTZ {
			return julian, ""
		}
	case parquet.Float:
		if c.Rule == change.RuleFloat && c.Bits == 32 {
			return func(text []byte) (parquet.Value, error) {
				n, err := strconv.ParseFloat(string(text), 32)
				return parquet.FloatValue(float32(n)), err
			}, ""
		}
	case parquet.Double:
		if c.Rule == change.RuleFloat || c.Rule == change.RuleInteger && c.Bits > 0 && c.Bits <= 32 {
			return func(text []byte) (parquet.Value, error) {
				n, err := strconv.ParseFloat(string(text), 64)
				return parquet.DoubleValue(n), err
			}, ""
		}
	case parquet.ByteArray:
		return bytesOf, ""
	case parquet.FixedLenByteArray:
		if c.Rule == change.RuleUUID && l.size == 16 {
			return uuids, ""
		}
		if c.Rule == change.RuleBinary {
			return func(text []byte) (parquet.Value, error) {
				if len(text) != l.size {
					return parquet.NullValue(), fmt.Errorf("it takes %d bytes, and the value has %d", l.size, len(text))
				}
				return parquet.FixedLenByteArrayValue(text), nil
			}, fmt.Sprintf("values of other than %d bytes become dead letters", l.size)
		}
	}
	return nil, refusal(c, l)
}

func refusal(c *change.Column, l leafOf) string {
	return fmt.Sprintf("%s is not written as %s: an expression in a form of rows can turn it into what fits", c.Type, l)
}

func bytesOf(text []byte) (parquet.Value, error) { return parquet.ByteArrayValue(text), nil }

func uuids(text []byte) (parquet.Value, error) {
	id, err := uuid.ParseBytes(text)
	return parquet.FixedLenByteArrayValue(id[:]), err
}

// narrow says that a column's numbers may be too large.
func narrow(c *change.Column, bits int, unsigned bool) string {
	if encode.Holds(c, bits, unsigned) {
		return ""
	}
	return fmt.Sprintf("numbers that do not fit into %d bits become dead letters", bits)
}

// integers writes numbers of so many bits, which 32 or 64 hold.
func integers(kind parquet.Kind, bits int, unsigned bool) converter {
	return func(text []byte) (parquet.Value, error) {
		var n int64
		var err error
		if unsigned {
			var u uint64
			u, err = strconv.ParseUint(string(text), 10, bits)
			n = int64(u) // the bits of a number without a sign
		} else {
			n, err = strconv.ParseInt(string(text), 10, bits)
		}
		switch {
		case err != nil:
			return parquet.NullValue(), fmt.Errorf("%s is no integer of %d bits", text, bits)
		case kind == parquet.Int32:
			return parquet.Int32Value(int32(n)), nil
		}
		return parquet.Int64Value(n), nil
	}
}

// decimals writes the unscaled value: as an integer, or in two's complement, the most
// significant byte first.
func decimals(l leafOf, precision, scale int) converter {
	most := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(precision)), nil)
	return func(text []byte) (parquet.Value, error) {
		n, ok := encode.Unscaled(string(text), scale)
		if !ok || n.CmpAbs(most) >= 0 {
			return parquet.NullValue(), fmt.Errorf("%s has more digits than decimal(%d,%d) holds", text, precision, scale)
		}
		switch l.kind {
		case parquet.Int32:
			return parquet.Int32Value(int32(n.Int64())), nil
		case parquet.Int64:
			return parquet.Int64Value(n.Int64()), nil
		default: // bytes
		}
		value := encode.TwosComplement(n)
		if l.kind == parquet.ByteArray {
			return parquet.ByteArrayValue(value), nil
		}
		if value, ok = encode.SignExtended(value, l.size); !ok {
			return parquet.NullValue(), fmt.Errorf("%s takes more than %d bytes", text, l.size)
		}
		return parquet.FixedLenByteArrayValue(value), nil
	}
}

func days(text []byte) (parquet.Value, error) {
	t, err := time.Parse("2006-01-02", string(text))
	if err != nil {
		return parquet.NullValue(), noPlace(text)
	}
	return parquet.Int32Value(int32(t.Unix() / 86400)), nil
}

func noPlace(text []byte) error { return fmt.Errorf("%q has no place in it", text) }

// sinceMidnight is in microseconds.
func sinceMidnight(t time.Time) int64 {
	return (int64(t.Hour())*3600+int64(t.Minute())*60+int64(t.Second()))*1_000_000 + int64(t.Nanosecond()/1000)
}

// moments writes times, for which of gives microseconds, in a unit.
func moments(layout string, of func(time.Time) int64, kind parquet.Kind, unit format.TimeUnit) (converter, string) {
	times, per, note := int64(1), int64(1), ""
	switch unit.Value.(type) {
	case *format.MilliSeconds:
		per, note = 1000, "times that are finer than a millisecond become dead letters"
	case *format.NanoSeconds:
		times, note = 1000, ""
	}
	return func(text []byte) (parquet.Value, error) {
		t, err := time.Parse(layout, string(text))
		if err != nil {
			return parquet.NullValue(), noPlace(text)
		}
		n := of(t)
		switch {
		case n%per != 0:
			return parquet.NullValue(), fmt.Errorf("%s is finer than a millisecond", text)
		case n*times/times != n:
			return parquet.NullValue(), fmt.Errorf("%s is beyond what 64 bits of nanoseconds hold", text)
		}
		n = n / per * times
		if kind == parquet.Int32 {
			return parquet.Int32Value(int32(n)), nil
		}
		return parquet.Int64Value(n), nil
	}, note
}

// julian is a moment in 96 bits: nanoseconds of the day, and the Julian day.
func julian(text []byte) (parquet.Value, error) {
	t, err := time.Parse(time.RFC3339Nano, string(text))
	if err != nil {
		return parquet.NullValue(), noPlace(text)
	}
	micros := t.UnixMicro()
	day := micros / 86_400_000_000
	rest := micros % 86_400_000_000
	if rest < 0 {
		day, rest = day-1, rest+86_400_000_000
	}
	const epoch = 2_440_588 // the Julian day of 1970-01-01
	nanos := uint64(rest) * 1000
	return parquet.Int96Value(deprecated.Int96{uint32(nanos), uint32(nanos >> 32), uint32(day + epoch)}), nil
}
