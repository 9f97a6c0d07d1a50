package change

import (
	"encoding/binary"
	"fmt"
)

// Fold holds tables as events build them up, by the rules that consumers may
// rely on: existing and insert set the row; update replaces what it carries and
// keeps what is omitted; delete of an unknown key is nothing; a rekeyed insert
// inherits omitted values from the old key; truncate and void empty the table.
// It is exact for a table from its loaded event on, at each end of a
// transaction.
type Fold struct {
	tables map[string]*FoldedTable
}

// FoldedTable is one table's rows by their key.
type FoldedTable struct {
	// Rows holds each row by column name, under the key [RowKey] makes.
	Rows map[string]map[string]Value
	// Loaded is true once a load has been completed and nothing has voided it.
	Loaded bool
	// moved keeps rows whose key went a moment ago, until their insert comes.
	moved map[string]map[string]Value
}

// NewFold has no tables yet.
func NewFold() *Fold { return &Fold{tables: make(map[string]*FoldedTable)} }

// Table is what has been folded of a table so far; nil if nothing has.
func (f *Fold) Table(name string) *FoldedTable { return f.tables[name] }

// RowKey makes one string of a key's values; different keys differ.
func RowKey(values []Value) string {
	var b []byte
	for _, v := range values {
		b = append(b, byte(v.Presence))
		b = binary.AppendUvarint(b, uint64(len(v.Text)))
		b = append(b, v.Text...)
	}
	return string(b)
}

// Apply folds one event. It copies what it keeps.
func (f *Fold) Apply(e *Event) error {
	if e.Table == "" {
		return nil
	}
	t := f.tables[e.Table]
	if t == nil {
		t = &FoldedTable{Rows: make(map[string]map[string]Value), moved: make(map[string]map[string]Value)}
		f.tables[e.Table] = t
	}
	switch e.Operation {
	case Truncate, Void:
		clear(t.Rows)
		clear(t.moved)
		if e.Operation == Void {
			t.Loaded = false
		}
		return nil
	case Loaded:
		t.Loaded = true
		return nil
	case Definition, Message:
		return nil
	}
	values := e.KeyValues(nil)
	if len(values) == 0 {
		return nil // a table without a key cannot be folded row by row
	}
	key := RowKey(values)
	switch e.Operation {
	case Existing, Insert:
		row := make(map[string]Value, len(e.After))
		if e.Rekeyed != nil {
			old := RowKey(e.Rekeyed)
			for name, v := range t.moved[old] {
				row[name] = v
			}
			delete(t.moved, old)
		}
		t.replace(row, e)
		t.Rows[key] = row
	case Update:
		row := t.Rows[key]
		if row == nil {
			row = make(map[string]Value, len(e.After))
			t.Rows[key] = row
		}
		t.replace(row, e)
	case Delete:
		if e.Rekeyed != nil {
			if row := t.Rows[key]; row != nil {
				t.moved[key] = row
			}
		}
		delete(t.Rows, key)
	default:
		return fmt.Errorf("event %s: operation %s cannot be folded", e.ID(), e.Operation)
	}
	return nil
}

func (t *FoldedTable) replace(row map[string]Value, e *Event) {
	for i, v := range e.After {
		if v.Presence != Omitted {
			row[e.Schema.Columns[i].Name] = v.Clone()
		}
	}
}
