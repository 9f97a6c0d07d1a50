package load

import (
	"slices"

	"rillmark/internal/change"
)

// MaxOverlay bounds what a load holds of the log for the rows that it is reading, in bytes.
const MaxOverlay = 16 << 20

// Change is what the log says of a row that is being read meanwhile.
type Change struct {
	// Was and Is are the row's key before and after, as [change.RowKey] has it: Is is empty
	// for a row that is deleted, Was for one that is new.
	Was, Is string
	// After is the row as it is then, of which the log may leave values out.
	After []change.Value
}

// ChangeOf is a change with copies of what it is made of: the keys, nil where there is none,
// and the row.
func ChangeOf(was, is, after []change.Value) Change {
	c := Change{After: change.CloneImage(after)}
	if len(was) > 0 {
		c.Was = change.RowKey(was)
	}
	if len(is) > 0 {
		c.Is = change.RowKey(is)
	}
	return c
}

// Size is about what the change holds, in bytes.
func (c *Change) Size() int {
	size := 160 + len(c.Was) + len(c.Is)
	for _, v := range c.After {
		size += 32 + len(v.Text)
	}
	return size
}

// LayOver applies changes to rows of a schema version that were read, and returns those that
// are there afterwards, in the same slice. A row that is not among them is in its own event.
func LayOver[C any](rows [][]change.Value, schema *change.Schema, changes []C, of func(*C) *Change) [][]change.Value {
	if len(changes) == 0 {
		return rows
	}
	keyed := schema.Key()
	byKey := make(map[string]int, len(rows))
	key := make([]change.Value, len(keyed))
	for i, row := range rows {
		for j, at := range keyed {
			key[j] = row[at]
		}
		byKey[change.RowKey(key)] = i
	}
	for n := range changes {
		c := of(&changes[n])
		which := c.Was
		if which == "" {
			which = c.Is
		}
		i, found := byKey[which]
		switch {
		case !found:
			continue
		case c.Is == "":
			rows[i] = nil
			delete(byKey, which)
			continue
		}
		for column, v := range c.After {
			if v.Presence != change.Omitted {
				rows[i][column] = v
			}
		}
		if c.Is != which {
			delete(byKey, which)
			byKey[c.Is] = i
		}
	}
	return slices.DeleteFunc(rows, func(row []change.Value) bool { return row == nil })
}
