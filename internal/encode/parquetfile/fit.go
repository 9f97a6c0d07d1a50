package parquetfile

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/foreign"
)

// Model is what somebody else's Parquet file says files look like.
type Model struct{ schema *parquet.Schema }

// ReadModel reads a file's schema, which stands at its end; what the file holds does not matter.
func ReadModel(file io.ReaderAt, size int64) (m *Model, err error) {
	defer func() {
		if r := recover(); r != nil { // the library's answer to some types that cannot be
			m, err = nil, fmt.Errorf("it cannot be read as a Parquet file: %v", r)
		}
	}()
	if err := foreign.ParquetFooter(file, size); err != nil {
		return nil, fmt.Errorf("it cannot be read as a Parquet file: %w", err)
	}
	opened, err := parquet.OpenFile(file, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, fmt.Errorf("it cannot be read as a Parquet file: %w", err)
	}
	return &Model{parquet.NewSchema(opened.Schema().Name(), unpacked{opened.Root()})}, nil
}

// String is the schema in Parquet's own notation.
func (m *Model) String() string { return m.schema.String() }

// Fitted is how rows of one version are written after a model: a column of the model gets the
// row's column of its name, or is null. It does not change, and may be used by several
// goroutines.
type Fitted struct {
	model  *Model
	of     *change.Schema
	fields []fittedField
	leaves int
}

// fittedField is a column of the model, with those that it consists of where it is a group.
type fittedField struct {
	name     string
	column   int // of the row; -1 for one that is null always
	inexact  bool
	first    int // its first leaf
	leaves   int
	optional bool
	convert  converter
	list     *listLevels // nil where it is no list
}

// listLevels says how deep a list's values lie (Parquet's "Nested Encoding").
type listLevels struct {
	element    change.Rule
	empty, gap int // an empty list's definition level, and that of an item that is null
	item       int
	nulls      bool // items may be null
}

// Row is a row as a model wants it.
type Row struct {
	Fitted *Fitted
	values parquet.Row
}

// Fit fits a version's rows to a model. fits has what does not fit, and what is worth knowing; the
// Fitted is nil where anything does not.
func Fit(s *change.Schema, m *Model) (f *Fitted, fits []encode.FieldFit) {
	f = &Fitted{model: m, of: s}
	left := make([]string, 0, len(s.Columns))
	for i := range s.Columns {
		left = append(left, s.Columns[i].Name)
	}
	used := func(name string) int {
		return slices.IndexFunc(s.Columns, func(c change.Column) bool { return c.Name == name })
	}
	for _, field := range m.schema.Fields() {
		left = slices.DeleteFunc(left, func(name string) bool { return name == field.Name() })
	}
	for _, field := range m.schema.Fields() {
		one := fittedField{name: field.Name(), column: used(field.Name()), first: f.leaves, leaves: leavesOf(field), optional: field.Optional()}
		f.leaves += one.leaves
		var fit encode.FieldFit
		if one.column < 0 {
			fit = one.empty(field, left)
		} else {
			fit = one.accept(&s.Columns[one.column], field)
		}
		if fit.Says != "" {
			fits = append(fits, fit)
		}
		f.fields = append(f.fields, one)
	}
	for _, name := range left {
		fits = append(fits, encode.FieldFit{Field: name, Says: "the model has no such column: not sent"})
	}
	if slices.ContainsFunc(fits, func(one encode.FieldFit) bool { return one.Misfit }) {
		return nil, fits
	}
	return f, fits
}

func leavesOf(n parquet.Node) int {
	if n.Leaf() {
		return 1
	}
	leaves := 0
	for _, field := range n.Fields() {
		leaves += leavesOf(field)
	}
	return leaves
}

// empty is for a column of the model that no column of the row fills.
func (f *fittedField) empty(field parquet.Field, left []string) encode.FieldFit {
	if f.optional {
		if field.Name() == encode.Inexact && field.Leaf() && leafType(field.Type()).kind == parquet.ByteArray {
			f.inexact = true
			return encode.FieldFit{}
		}
		return encode.FieldFit{Field: f.name, Says: "no column has the name: it is null" + encode.Suggestion(f.name, left)}
	}
	says := "no column has the name, and the model takes no null there"
	if field.Repeated() {
		says = "no column has the name, and it is repeated by itself, without a list"
	}
	return encode.FieldFit{Field: f.name, Misfit: true, Says: says + encode.Suggestion(f.name, left)}
}

// accept fits a row's column to the model's.
func (f *fittedField) accept(c *change.Column, field parquet.Field) encode.FieldFit {
	var note string
	if field.Leaf() && !field.Repeated() {
		f.convert, note = converterOf(c, leafType(field.Type()))
	} else {
		f.convert, note = f.items(c, field)
	}
	switch {
	case f.convert == nil:
		return encode.FieldFit{Field: f.name, Misfit: true, Says: note}
	case !f.optional && c.Nullable:
		note = strings.TrimPrefix(note+"; rows in which it is null become dead letters", "; ")
	}
	return encode.FieldFit{Field: f.name, Says: note}
}

// itemOf is what a list's items look like; nil for what is no list of simple items. A list is a
// group, in it a repeated one, in it the item (Parquet's "Lists").
func itemOf(list parquet.Node) parquet.Node {
	only := func(n parquet.Node) parquet.Node {
		if n == nil || n.Leaf() || len(n.Fields()) != 1 {
			return nil
		}
		return n.Fields()[0]
	}
	logical := list.Type().LogicalType()
	if list.Leaf() || list.Repeated() || logical == nil {
		return nil
	}
	if _, is := logical.Value.(*format.ListType); !is {
		return nil
	}
	middle := only(list)
	item := only(middle)
	if item == nil || !middle.Repeated() || !item.Leaf() || item.Repeated() {
		return nil
	}
	return item
}

// items fits an array of one dimension to a list.
func (f *fittedField) items(c *change.Column, field parquet.Field) (converter, string) {
	item := itemOf(field)
	if item == nil {
		return nil, c.Type + " is not written as a group of columns: only arrays are, as lists of simple items"
	}
	if c.Rule != change.RuleArray {
		return nil, c.Type + " is not written as a list"
	}
	element := change.AvroElement(*c)
	convert, note := converterOf(&element, leafType(item.Type()))
	if convert == nil {
		return nil, "of its items: " + note
	}
	l := &listLevels{element: element.Rule, nulls: item.Optional()}
	if f.optional {
		l.empty = 1
	}
	l.gap = l.empty + 1
	l.item = l.gap
	if l.nulls {
		l.item++
	}
	f.list = l
	return convert, note
}

// Takes reports whether a column of rows goes out.
func (f *Fitted) Takes(name string) bool {
	return slices.ContainsFunc(f.fields, func(one fittedField) bool { return one.name == name && one.column >= 0 })
}

// Form implements [encode.RowForm]: it gives a [*Row].
func (f *Fitted) Form(row []change.Value, gone bool) (any, error) {
	made, err := f.append(make(parquet.Row, 0, f.leaves), row, gone)
	if err != nil {
		return nil, err
	}
	return &Row{f, made}, nil
}

// append appends a row's values to made. What the log has left out is an error, since a null
// would stand in place of a value that readers have; of a row that is gone it is null.
func (f *Fitted) append(made parquet.Row, row []change.Value, gone bool) (parquet.Row, error) {
	var odd inexact
	at := -1
	for i := range f.fields {
		one := &f.fields[i]
		if one.column < 0 {
			if one.inexact {
				at = len(made)
			}
			for leaf := range one.leaves {
				made = append(made, parquet.NullValue().Level(0, 0, one.first+leaf))
			}
			continue
		}
		v := row[one.column]
		var err error
		switch {
		case v.Presence == change.Omitted && !gone:
			err = encode.ErrNotInLog
		case v.Presence != change.Present && !one.optional:
			err = errors.New("it takes no null")
		default:
			made, err = one.append(made, v)
		}
		if err != nil && f.keepsInexact() && one.optional && v.Presence == change.Present {
			odd.add(one.name, v.Text)
			made, err = append(made, parquet.NullValue().Level(0, 0, one.first)), nil
		}
		if err != nil {
			return nil, fmt.Errorf("column %s of the model: %w", one.name, err)
		}
	}
	if at >= 0 && odd != nil {
		v, err := odd.value()
		if err != nil {
			return nil, err
		}
		made[at] = v.Level(0, 1, made[at].Column())
	}
	return made, nil
}

func (f *Fitted) keepsInexact() bool {
	return slices.ContainsFunc(f.fields, func(one fittedField) bool { return one.inexact })
}

// append appends the values of one column, none of them where it is an error.
func (f *fittedField) append(row parquet.Row, v change.Value) (parquet.Row, error) {
	defined := 0
	if f.optional {
		defined = 1
	}
	if v.Presence != change.Present {
		return append(row, parquet.NullValue().Level(0, 0, f.first)), nil
	}
	if f.list == nil {
		value, err := f.convert(v.Text)
		if err != nil {
			return row, err
		}
		return append(row, value.Level(0, defined, f.first)), nil
	}
	items, err := encode.Items(f.list.element, v.Text)
	if err != nil {
		return row, err
	}
	if len(items) == 0 {
		return append(row, parquet.NullValue().Level(0, f.list.empty, f.first)), nil
	}
	start := len(row)
	for i, item := range items {
		value, level := parquet.NullValue(), f.list.gap
		switch {
		case item.Presence == change.Present:
			if value, err = f.convert(item.Text); err != nil {
				return row[:start], fmt.Errorf("an item: %w", err)
			}
			level = f.list.item
		case !f.list.nulls:
			return row[:start], errors.New("an item: it takes no null")
		}
		row = append(row, value.Level(min(i, 1), level, f.first))
	}
	return row, nil
}
