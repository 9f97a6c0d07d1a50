package encode

import (
	"slices"
	"strconv"

	"rillmark/internal/change"
)

// Inexact is a column of Parquet files behind all others: what their types cannot
// hold (infinity, years BC, not a number), as a JSON object of the engine's own text.
const Inexact = "_inexact"

// jsonNull is a member of rows that names the columns that hold the JSON document
// null; Avro and Parquet tell it from SQL's null by themselves.
const jsonNull = "_json_null"

// metadata are the columns that flat formats can put behind a row's own.
var metadata = []struct {
	name   string
	column change.Column
	value  func(dst []byte, e *change.Event, half string) []byte
}{
	{"id", textColumn("_id"), appendID},
	{"offset", change.Column{Name: "_offset", Type: "bigint", Rule: change.RuleInteger, Bits: 64}, func(dst []byte, e *change.Event, _ string) []byte {
		return strconv.AppendInt(dst, e.Offset, 10)
	}},
	{"operation", textColumn("_operation"), func(dst []byte, e *change.Event, half string) []byte {
		dst = append(dst, e.Operation.String()...)
		if half != "" {
			dst = append(append(dst, ' '), half...)
		}
		return dst
	}},
	{"table", textColumn("_table"), func(dst []byte, e *change.Event, _ string) []byte { return append(dst, e.Table...) }},
	{"source", textColumn("_source"), func(dst []byte, e *change.Event, _ string) []byte { return append(dst, e.Source...) }},
	{"database", textColumn("_database"), func(dst []byte, e *change.Event, _ string) []byte { return append(dst, e.Database...) }},
	{"committed_at", change.Column{Name: "_committed_at", Type: "timestamp with time zone", Rule: change.RuleTimestampTZ}, func(dst []byte, e *change.Event, _ string) []byte {
		return e.Transaction.CommittedAt.UTC().AppendFormat(dst, "2006-01-02T15:04:05.000000Z")
	}},
	{"transaction", textColumn("_transaction"), func(dst []byte, e *change.Event, _ string) []byte { return append(dst, e.Transaction.ID...) }},
	{"position", textColumn("_position"), func(dst []byte, e *change.Event, _ string) []byte { return e.Engine.AppendPosition(dst, e.Place) }},
}

func textColumn(name string) change.Column {
	return change.Column{Name: name, Type: "text", Rule: change.RuleText}
}

// IsMetadata reports whether flat formats know a metadata column.
func IsMetadata(name string) bool { return slices.Contains(MetadataNames(), name) }

// MetadataNames lists the metadata of flat formats.
func MetadataNames() []string {
	names := make([]string, len(metadata))
	for i := range metadata {
		names[i] = metadata[i].name
	}
	return names
}

// flattener puts chosen metadata behind a row's own columns, whose names it changes
// where a format could not tell them apart: see [change.UniqueNames].
type flattener struct {
	chosen  []int
	taken   []string // names that a row's own columns cannot have
	derived map[change.Fingerprint]*change.Schema
}

func newFlattener(names []string, format Format) *flattener {
	if len(names) == 0 {
		names = []string{"operation", "offset"}
	}
	f := &flattener{derived: make(map[change.Fingerprint]*change.Schema)}
	for _, name := range names {
		for i := range metadata {
			if metadata[i].name == name {
				f.chosen = append(f.chosen, i)
				f.taken = append(f.taken, metadata[i].column.Name)
			}
		}
	}
	switch format {
	case FormatParquet:
		f.taken = append(f.taken, Inexact)
	case FormatRow:
		f.taken = append(f.taken, jsonNull)
	default:
	}
	return f
}

// Renamed are the columns that a flat shape calls otherwise than their table does.
func Renamed(s Shape, v *change.Schema) (renamed []change.Column) {
	if !s.Format.Flat() {
		return nil
	}
	for _, c := range Flattened(s, v).Columns {
		if c.From != "" {
			renamed = append(renamed, c)
		}
	}
	return renamed
}

// Flattened is the version of what goes out for rows of a version, in a flat shape; the same
// in any other.
func Flattened(s Shape, v *change.Schema) *change.Schema {
	if !s.Format.Flat() {
		return v
	}
	derived, _ := newFlattener(s.Metadata, s.Format).schema(v)
	return derived
}

// tells reports whether a reader could distinguish an event without a row from a row.
func (f *flattener) tells() bool {
	return slices.ContainsFunc(f.chosen, func(i int) bool { return metadata[i].name == "operation" })
}

// schema is the version of what goes out for rows of s.
func (f *flattener) schema(s *change.Schema) (derived *change.Schema, isNew bool) {
	if d := f.derived[s.Fingerprint()]; d != nil {
		return d, false
	}
	columns := make([]change.Column, 0, len(f.chosen)+len(s.Columns))
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
	}
	for i, name := range change.UniqueNames(names, f.taken, nil) {
		c := s.Columns[i]
		if name != c.Name {
			c.Name, c.From = name, c.NameInSource()
		}
		columns = append(columns, c)
	}
	for _, i := range f.chosen {
		columns = append(columns, metadata[i].column)
	}
	d := change.NewSchema(s.Engine, s.Table, columns, s.LeftOut, s.Guessed)
	if len(f.derived) > 10_000 {
		clear(f.derived)
	}
	f.derived[s.Fingerprint()] = d
	return d, true
}

// row appends the values to values; their text lies in buf, which is returned.
// A nil image gives nulls.
func (f *flattener) row(values []change.Value, buf []byte, e *change.Event, image []change.Value, half string) ([]change.Value, []byte) {
	if image == nil {
		for range e.Schema.Columns {
			values = append(values, change.NullValue())
		}
	} else {
		values = append(values, image...)
	}
	for _, i := range f.chosen {
		start := len(buf)
		buf = metadata[i].value(buf, e, half)
		values = append(values, change.Value{Presence: change.Present, Text: buf[start:len(buf):len(buf)]})
	}
	return values, buf
}

// asText is a schema version whose integers of 64 bits are strings.
type asText map[change.Fingerprint]*change.Schema

func (t asText) schema(s *change.Schema) (derived *change.Schema, isNew bool) {
	if d := t[s.Fingerprint()]; d != nil {
		return d, false
	}
	columns := slices.Clone(s.Columns)
	for i := range columns {
		if columns[i].Rule == change.RuleUnsigned || columns[i].Rule == change.RuleInteger && (columns[i].Bits == 64 || columns[i].Bits == 0) {
			columns[i].Rule = change.RuleDecimal
		}
	}
	if len(t) > 10_000 {
		clear(t)
	}
	d := change.NewSchema(s.Engine, s.Table, columns, s.LeftOut, s.Guessed)
	t[s.Fingerprint()] = d
	return d, true
}
