package values

import (
	"compress/flate"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"net/netip"
	"strconv"
	"unicode/utf8"

	"rillmark/internal/jsontext"
	"rillmark/internal/mariadb/binlog"
)

var errShort = errors.New("the row is shorter than its columns")

// maxText bounds what a compressed column's value may become, in bytes.
const maxText = 1 << 30

// FromLog appends a value that stands at the front of data, as the log has it, in its
// canonical form, and says how many bytes it had there. With an [*Undecodable] the text is
// returned, too.
func (c *Column) FromLog(dst, data []byte) (out []byte, n int, err error) {
	switch c.Log.Type {
	case binlog.ColTiny, binlog.ColShort, binlog.ColInt24, binlog.ColLong, binlog.ColLongLong:
		if n = c.size; len(data) < n {
			return dst, 0, errShort
		}
		return appendInteger(dst, data[:n], c.Log.Unsigned), n, nil
	case binlog.ColFloat:
		if len(data) < 4 {
			return dst, 0, errShort
		}
		return AppendFloat(dst, float64(math.Float32frombits(binary.LittleEndian.Uint32(data))), 32), 4, nil
	case binlog.ColDouble:
		if len(data) < 8 {
			return dst, 0, errShort
		}
		return AppendFloat(dst, math.Float64frombits(binary.LittleEndian.Uint64(data)), 64), 8, nil
	case binlog.ColNewDecimal:
		return appendDecimal(dst, data, int(c.Log.Meta>>8), int(c.Log.Meta&0xFF))
	case binlog.ColYear:
		if len(data) < 1 {
			return dst, 0, errShort
		}
		if data[0] == 0 {
			return append(dst, '0'), 1, nil
		}
		return strconv.AppendUint(dst, 1900+uint64(data[0]), 10), 1, nil
	case binlog.ColBit:
		n = int(c.Log.Meta>>8) + (int(c.Log.Meta&0xFF)+7)/8
		if len(data) < n {
			return dst, 0, errShort
		}
		return strconv.AppendUint(dst, bigEndian(data[:n]), 10), n, nil
	case binlog.ColDate, binlog.ColNewDate, binlog.ColTime, binlog.ColTime2, binlog.ColDateTime, binlog.ColDateTime2, binlog.ColTimestamp, binlog.ColTimestamp2:
		return c.appendTemporal(dst, data)
	case binlog.ColEnum, binlog.ColSet:
		n = int(c.Log.Meta)
		if len(data) < n || n > 8 {
			return dst, 0, errShort
		}
		out, err = c.appendLabels(dst, littleEndian(data[:n]))
		return out, n, err
	}
	prefix := c.prefix
	if len(data) < prefix {
		return dst, 0, errShort
	}
	size := littleEndian(data[:prefix])
	if size > uint64(len(data)-prefix) {
		return dst, 0, errShort
	}
	n = prefix + int(size)
	text := data[prefix:n]
	if c.Log.Type == binlog.ColBlobCompressed || c.Log.Type == binlog.ColVarcharCompr {
		if text, err = expand(text); err != nil {
			return dst, 0, err
		}
	}
	out, err = c.appendText(dst, text)
	return out, n, err
}

// Skip is how many bytes a value has in the log.
func (c *Column) Skip(data []byte) (n int, err error) {
	switch c.Log.Type {
	case binlog.ColVarchar, binlog.ColVarString, binlog.ColString, binlog.ColTinyBlob, binlog.ColBlob, binlog.ColMediumBlob, binlog.ColLongBlob, binlog.ColGeometry, binlog.ColBlobCompressed, binlog.ColVarcharCompr:
		prefix := c.prefix
		if len(data) < prefix {
			return 0, errShort
		}
		length := littleEndian(data[:prefix])
		if length > uint64(len(data)-prefix) {
			return 0, errShort
		}
		return prefix + int(length), nil
	}
	var scratch [96]byte
	_, n, err = c.FromLog(scratch[:0], data)
	return n, err
}

// lengthBytes is how many bytes a text's length has.
func (c *Column) lengthBytes() int {
	switch c.Log.Type {
	case binlog.ColVarchar, binlog.ColVarString, binlog.ColString, binlog.ColVarcharCompr:
		if c.Log.Meta < 256 {
			return 1
		}
		return 2
	}
	return int(min(c.Log.Meta, 8))
}

func littleEndian(b []byte) (v uint64) {
	for i := len(b) - 1; i >= 0; i-- {
		v = v<<8 | uint64(b[i])
	}
	return v
}

func bigEndian(b []byte) (v uint64) {
	for _, one := range b {
		v = v<<8 | uint64(one)
	}
	return v
}

func appendInteger(dst, data []byte, unsigned bool) []byte {
	var v uint64
	switch len(data) {
	case 8:
		v = binary.LittleEndian.Uint64(data)
	case 4:
		v = uint64(binary.LittleEndian.Uint32(data))
	default:
		v = littleEndian(data)
	}
	if unsigned {
		return strconv.AppendUint(dst, v, 10)
	}
	shift := 64 - 8*len(data)
	return strconv.AppendInt(dst, int64(v<<shift)>>shift, 10)
}

// AppendFloat appends the shortest text that reads back the same.
func AppendFloat(dst []byte, v float64, bits int) []byte {
	if v == 0 && math.Signbit(v) {
		return append(dst, "-0"...)
	}
	format := byte('f')
	if abs := math.Abs(v); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(dst, v, format, -1, bits)
}

func (c *Column) appendLabels(dst []byte, v uint64) ([]byte, error) {
	if c.Kind == Enum {
		if v == 0 {
			return dst, nil // the label of what was no label when it was written
		}
		if v > uint64(len(c.set)) {
			return dst, fmt.Errorf("the value %d has no label", v)
		}
		return append(dst, c.set[v-1]...), c.isText(int(v - 1))
	}
	first := true
	var err error
	for i, label := range c.set {
		if v&(1<<i) == 0 {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		dst, first = append(dst, label...), false
		if bad := c.isText(i); bad != nil {
			err = bad
		}
	}
	return dst, err
}

// isText is an [*Undecodable] where a label is no text.
func (c *Column) isText(label int) error {
	if bytes, is := c.noText[label]; is {
		return &Undecodable{bytes, strconv.Quote(c.set[label])}
	}
	return nil
}

// appendText appends what a text or binary column holds.
func (c *Column) appendText(dst, text []byte) ([]byte, error) {
	switch c.Kind {
	case Text:
		out, ok := c.decode(dst, text)
		if !ok {
			return out, &Undecodable{append([]byte(nil), text...), "U+FFFD"}
		}
		return out, nil
	case JSON:
		return c.appendJSON(dst, text)
	case UUID:
		b := padded(text, 16)
		var digits [36]byte
		hex.Encode(digits[:8], b[:4])
		hex.Encode(digits[9:13], b[4:6])
		hex.Encode(digits[14:18], b[6:8])
		hex.Encode(digits[19:23], b[8:10])
		hex.Encode(digits[24:], b[10:])
		digits[8], digits[13], digits[18], digits[23] = '-', '-', '-', '-'
		return append(dst, digits[:]...), nil
	case Inet4:
		return netip.AddrFrom4([4]byte(padded(text, 4))).AppendTo(dst), nil
	case Inet6:
		return append(dst, inet6Text([16]byte(padded(text, 16)))...), nil
	case Geometry:
		return appendGeometry(dst, text)
	default:
		dst = append(dst, text...)
		for missing := c.Bytes - len(text); missing > 0; missing-- {
			dst = append(dst, 0)
		}
		return dst, nil
	}
}

// padded is a value of so many bytes, of which the log strips the zeros at its end.
func padded(b []byte, n int) []byte {
	if len(b) == n {
		return b
	}
	full := make([]byte, n)
	copy(full, b)
	return full
}

// inet6Text is an address as the server writes it: RFC 5952, with IPv4 in its own form
// where it is mapped or compatible.
func inet6Text(a [16]byte) string {
	zeros := true
	for _, b := range a[:10] {
		zeros = zeros && b == 0
	}
	v4 := netip.AddrFrom4([4]byte(a[12:]))
	switch {
	case zeros && a[10] == 0xFF && a[11] == 0xFF:
		return "::ffff:" + v4.String()
	case zeros && a[10] == 0 && a[11] == 0 && (a[12] != 0 || a[13] != 0):
		return "::" + v4.String()
	}
	return netip.AddrFrom16(a).String()
}

// appendGeometry makes WKB of the server's form, which has four bytes before it that name
// the reference system; where that is not 0, it stands in the value as in extended WKB.
func appendGeometry(dst, text []byte) ([]byte, error) {
	if len(text) < 9 {
		return dst, errors.New("a geometry is too short")
	}
	srid, wkb := text[:4], text[4:]
	if littleEndian(srid) == 0 {
		return append(dst, wkb...), nil
	}
	if wkb[0] != 1 {
		return dst, errors.New("a geometry is not in the byte order that the server writes")
	}
	dst = append(dst, wkb[:5]...)
	dst[len(dst)-1] |= 0x20 // the highest byte of the type: a reference system follows
	return append(append(dst, srid...), wkb[5:]...), nil
}

func (c *Column) appendJSON(dst, text []byte) ([]byte, error) {
	if c.Decode == nil {
		return jsontext.Compact(dst, text), nil
	}
	decoded, ok := c.Decode(nil, text)
	dst = jsontext.Compact(dst, decoded)
	if !ok {
		return dst, &Undecodable{append([]byte(nil), text...), "U+FFFD"}
	}
	return dst, nil
}

// expand undoes what a compressed column does: 0 and the bytes as they are, or the number
// of bytes of the length in its low three bits, that length with the highest byte first,
// and a stream of deflate (RFC 1951).
func expand(text []byte) ([]byte, error) {
	if len(text) == 0 {
		return text, nil
	}
	if text[0] == 0 {
		return text[1:], nil
	}
	n := int(text[0] & 7)
	if len(text) < 1+n || n == 0 || n > 4 {
		return nil, errors.New("a compressed value cannot be read")
	}
	size := bigEndian(text[1 : 1+n])
	if size > maxText {
		return nil, errors.New("a compressed value cannot be read: its size is impossible")
	}
	r := flate.NewReader(newReader(text[1+n:]))
	defer r.Close() //nolint:errcheck // it holds nothing
	out, err := io.ReadAll(io.LimitReader(r, int64(size)))
	if err != nil || uint64(len(out)) != size {
		return nil, errors.New("a compressed value cannot be read")
	}
	return out, nil
}

// Alias is the text of a value that stands in the log as it is in events: UTF-8, or bytes.
// It points into data; is is false where the value has to be converted.
func (c *Column) Alias(data []byte) (text []byte, n int, is bool) {
	if !c.aliased {
		return nil, 0, false
	}
	prefix := c.prefix
	if len(data) < prefix {
		return nil, 0, false
	}
	size := littleEndian(data[:prefix])
	if size > uint64(len(data)-prefix) {
		return nil, 0, false
	}
	n = prefix + int(size)
	text = data[prefix:n:n]
	return text, n, c.Kind == Binary || utf8.Valid(text)
}
