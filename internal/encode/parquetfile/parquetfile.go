// Package parquetfile writes rows of one schema version as a Parquet file, in bounded memory.
package parquetfile

import (
	"encoding/json"
	"io"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress"
	"github.com/parquet-go/parquet-go/encoding"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// rowGroup bounds what is held in memory until it is written.
const (
	rowGroupRows  = 20_000
	rowGroupBytes = 8 << 20
)

// Writer writes one file. It is not safe for several goroutines.
type Writer struct {
	writer  *parquet.GenericWriter[any]
	schema  *change.Schema
	held    []parquet.Row // not written yet; they point into the values that were given
	rows    int
	pending int64
}

// New begins a file of rows of a schema version; compression is snappy, zstd or empty for none.
// Values that their column's type cannot hold, as infinity, stand in a last column
// [encode.Inexact], as text by their column's name.
func New(to io.Writer, s *change.Schema, compression string) *Writer {
	group := make(columns, 0, len(s.Columns)+1)
	for i := range s.Columns {
		group = append(group, column{parquet.Optional(parquetNode(&s.Columns[i])), s.Columns[i].Name})
	}
	group = append(group, column{parquet.Optional(parquet.JSON()), encode.Inexact})
	var codec compress.Codec = &parquet.Uncompressed
	switch compression {
	case "snappy":
		codec = &parquet.Snappy
	case "zstd":
		codec = &parquet.Zstd
	}
	return &Writer{schema: s, writer: parquet.NewGenericWriter[any](to, parquet.NewSchema(s.Table, group), parquet.Compression(codec), parquet.PageBufferSize(256<<10),
		parquet.KeyValueMetadata("rillmark.schema", s.Fingerprint().String()), parquet.KeyValueMetadata("rillmark.table", s.Table))}
}

// columns are the file's, in the order in which they are given: the library's own
// group sorts them by name, and takes no name with a comma.
type columns []parquet.Field

func (c columns) ID() int                     { return 0 }
func (c columns) Type() parquet.Type          { return parquet.Group{}.Type() }
func (c columns) Optional() bool              { return false }
func (c columns) Repeated() bool              { return false }
func (c columns) Required() bool              { return true }
func (c columns) Leaf() bool                  { return false }
func (c columns) Fields() []parquet.Field     { return c }
func (c columns) Encoding() encoding.Encoding { return nil }
func (c columns) Compression() compress.Codec { return nil }

// GoType is not asked for where rows are written as rows.
func (c columns) GoType() reflect.Type { return reflect.TypeFor[map[string]any]() }

func (c columns) String() string {
	names := make([]string, len(c))
	for i, one := range c {
		names[i] = one.Name() + " " + one.String()
	}
	return strings.Join(names, ", ")
}

type column struct {
	parquet.Node
	name string
}

func (c column) Name() string { return c.name }

func (c column) Value(base reflect.Value) reflect.Value {
	return base.MapIndex(reflect.ValueOf(c.name))
}

// fewDigits of a decimal fit into 32 bits, mostDigits into 64.
const (
	fewDigits  = 9
	mostDigits = 18
)

func parquetNode(c *change.Column) parquet.Node {
	switch c.Rule {
	case change.RuleBoolean:
		return parquet.Leaf(parquet.BooleanType)
	case change.RuleInteger:
		if c.Bits == 16 || c.Bits == 32 {
			return parquet.Int(32)
		}
		return parquet.Int(64)
	case change.RuleUnsigned:
		return parquet.Uint(64)
	case change.RuleFloat:
		if c.Bits == 32 {
			return parquet.Leaf(parquet.FloatType)
		}
		return parquet.Leaf(parquet.DoubleType)
	case change.RuleDecimal:
		if precision, scale, fixed := c.DecimalSize(); fixed && precision <= mostDigits {
			if precision <= fewDigits {
				return parquet.Decimal(scale, precision, parquet.Int32Type)
			}
			return parquet.Decimal(scale, precision, parquet.Int64Type)
		}
	case change.RuleDate:
		return parquet.Date()
	case change.RuleTime:
		return parquet.Time(parquet.Microsecond)
	case change.RuleTimestamp:
		return parquet.TimestampAdjusted(parquet.Microsecond, false)
	case change.RuleTimestampTZ:
		return parquet.Timestamp(parquet.Microsecond)
	case change.RuleBinary:
		return parquet.Leaf(parquet.ByteArrayType)
	case change.RuleJSON, change.RuleArray:
		return parquet.JSON()
	default: // text
	}
	return parquet.String()
}

// heldRows are written at a time: row by row would cost three times as much.
const heldRows = 512

// next is a row to fill, made once and used again.
func (w *Writer) next() parquet.Row {
	n := len(w.held)
	if n < cap(w.held) {
		w.held = w.held[:n+1]
	} else {
		w.held = append(w.held, nil)
	}
	if w.held[n] == nil {
		w.held[n] = make(parquet.Row, len(w.schema.Columns)+1)
	}
	return w.held[n]
}

// Drain writes what was added: the values that were given may change from then on.
func (w *Writer) Drain() error {
	if len(w.held) == 0 {
		return nil
	}
	_, err := w.writer.WriteRows(w.held)
	w.rows += len(w.held)
	w.held = w.held[:0]
	if err == nil && (w.rows >= rowGroupRows || w.pending >= rowGroupBytes) {
		w.rows, w.pending = 0, 0
		return w.writer.Flush()
	}
	return err
}

// Add takes a row, of about size bytes. Its values must stay as they are until [Writer.Drain].
func (w *Writer) Add(values []change.Value, size int) error {
	row := w.next()
	var odd map[string]string
	for i := range values {
		c := &w.schema.Columns[i]
		v, exact := parquetValue(c, values[i])
		if !exact {
			if odd == nil {
				odd = make(map[string]string)
			}
			odd[c.Name] = string(values[i].Text)
		}
		put(row, i, v)
	}
	v := parquet.NullValue()
	if odd != nil {
		raw, err := json.Marshal(odd)
		if err != nil {
			return err
		}
		v = parquet.ByteArrayValue(raw)
	}
	put(row, len(values), v)
	w.pending += int64(size)
	if len(w.held) >= heldRows {
		return w.Drain()
	}
	return nil
}

// Pending is about how many bytes were added that are not in the file yet.
func (w *Writer) Pending() int64 { return w.pending }

func put(row parquet.Row, column int, v parquet.Value) {
	level := 1
	if v.IsNull() {
		level = 0
	}
	row[column] = v.Level(0, level, column)
}

// parquetValue is a value in its column's type; false where that cannot hold it.
func parquetValue(c *change.Column, v change.Value) (parquet.Value, bool) {
	if v.Presence != change.Present {
		return parquet.NullValue(), true
	}
	text := string(v.Text)
	micros := func(layout string, of func(time.Time) int64) (parquet.Value, bool) {
		t, err := time.Parse(layout, text)
		if err != nil {
			return parquet.NullValue(), false
		}
		return parquet.Int64Value(of(t)), true
	}
	switch c.Rule {
	case change.RuleBoolean:
		return parquet.BooleanValue(text == "true"), true
	case change.RuleInteger:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return parquet.NullValue(), false
		}
		if c.Bits == 16 || c.Bits == 32 {
			return parquet.Int32Value(int32(n)), true
		}
		return parquet.Int64Value(n), true
	case change.RuleUnsigned:
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return parquet.NullValue(), false
		}
		return parquet.Int64Value(int64(n)), true // the bits of a number without a sign
	case change.RuleFloat:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return parquet.NullValue(), false
		}
		if c.Bits == 32 {
			return parquet.FloatValue(float32(f)), true
		}
		return parquet.DoubleValue(f), true
	case change.RuleDecimal:
		precision, scale, fixed := c.DecimalSize()
		if !fixed || precision > mostDigits {
			break
		}
		n, ok := encode.Unscaled(text, scale)
		if !ok || !n.IsInt64() {
			return parquet.NullValue(), false
		}
		if precision <= fewDigits {
			return parquet.Int32Value(int32(n.Int64())), true
		}
		return parquet.Int64Value(n.Int64()), true
	case change.RuleDate:
		t, err := time.Parse("2006-01-02", text)
		if err != nil {
			return parquet.NullValue(), false
		}
		return parquet.Int32Value(int32(t.Unix() / 86400)), true
	case change.RuleTime:
		return micros("15:04:05.999999", func(t time.Time) int64 {
			return (int64(t.Hour())*3600+int64(t.Minute())*60+int64(t.Second()))*1_000_000 + int64(t.Nanosecond()/1000)
		})
	case change.RuleTimestamp:
		return micros("2006-01-02T15:04:05.999999", time.Time.UnixMicro)
	case change.RuleTimestampTZ:
		return micros(time.RFC3339Nano, time.Time.UnixMicro)
	default: // text, or bytes
	}
	return parquet.ByteArrayValue(v.Text), true
}

// Close ends the file; what it is written to stays open.
func (w *Writer) Close() error {
	if err := w.Drain(); err != nil {
		return err
	}
	return w.writer.Close()
}
