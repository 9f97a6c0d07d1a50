package encode

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"time"

	"github.com/hamba/avro/v2"

	"rillmark/internal/change"
)

// avroRow writes rows in Avro's binary encoding, after [change.Schema.AvroSchema].
type avroRow struct {
	out *avro.Writer
	buf bytes.Buffer
}

func newAvroRow() *avroRow {
	a := new(avroRow)
	a.out = avro.NewWriter(&a.buf, 4096)
	return a
}

// append writes one record: each field a union that begins with null.
func (a *avroRow) append(dst []byte, s *change.Schema, row []change.Value) ([]byte, error) {
	a.buf.Reset()
	a.out.Reset(&a.buf)
	for i := range s.Columns {
		if err := a.field(&s.Columns[i], s.Table, row[i]); err != nil {
			return dst, fmt.Errorf("column %s of %s: %w", s.Columns[i].Name, s.Table, err)
		}
	}
	if err := a.out.Flush(); err != nil {
		return dst, err
	}
	return append(dst, a.buf.Bytes()...), nil
}

const (
	branchNull = iota
	branchFirst
	branchText // what the first cannot hold
)

func (a *avroRow) text(branch int64, v []byte) error {
	a.out.WriteLong(branch)
	a.out.WriteBytes(v) // a string is written alike
	return nil
}

func (a *avroRow) field(c *change.Column, table string, v change.Value) error {
	if v.Presence != change.Present {
		a.out.WriteLong(branchNull)
		return nil
	}
	switch c.Rule {
	case change.RuleBoolean:
		a.out.WriteLong(branchFirst)
		a.out.WriteBool(string(v.Text) == "true")
	case change.RuleInteger:
		n, err := strconv.ParseInt(string(v.Text), 10, 64)
		if err != nil {
			return fmt.Errorf("%q is no integer of 64 bits", v.Text)
		}
		a.out.WriteLong(branchFirst)
		a.out.WriteLong(n) // an int is written alike
	case change.RuleFloat:
		return a.float(c, v.Text)
	case change.RuleDecimal, change.RuleUnsigned:
		return a.decimal(c, v.Text)
	case change.RuleDate:
		return a.moment(v.Text, "2006-01-02", func(t time.Time) int64 { return t.Unix() / 86400 })
	case change.RuleTime:
		return a.moment(v.Text, "15:04:05.999999", microsOfDay)
	case change.RuleTimestamp:
		return a.moment(v.Text, "2006-01-02T15:04:05.999999", time.Time.UnixMicro)
	case change.RuleTimestampTZ:
		return a.moment(v.Text, time.RFC3339Nano, time.Time.UnixMicro)
	case change.RuleEnum:
		if !change.AvroEnum(*c) {
			return a.text(branchFirst, v.Text)
		}
		at := slices.Index(c.Labels, string(v.Text))
		if at < 0 {
			return fmt.Errorf("%q is none of the labels of this schema version", v.Text)
		}
		a.out.WriteLong(branchFirst)
		a.out.WriteLong(int64(at))
	case change.RuleArray:
		return a.array(c, table, v.Text)
	default:
		return a.text(branchFirst, v.Text)
	}
	return nil
}

func microsOfDay(t time.Time) int64 {
	return (int64(t.Hour())*3600+int64(t.Minute())*60+int64(t.Second()))*1_000_000 + int64(t.Nanosecond()/1000)
}

func (a *avroRow) float(c *change.Column, text []byte) error {
	f, err := strconv.ParseFloat(string(text), 64)
	if err != nil {
		return fmt.Errorf("%q is no number", text)
	}
	a.out.WriteLong(branchFirst)
	if c.Bits == 32 {
		a.out.WriteFloat(float32(f))
	} else {
		a.out.WriteDouble(f)
	}
	return nil
}

// moment falls back to text for infinity, years BC and years over 9999.
func (a *avroRow) moment(text []byte, layout string, of func(time.Time) int64) error {
	t, err := time.Parse(layout, string(text))
	if err != nil {
		return a.text(branchText, text)
	}
	a.out.WriteLong(branchFirst)
	a.out.WriteLong(of(t))
	return nil
}

// decimal writes the unscaled value in two's complement (Avro 1.11, Decimal).
func (a *avroRow) decimal(c *change.Column, text []byte) error {
	scale, fixed := change.AvroDecimal(*c)
	if !fixed {
		return a.text(branchFirst, text)
	}
	unscaled, ok := Unscaled(string(text), scale)
	if !ok {
		return a.text(branchText, text) // not a number, or infinite
	}
	a.out.WriteLong(branchFirst)
	a.out.WriteBytes(TwosComplement(unscaled))
	return nil
}

// Unscaled is a decimal without its point, as if it had scale digits after it;
// false for one that has more, or is not a number.
func Unscaled(text string, scale int) (*big.Int, bool) {
	whole, fraction := text, ""
	for i := range text {
		if text[i] == '.' {
			whole, fraction = text[:i], text[i+1:]
		}
	}
	if len(fraction) > scale {
		return nil, false
	}
	for len(fraction) < scale {
		fraction += "0"
	}
	return new(big.Int).SetString(whole+fraction, 10)
}

// TwosComplement is a number in as few bytes as hold it, the most significant one first.
func TwosComplement(n *big.Int) []byte {
	if n.Sign() >= 0 {
		b := n.Bytes()
		if len(b) == 0 || b[0]&0x80 != 0 {
			b = append([]byte{0}, b...)
		}
		return b
	}
	size := uint(n.BitLen()/8 + 1)
	wrapped := new(big.Int).Add(n, new(big.Int).Lsh(big.NewInt(1), size*8))
	b := wrapped.Bytes()
	for len(b) > 1 && b[0] == 0xff && b[1]&0x80 != 0 {
		b = b[1:]
	}
	return b
}

// SignExtended is such a number in size bytes; false where it takes more.
func SignExtended(number []byte, size int) ([]byte, bool) {
	if len(number) >= size {
		return number, len(number) == size
	}
	wide := make([]byte, size)
	copy(wide[size-len(number):], number)
	if number[0]&0x80 != 0 {
		for i := range size - len(number) {
			wide[i] = 0xff
		}
	}
	return wide, true
}

// array writes a JSON array of one dimension; all else goes as text.
func (a *avroRow) array(c *change.Column, table string, text []byte) error {
	var items []json.RawMessage
	if json.Unmarshal(text, &items) != nil {
		return a.text(branchText, text)
	}
	element := change.AvroElement(*c)
	values := make([]change.Value, len(items))
	for i, item := range items {
		var ok bool
		if values[i], ok = elementOf(element.Rule, item); !ok {
			return a.text(branchText, text)
		}
	}
	a.out.WriteLong(branchFirst)
	if len(values) > 0 {
		a.out.WriteLong(int64(len(values)))
		for _, v := range values {
			if err := a.field(&element, table, v); err != nil {
				return err
			}
		}
	}
	a.out.WriteLong(0)
	return nil
}

// elementOf is an array's element in canonical text; false for a nested array.
func elementOf(rule change.Rule, item json.RawMessage) (change.Value, bool) {
	if len(item) == 0 || string(item) == "null" {
		return change.NullValue(), true
	}
	if rule == change.RuleJSON {
		return change.Value{Presence: change.Present, Text: item}, true
	}
	switch item[0] {
	case '[':
		return change.Value{}, false
	case '"':
		var s string
		if json.Unmarshal(item, &s) != nil {
			return change.Value{}, false
		}
		if rule == change.RuleBinary {
			raw, err := base64.StdEncoding.DecodeString(s)
			return change.Value{Presence: change.Present, Text: raw}, err == nil
		}
		return change.Of(s), true
	}
	return change.Value{Presence: change.Present, Text: item}, true
}

// AvroForm is a schema version as Avro knows it: its text, and the fingerprint
// that single-object encoding names it by.
type AvroForm struct {
	Text string
	// Fingerprint is CRC-64-AVRO of the schema's parsing canonical form.
	Fingerprint uint64
}

// AvroOf works a version's Avro form out.
func AvroOf(s *change.Schema) (AvroForm, error) {
	text, err := json.Marshal(s.AvroSchema())
	if err != nil {
		return AvroForm{}, err
	}
	// A cache of its own: versions of one table have one name.
	parsed, err := avro.ParseBytesWithCache(text, "", &avro.SchemaCache{})
	if err != nil {
		return AvroForm{}, fmt.Errorf("the Avro schema of %s: %w", s.Table, err)
	}
	sum, err := parsed.FingerprintUsing(avro.CRC64Avro)
	if err != nil {
		return AvroForm{}, err
	}
	var fingerprint uint64
	for _, b := range sum {
		fingerprint = fingerprint<<8 | uint64(b)
	}
	return AvroForm{Text: string(text), Fingerprint: fingerprint}, nil
}

// SingleObject is what stands before a value in single-object encoding: two
// marker bytes and the fingerprint, least byte first (Avro 1.11).
func SingleObject(fingerprint uint64) []byte {
	frame := []byte{0xC3, 0x01}
	for range 8 {
		frame = append(frame, byte(fingerprint))
		fingerprint >>= 8
	}
	return frame
}

// avroFormat is the row in Avro: behind a frame that names its schema, or bare where the
// file says it.
type avroFormat struct {
	rowFormat
	row *avroRow
}

func (f avroFormat) body(b *Batch, e *change.Event, half string, msg *Message) error {
	first := len(b.values)
	row, err := f.values(b, e, half, msg)
	if err != nil {
		return err
	}
	start := len(b.buf)
	b.buf, err = f.value(b.buf, msg.Schema, row, e.Operation == change.Delete || half == "old")
	b.values = b.values[:first]
	if err != nil {
		return err
	}
	msg.Body, msg.ContentType = b.since(start), "application/avro"
	return nil
}

// value writes a row; gone says that it is one that is no more, of which the log may have the key
// alone.
func (f avroFormat) value(dst []byte, schema *change.Schema, row []change.Value, gone bool) ([]byte, error) {
	m := f.m
	if m.Fit != nil {
		fitted, err := m.Fit(schema)
		if err != nil {
			return dst, err
		}
		start := len(dst)
		if dst, err = fitted.append(append(dst, fitted.Frame...), row, gone); err != nil {
			return dst[:start], &EncodeError{Message: err.Error()}
		}
		return dst, nil
	}
	if !m.wants.Bare {
		frame, there := m.frames[schema.Fingerprint()]
		if !there {
			var err error
			if frame, err = m.Frame(schema); err != nil {
				return dst, err
			}
			m.frames[schema.Fingerprint()] = frame
		}
		dst = append(dst, frame...)
	}
	start := len(dst)
	dst, err := f.row.append(dst, schema, row)
	if err != nil {
		return dst[:start], &EncodeError{Message: err.Error()}
	}
	return dst, nil
}
