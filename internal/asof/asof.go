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
	count    int64
	begun    bool
	loading  int64 // the offset of the void of a load that is not complete; 0 for none
	inexact  string
	image    []change.Value
	other    []change.Value
}

// version is a schema version with what led to it.
type version struct {
	schema  *change.Schema
	renamed []change.Rename
	// rewrites says that rows have changed without events: what a new column holds is not
	// known.
	rewrites bool
}

// New is an empty table that keeps up to limit bytes in memory, and more in a file in dir.
func New(dir string, limit int) *Table {
	return &Table{rows: store{dir: dir, limit: limit}, moved: make(map[string][]byte)}
}

// Close lets go of what the table holds on disk.
func (t *Table) Close() error { return t.rows.close() }

// Rows is how many rows there are.
func (t *Table) Rows() int64 { return t.count }

// Schema is the newest version; nil before the first event.
func (t *Table) Schema() *change.Schema {
	if len(t.versions) == 0 {
		return nil
	}
	return t.versions[len(t.versions)-1].schema
}

// Begun reports whether a load, or the table's making, was among the events: without one,
// rows that have not changed are missing.
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
		t.count = 0
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
		t.count, t.begun, t.loading = 0, true, 0
		return t.rows.empty()
	}
	if c.Previous == nil {
		t.begun = true
	}
	if c.Rewrites && t.count > 0 {
		t.inexact = fmt.Sprintf("rows have changed without events at offset %d, and the table has not been loaded anew since", e.Offset)
	}
	return t.become(version{schema: e.Schema, renamed: c.Renamed, rewrites: c.Rewrites})
}

// become goes on with another schema version.
func (t *Table) become(v version) error {
	before := t.Schema()
	t.versions = append(t.versions, v)
	if before == nil || slices.Equal(keyNames(before, nil), keyNames(v.schema, v.renamed)) {
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
	t.rows = store{dir: old.dir, limit: old.limit}
	t.count = 0
	keyed := t.Schema().Key()
	err := old.each(func(stored []byte) error {
		n, row, err := t.read(stored)
		if err != nil {
			return err
		}
		key := rowKey(row, keyed)
		t.count++
		return t.rows.put(key, t.write(n, row))
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
	key := change.RowKey(e.KeyValues(t.other[:0]))
	stored, err := t.rows.get(key)
	if err != nil {
		return err
	}
	if e.Operation == change.Delete {
		if e.Rekeyed != nil && stored != nil {
			t.moved[key] = slices.Clone(stored)
		}
		if stored != nil {
			t.count--
		}
		return t.rows.put(key, nil)
	}
	if stored == nil {
		t.count++
	}
	if e.Operation != change.Update {
		stored = nil // the row comes whole
		if e.Rekeyed != nil {
			was := change.RowKey(e.Rekeyed)
			stored = t.moved[was]
			delete(t.moved, was)
		}
	}
	row := e.After
	if stored != nil && change.Omits(row) {
		_, former, err := t.read(stored)
		if err != nil {
			return err
		}
		for i := range former {
			if row[i].Presence != change.Omitted {
				former[i] = row[i]
			}
		}
		row = former
	}
	return t.rows.put(key, t.write(1, row))
}

// bag takes a row's event of a table without a key: rows are counted.
func (t *Table) bag(e *change.Event) error {
	if e.Operation == change.Delete || e.Operation == change.Update && e.Before != nil {
		if err := t.tally(e.Before, -1); err != nil {
			return err
		}
	}
	if e.Operation == change.Delete {
		return nil
	}
	return t.tally(e.After, 1)
}

func (t *Table) tally(row []change.Value, by int64) error {
	key := change.RowKey(row)
	stored, err := t.rows.get(key)
	if err != nil {
		return err
	}
	n := by
	if stored != nil {
		had, _, err := t.read(stored)
		if err != nil {
			return err
		}
		n += had
	}
	t.count += by
	if n == 0 {
		return t.rows.put(key, nil)
	}
	return t.rows.put(key, t.write(n, row))
}

// Each hands out the rows in the newest schema version; a row is good during the call only.
func (t *Table) Each(f func(row []change.Value) error) error {
	return t.rows.each(func(stored []byte) error {
		n, row, err := t.read(stored)
		for ; err == nil && n > 0; n-- {
			err = f(row)
		}
		return err
	})
}

// write is a row in its stored form: its version, how often it is there, and its values.
func (t *Table) write(n int64, row []change.Value) []byte {
	b := binary.AppendUvarint(make([]byte, 0, 128), uint64(len(t.versions)-1))
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

// read is a stored row in the newest version, in room that the next call uses again.
func (t *Table) read(stored []byte) (n int64, row []change.Value, err error) {
	at, width := binary.Uvarint(stored)
	if width <= 0 || at >= uint64(len(t.versions)) {
		return 0, nil, errTorn
	}
	stored = stored[width:]
	if n, width = binary.Varint(stored); width <= 0 {
		return 0, nil, errTorn
	}
	stored = stored[width:]
	row = t.image[:0]
	for range t.versions[at].schema.Columns {
		if len(stored) == 0 {
			return 0, nil, errTorn
		}
		v := change.Value{Presence: change.Presence(stored[0])}
		stored = stored[1:]
		if v.Presence == change.Present {
			size, width := binary.Uvarint(stored)
			if width <= 0 || size > uint64(len(stored)-width) {
				return 0, nil, errTorn
			}
			v.Text = stored[width : width+int(size)]
			stored = stored[width+int(size):]
		}
		row = append(row, v)
	}
	t.image = row
	for step := int(at) + 1; step < len(t.versions); step++ {
		row = t.versions[step].from(t.versions[step-1].schema, row)
	}
	return n, row, nil
}

var errTorn = fmt.Errorf("a row that was kept on disk cannot be read back")

// from is a row of the version before in this one.
func (v *version) from(before *change.Schema, row []change.Value) []change.Value {
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
		} else if !v.rewrites {
			now[i] = change.NullValue()
		}
	}
	return now
}
