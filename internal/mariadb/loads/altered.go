package loads

import (
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/statement"
)

// Altered notes which columns a statement has renamed, and whether rows have other values for
// it, now being the version that the catalogue has: one that it drops may have come back.
// To the server the names of columns are the same whatever their case.
func (t *Table) Altered(e statement.Effect, now *change.Schema) {
	old := t.State.Schema
	if old == nil {
		return
	}
	t.Lossy = t.Lossy || e.Lossy
	t.Redefined = t.Redefined || e.Generated || e.Recoded && e.Lossy
	isNow := func(name string) bool {
		return slices.ContainsFunc(now.Columns, func(c change.Column) bool { return c.Name == name })
	}
	gone := make(map[string]bool)
	for _, name := range e.Dropped {
		name = t.column(name)
		gone[name] = true
		t.Redefined = t.Redefined || isNow(name)
	}
	pairs := make(map[string]string) // all of them from names of before
	for _, pair := range e.Columns {
		pairs[t.column(pair[0])] = pair[1]
	}
	t.rename(pairs)
	for _, c := range old.Columns {
		name := t.column(c.Name)
		if isNow(name) || gone[name] {
			continue
		}
		// MODIFY gives a column the case in which the statement writes its name.
		at := slices.IndexFunc(now.Columns, func(c change.Column) bool { return strings.EqualFold(c.Name, name) })
		if at >= 0 {
			t.rename(map[string]string{name: now.Columns[at].Name})
		}
	}
}

// Defined takes note of the types that a statement gives columns.
func (t *Table) Defined(e statement.Effect) {
	for _, pair := range e.Columns {
		from := strings.ToLower(pair[0])
		if kind, is := t.Stated[from]; is {
			delete(t.Stated, from)
			t.Stated[strings.ToLower(pair[1])] = kind
		}
	}
	for _, c := range e.Defined {
		if t.Stated == nil {
			t.Stated = make(map[string]string)
		}
		t.Stated[strings.ToLower(c.Name)] = c.Type
		if !c.Added {
			delete(t.Filled, strings.ToLower(c.Name)) // it may have another type now
			continue
		}
		if t.Filled == nil {
			t.Filled = make(map[string]statement.Column)
		}
		t.Filled[strings.ToLower(c.Name)] = c
	}
	for _, pair := range e.Columns {
		delete(t.Filled, strings.ToLower(pair[0])) // under another name it is not looked for
	}
	for _, name := range e.Dropped {
		delete(t.Filled, strings.ToLower(name))
	}
}

// Ahead reports whether a version that the catalogue has is one of after the statement that is being
// read: it has a column that neither the last version nor a statement so far has brought.
func (t *Table) Ahead(e statement.Effect, now *change.Schema) bool {
	if t.State.Schema == nil {
		return false
	}
	return slices.ContainsFunc(now.Columns, func(c change.Column) bool {
		is := func(name string) bool { return strings.EqualFold(name, c.Name) }
		_, stated := t.Stated[strings.ToLower(c.Name)]
		return !stated && !slices.ContainsFunc(t.State.Schema.Columns, func(old change.Column) bool { return is(old.Name) }) &&
			!slices.ContainsFunc(t.Renamed, func(one change.Rename) bool { return is(one.To) }) &&
			!slices.ContainsFunc(e.Columns, func(pair [2]string) bool { return is(pair[1]) }) &&
			!slices.ContainsFunc(e.Defined, func(added statement.Column) bool { return is(added.Name) })
	})
}

// rename gives columns other names at once. Each column is there once, with its name in the
// old version and the one that it has now.
func (t *Table) rename(pairs map[string]string) {
	for i := range t.Renamed {
		one := &t.Renamed[i]
		if to, again := pairs[one.To]; again {
			delete(pairs, one.To)
			one.To = to
		}
	}
	for _, c := range t.State.Schema.Columns {
		if to, is := pairs[c.Name]; is && to != c.Name {
			t.Renamed = append(t.Renamed, change.Rename{From: c.Name, To: to})
		}
	}
}

// column is the name of a column after the statements since the last schema event; as it is
// written where there is none.
func (t *Table) column(written string) string {
	for _, c := range t.State.Schema.Columns {
		name := c.Name
		for _, one := range t.Renamed {
			if one.From == name {
				name = one.To
			}
		}
		if strings.EqualFold(name, written) {
			return name
		}
	}
	return written
}
