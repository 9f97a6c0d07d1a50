// Package asof folds a table's events into its rows as they were at an offset, in bounded
// memory: what memory has no room for is in a file meanwhile.
//
// The rules are those of docs/events.md. A row is kept in the schema version in which it was
// written, and brought into the newest one when it is read.
package asof

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"

	"rillmark/internal/change"
)

// Table is a table at an offset. It is not safe for several goroutines.
type Table struct {
	rows     store
	versions []version
	moved    map[string][]byte // rows whose key changes with the event that comes next
	begun    bool
	loading  int64 // the offset of the void of a load that is not complete; 0 for none
	inexact  string
	key      []change.Value
	partial  int64 // rows of which only changes have come, as of the last [Table.Rows]
}

// What an entry of the store says of its key.
const (
	entrySet    = iota // the row, whatever was before
	entryPatch         // the row, in which omitted values are those of before
	entryGone          // there is no such row
	entryNumber        // the row is there so many times more, or fewer
)

// version is a schema version with what led to it.
type version struct {
	schema  *change.Schema
	renamed []change.Rename
	// rewrites says that rows have changed without events: what a new column holds is not
	// known.
	rewrites bool
	// filled are the values of rows that were there in columns that came.
	filled map[string]change.Value
}

// New is an empty table that keeps up to limit bytes in memory, and more in a file in dir.
func New(dir string, limit int) *Table {
	t := &Table{moved: make(map[string][]byte)}
	t.rows = store{dir: dir, limit: limit, join: t.join}
	return t
}

// Close lets go of what the table holds on disk.
func (t *Table) Close() error { return t.rows.close() }

// Partial counts the rows that were changed and had not come before, as [Table.Rows] has found
// them: what the changes left out of those is not known.
func (t *Table) Partial() int64 { return t.partial }

// Rows counts the rows.
func (t *Table) Rows() (n int64, err error) {
	t.partial = 0
	err = t.rows.each(func(_ string, stored []byte) error {
		if len(stored) == 0 {
			return errTorn
		}
		_, width := binary.Uvarint(stored[1:])
		times, read := binary.Varint(stored[1+max(width, 0):])
		if width <= 0 || read <= 0 {
			return errTorn
		}
		if n += max(times, 0); stored[0] == entryPatch {
			t.partial++
		}
		return nil
	})
	return n, err
}

// Schema is the newest version; nil before the first event.
func (t *Table) Schema() *change.Schema {
	if len(t.versions) == 0 {
		return nil
	}
	return t.versions[len(t.versions)-1].schema
}

// Begun reports whether the beginning of a load, or of an empty table, was among the events:
// without one, rows that have not changed are missing.
func (t *Table) Begun() bool { return t.begun }

// Loading is the offset at which a load began that is not complete; 0 for none.
func (t *Table) Loading() int64 { return t.loading }

// Inexact says why rows may not be what they were; empty where they are.
func (t *Table) Inexact() string { return t.inexact }

// Apply takes the table's next event.
func (t *Table) Apply(e *change.Event) error {
	if e.Operation == change.Definition {
		return t.define(e)
	}
	if e.Schema != nil && (t.Schema() == nil || t.Schema().Fingerprint() != e.Schema.Fingerprint()) {
		if err := t.become(version{schema: e.Schema}); err != nil {
			return err
		}
	}
	switch e.Operation {
	case change.Void, change.Truncate:
		if e.Operation == change.Void {
			t.begun, t.loading, t.inexact = true, e.Offset, ""
		}
		return t.rows.empty()
	case change.Loaded:
		if len(e.Body) == 0 { // one with a part voided nothing
			t.loading = 0
		}
	case change.Existing, change.Insert, change.Update, change.Delete:
		if len(e.Schema.Key()) == 0 {
			return t.bag(e)
		}
		return t.keyed(e)
	default:
	}
	return nil
}

// define takes a schema event.
func (t *Table) define(e *change.Event) error {
	var c change.SchemaChange
	if err := json.Unmarshal(e.Body, &c); err != nil {
		return fmt.Errorf("the schema event at offset %d: %w", e.Offset, err)
	}
	if c.Definition == nil {
		t.begun, t.loading = false, 0 // another table may come under its name, with rows
		return t.rows.empty()
	}
	if c.Rewrites {
		t.inexact = fmt.Sprintf("rows have changed without events at offset %d, and the table has not been loaded anew since", e.Offset)
	}
	now := version{schema: e.Schema, renamed: c.Renamed, rewrites: c.Rewrites, filled: make(map[string]change.Value, len(c.Filled))}
	for name, raw := range c.Filled {
		column := e.Schema.Column(name)
		if column == nil {
			continue
		}
		v, err := change.FilledValue(column, raw)
		if err != nil {
			return fmt.Errorf("the schema event at offset %d: %w", e.Offset, err)
		}
		now.filled[name] = v
	}
	return t.become(now)
}

// become goes on with another schema version.
func (t *Table) become(v version) error {
	before := t.Schema()
	t.versions = append(t.versions, v)
	switch {
	case before == nil:
		return nil
	case len(v.schema.Key()) == 0 && before.Fingerprint() != v.schema.Fingerprint():
		return t.rekey() // rows without a key are known by all of their columns
	case slices.Equal(keyNames(before, nil), keyNames(v.schema, v.renamed)):
		return nil
	}
	return t.rekey()
}

// keyNames are the columns of a version's key, under the names that they had before.
func keyNames(s *change.Schema, renamed []change.Rename) (names []string) {
	for _, i := range s.Key() {
		name := s.Columns[i].Name
		for _, r := range renamed {
			if r.To == name {
				name = r.From
				break
			}
		}
		names = append(names, name)
	}
	return names
}

// rekey keeps all rows under the newest version's key.
func (t *Table) rekey() error {
	old := t.rows
	t.rows = store{dir: old.dir, limit: old.limit, join: t.join}
	keyed := t.Schema().Key()
	err := old.each(func(_ string, stored []byte) error {
		e, err := t.open(stored)
		if err != nil || e.n == 0 {
			return err
		}
		kind := entrySet
		if len(keyed) == 0 {
			kind = entryNumber
		}
		return t.rows.put(rowKey(e.row, keyed), t.write(kind, e.n, e.row))
	})
	if closed := old.close(); err == nil {
		err = closed
	}
	return err
}

func rowKey(row []change.Value, keyed []int) string {
	if len(keyed) == 0 {
		return change.RowKey(row)
	}
	values := make([]change.Value, len(keyed))
	for i, at := range keyed {
		values[i] = row[at]
	}
	return change.RowKey(values)
}

// keyed takes a row's event of a table with a key.
func (t *Table) keyed(e *change.Event) error {
	key := change.RowKey(e.KeyValues(t.key[:0]))
	switch {
	case e.Operation == change.Delete && e.Rekeyed != nil:
		stored, err := t.rows.get(key) // the row goes on under another key
		if err != nil {
			return err
		}
		if len(t.moved) > mostMoved {
			clear(t.moved)
		}
		t.moved[key] = stored
		return t.rows.put(key, t.write(entryGone, 0, nil))
	case e.Operation == change.Delete:
		return t.rows.put(key, t.write(entryGone, 0, nil))
	case e.Operation == change.Update:
		return t.rows.put(key, t.write(entryPatch, 1, e.After))
	}
	set := t.write(entrySet, 1, e.After)
	if e.Rekeyed != nil {
		was := change.RowKey(e.Rekeyed)
		if former := t.moved[was]; former != nil && change.Omits(e.After) {
			joined, err := t.join(former, t.write(entryPatch, 1, e.After))
			if err != nil {
				return err
			}
			set = joined
		}
		delete(t.moved, was)
	}
	return t.rows.put(key, set)
}

// mostMoved are the rows that wait for the second half of a changed key; it comes next.
const mostMoved = 1000

// bag takes a row's event of a table without a key: rows are counted.
func (t *Table) bag(e *change.Event) error {
	if e.Operation == change.Delete || e.Operation == change.Update && e.Before != nil {
		if err := t.rows.put(change.RowKey(e.Before), t.write(entryNumber, -1, e.Before)); err != nil {
			return err
		}
	}
	if e.Operation == change.Delete {
		return nil
	}
	return t.rows.put(change.RowKey(e.After), t.write(entryNumber, 1, e.After))
}

// Each hands out the rows in the newest schema version; a row is good during the call only.
func (t *Table) Each(f func(row []change.Value) error) error {
	return t.rows.each(func(_ string, stored []byte) error {
		e, err := t.open(stored)
		for n := e.n; err == nil && n > 0; n-- {
			err = f(e.row)
		}
		return err
	})
}

// entry is an entry of the store, in the newest version.
type entry struct {
	kind int
	n    int64 // how often the row is there
	row  []change.Value
}

// join is what an older and a newer entry of a key come to.
func (t *Table) join(older, newer []byte) ([]byte, error) {
	if len(newer) == 0 {
		return nil, errTorn
	}
	switch int(newer[0]) {
	case entrySet, entryGone:
		return newer, nil
	}
	was, err := t.open(older)
	if err != nil {
		return nil, err
	}
	is, err := t.open(newer)
	if err != nil {
		return nil, err
	}
	if is.kind == entryNumber {
		return t.write(entryNumber, was.n+is.n, is.row), nil
	}
	if was.kind == entryGone {
		return t.write(entrySet, 1, is.row), nil
	}
	return t.write(was.kind, 1, change.Completed(is.row, was.row)), nil
}

// write is an entry in its stored form: its kind, its version, how often the row is there,
// and its values.
func (t *Table) write(kind int, n int64, row []change.Value) []byte {
	size := 8
	for i := range row {
		size += 4 + len(row[i].Text)
	}
	b := append(make([]byte, 0, size), byte(kind))
	b = binary.AppendUvarint(b, uint64(len(t.versions)-1))
	b = binary.AppendVarint(b, n)
	for _, v := range row {
		b = append(b, byte(v.Presence))
		if v.Presence == change.Present {
			b = binary.AppendUvarint(b, uint64(len(v.Text)))
			b = append(b, v.Text...)
		}
	}
	return b
}

// open reads an entry, and brings its row into the newest version.
func (t *Table) open(stored []byte) (e entry, err error) {
	if len(stored) == 0 {
		return e, errTorn
	}
	e.kind = int(stored[0])
	at, width := binary.Uvarint(stored[1:])
	if width <= 0 || at >= uint64(len(t.versions)) {
		return e, errTorn
	}
	stored = stored[1+width:]
	if e.n, width = binary.Varint(stored); width <= 0 {
		return e, errTorn
	}
	stored = stored[width:]
	if e.kind == entryGone {
		return e, nil
	}
	e.row = make([]change.Value, 0, len(t.versions[at].schema.Columns))
	for range t.versions[at].schema.Columns {
		if len(stored) == 0 {
			return e, errTorn
		}
		v := change.Value{Presence: change.Presence(stored[0])}
		stored = stored[1:]
		if v.Presence == change.Present {
			size, width := binary.Uvarint(stored)
			if width <= 0 || size > uint64(len(stored)-width) {
				return e, errTorn
			}
			v.Text = stored[width : width+int(size)]
			stored = stored[width+int(size):]
		}
		e.row = append(e.row, v)
	}
	for step := int(at) + 1; step < len(t.versions); step++ {
		e.row = t.versions[step].from(t.versions[step-1].schema, e.row, e.kind == entryPatch)
	}
	return e, nil
}

var errTorn = fmt.Errorf("a row that was kept on disk cannot be read back")

// from is a row of the version before in this one. Of a patch, what a new column holds is for
// the row that it is laid over to say.
func (v *version) from(before *change.Schema, row []change.Value, patch bool) []change.Value {
	if before.Fingerprint() == v.schema.Fingerprint() && len(v.renamed) == 0 {
		return row
	}
	now := make([]change.Value, len(v.schema.Columns))
	for i, c := range v.schema.Columns {
		name := c.Name
		for _, r := range v.renamed {
			switch {
			case r.To == c.Name:
				name = r.From
			case r.From == c.Name && name == c.Name:
				name = "" // that column has another name now; this one is new
			}
		}
		if at := slices.IndexFunc(before.Columns, func(b change.Column) bool { return b.Name == name }); at >= 0 && name != "" {
			now[i] = row[at]
		} else if filled, is := v.filled[c.Name]; is && !patch {
			now[i] = filled
		} else if !v.rewrites && !patch {
			now[i] = change.NullValue()
		}
	}
	return now
}
