package shape

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"rillmark/internal/change"
)

// Template is text with fields of an event in braces: {source}.{schema}.{table}.
// {row.COLUMN} is a column's value, of the row after the change or, for a
// delete, before it; {FIELD|text} stands for text where the event has no such
// field.
type Template struct {
	text   string
	parts  []part
	newest atomic.Pointer[placed]
}

type part struct {
	literal  string
	field    string // empty for a literal
	column   string // of field row
	fallback string
}

var templateFields = []string{"source", "database", "schema", "table", "operation", "key", "transaction"}

// ParseTemplate reads a template; more are fields besides the usual ones.
func ParseTemplate(text string, more ...string) (*Template, error) {
	t := &Template{text: text}
	rest := text
	for rest != "" {
		open := strings.IndexByte(rest, '{')
		literal := rest
		if open >= 0 {
			literal = rest[:open]
		}
		if strings.IndexByte(literal, '}') >= 0 {
			return nil, fmt.Errorf("%q has a closing brace without an opening one", text)
		}
		if literal != "" {
			t.parts = append(t.parts, part{literal: literal})
		}
		if open < 0 {
			break
		}
		end := strings.IndexByte(rest[open:], '}')
		if end < 0 {
			return nil, fmt.Errorf("%q has an opening brace without a closing one", text)
		}
		one := part{field: rest[open+1 : open+end]}
		one.field, one.fallback, _ = strings.Cut(one.field, "|")
		if column, is := strings.CutPrefix(one.field, "row."); is && column != "" {
			one.field, one.column = "row", column
		} else if !slices.Contains(templateFields, one.field) && !slices.Contains(more, one.field) {
			return nil, fmt.Errorf("%q names the field %q, which no event has: there are %s and row.COLUMN", text, one.field, strings.Join(append(slices.Clone(templateFields), more...), ", "))
		}
		t.parts = append(t.parts, one)
		rest = rest[open+end+1:]
	}
	return t, nil
}

// String is the template as it was written.
func (t *Template) String() string { return t.text }

// Columns are the columns that the template names.
func (t *Template) Columns() []string {
	var names []string
	if t != nil {
		for _, p := range t.parts {
			if p.column != "" {
				names = append(names, p.column)
			}
		}
	}
	return names
}

// Needs are the columns that the template names without saying what stands there where
// a row has none.
func (t *Template) Needs() []string {
	var names []string
	for _, p := range t.parts {
		if p.column != "" && p.fallback == "" {
			names = append(names, p.column)
		}
	}
	return names
}

// Fixed reports whether the template's text depends on nothing but the source.
func (t *Template) Fixed() bool {
	for _, p := range t.parts {
		if p.field != "" && p.field != "source" {
			return false
		}
	}
	return true
}

// Channel is the template's text for a table of a source, with what depends on
// the single event left as parameters in braces.
func (t *Template) Channel(source, table string) (address string, parameters []string) {
	probe := change.Event{Source: source, Table: table}
	var b []byte
	for _, p := range t.parts {
		switch p.field {
		case "", "source", "schema", "table":
			one := Template{parts: []part{p}}
			b = one.Append(b, &probe, nil, nil)
		default:
			name := p.field
			if p.column != "" {
				name += "_" + p.column
			}
			parameters = append(parameters, name)
			b = append(append(append(b, '{'), name...), '}')
		}
	}
	return string(b), parameters
}

// Append writes the template's text for an event. key is the text of the row's
// key; more has the fields that ParseTemplate was given besides the usual.
func (t *Template) Append(dst []byte, e *change.Event, key []byte, more func(field string) []byte) []byte {
	for i := range t.parts {
		p := &t.parts[i]
		before := len(dst)
		switch p.field {
		case "":
			dst = append(dst, p.literal...)
			continue
		case "source":
			dst = append(dst, e.Source...)
		case "database":
			dst = append(dst, e.Database...)
		case "schema":
			schema, _ := t.place(e.Table)
			dst = append(dst, schema...)
		case "table":
			_, table := t.place(e.Table)
			dst = append(dst, table...)
		case "operation":
			dst = append(dst, e.Operation.String()...)
		case "key":
			dst = append(dst, key...)
		case "transaction":
			dst = append(dst, e.Transaction.ID...)
		case "row":
			if v, there := Column(e, p.column); there {
				dst = append(dst, v.Text...)
			}
		default:
			dst = append(dst, more(p.field)...)
		}
		if len(dst) == before {
			dst = append(dst, p.fallback...)
		}
	}
	return dst
}

// placed are the parts of a table's name, which hardly ever changes from one event
// to the next.
type placed struct{ name, schema, table string }

func (t *Template) place(name string) (schema, table string) {
	one := t.newest.Load()
	if one == nil || one.name != name {
		one = &placed{name: name}
		one.schema, one.table = change.Place(name)
		t.newest.Store(one)
	}
	return one.schema, one.table
}

// ColumnRule is the rule of a column of the row that an event is about; empty
// where it has none.
func ColumnRule(e *change.Event, name string) change.Rule {
	if e.Schema != nil {
		for i := range e.Schema.Columns {
			if e.Schema.Columns[i].Name == name {
				return e.Schema.Columns[i].Rule
			}
		}
	}
	return ""
}

// Column is a column's value in the row that an event is about; false where it
// has none, or a null.
func Column(e *change.Event, name string) (change.Value, bool) {
	image := e.Image()
	if e.Schema == nil || image == nil {
		return change.Value{}, false
	}
	for i := range e.Schema.Columns {
		if e.Schema.Columns[i].Name == name && i < len(image) {
			return image[i], image[i].Presence == change.Present
		}
	}
	return change.Value{}, false
}
