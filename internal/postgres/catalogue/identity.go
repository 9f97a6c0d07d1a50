package catalogue

import (
	"encoding/json"
	"slices"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/postgres/pgoutput"
)

// Names are no identities: a column, or a table, may go and another come under its
// name, and two may swap theirs. What stays is a table's OID and a column's number
// in it (attnum). Both are on record of each captured table, as of the newest place
// in the log at which they are known, and decide what a change was. A Relation
// message has names and types alone; identify says which numbers they belong to.

// Identity is what is on record of a table besides its schema version. Of a table
// that is captured under its root's name it is the root's.
type Identity struct {
	OID uint32 `json:"oid,omitempty"`
	// Columns are those of the newest schema event; Latest, where there are any, what
	// the event trigger has told since.
	Columns []Column `json:"columns,omitempty"`
	Latest  []Column `json:"latest,omitempty"`
	// Members are the tables that hold the rows, by OID: the table itself, or the
	// partitions of a root.
	Members map[uint32]string `json:"members,omitempty"`
	// Attached names the transactions that attached each partition to its root, by OID; empty
	// where they are not known.
	Attached map[uint32]string `json:"attached,omitempty"`
	// Guests are tables whose rows have carried a root's name, and that no look at the
	// source has found among its partitions yet: one may leave before that.
	Guests map[uint32]string `json:"guests,omitempty"`
	// Storages are where the rows of members lie, by OID.
	Storages map[uint32]*Storage `json:"storages,omitempty"`
	// Keyless says that the table was loaded without a key.
	Keyless bool `json:"keyless,omitempty"`
}

// Newest are the columns at the newest place that is known.
func (id *Identity) Newest() []Column {
	if id.Latest != nil {
		return id.Latest
	}
	return id.Columns
}

// Column is one of a table's columns, as it was in the log.
type Column struct {
	Number int             `json:"number"` // 0 where it is not known
	Name   string          `json:"name"`
	Type   uint32          `json:"type,omitempty"` // 0 where it is not known
	Mod    int32           `json:"mod,omitempty"`
	Treat  rules.Treatment `json:"treat,omitempty"` // empty for a column that is kept
}

// CameBack reports whether any partition has been detached and attached again since it was
// put on record; attached is what a look has found.
func (id *Identity) CameBack(attached map[uint32]string) bool {
	for oid, how := range attached {
		if was := id.Attached[oid]; was != "" && was != how {
			return true
		}
	}
	return false
}

// Store takes where the rows of a member lie now, and reports whether they have been
// written anew with other values, and whether anything is otherwise than on record.
func (id *Identity) Store(oid uint32, now *Storage) (rewritten, changed bool) {
	was := id.Storages[oid]
	if now == nil || was.Equal(now) {
		return false, false
	}
	if id.Storages == nil {
		id.Storages = make(map[uint32]*Storage)
	}
	id.Storages[oid] = now
	return was.Rewritten(now), true
}

func (id *Identity) Encode() []byte {
	encoded, err := json.Marshal(id)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	return encoded
}

// ParseIdentity reads what encode wrote; nothing is known of a table that an earlier
// version has put on record.
func ParseIdentity(data []byte) Identity {
	var id Identity
	if len(data) > 0 && json.Unmarshal(data, &id) != nil {
		return Identity{}
	}
	return id
}

// Known reports whether all numbers are.
func Known(columns []Column) bool {
	return len(columns) > 0 && !slices.ContainsFunc(columns, func(c Column) bool { return c.Number == 0 })
}

// Fits reports whether a Relation message's columns may be these: the same names and,
// where they are known, types, in the same order, or in any where they are a root's.
func Fits(columns []Column, message []pgoutput.RelationColumn, anyOrder bool) bool {
	if len(columns) != len(message) {
		return false
	}
	for i, m := range message {
		c := &columns[i]
		if anyOrder {
			at := slices.IndexFunc(columns, func(c Column) bool { return c.Name == m.Name })
			if at < 0 {
				return false
			}
			c = &columns[at]
		}
		if c.Name != m.Name || c.Type != 0 && (c.Type != m.TypeOID || c.Mod != m.TypeMod) {
			return false
		}
	}
	return true
}

// numbersOf are the numbers of a message's columns among columns that fit.
func numbersOf(columns []Column, message []pgoutput.RelationColumn) []int {
	numbers := make([]int, len(message))
	for i, m := range message {
		numbers[i] = columns[slices.IndexFunc(columns, func(c Column) bool { return c.Name == m.Name })].Number
	}
	return numbers
}

// ColumnChanges is what has become of a table's columns.
type ColumnChanges struct {
	Renamed []change.Rename
	// Redefined says that a column has gone and another has come under its name.
	Redefined bool
	// Known is false where a number is not: names tell then, as far as they can.
	Known bool
	// from are the former names of the columns that were there before.
	from map[string]string
}

func ChangesOf(before, now []Column) ColumnChanges {
	c := ColumnChanges{Known: Known(before) && Known(now), from: make(map[string]string, len(now))}
	if !c.Known {
		return c
	}
	for _, n := range now {
		at := slices.IndexFunc(before, func(b Column) bool { return b.Number == n.Number })
		if at >= 0 {
			c.from[n.Name] = before[at].Name
			if before[at].Name != n.Name {
				c.Renamed = append(c.Renamed, change.Rename{From: before[at].Name, To: n.Name})
			}
			continue
		}
		was := slices.IndexFunc(before, func(b Column) bool { return b.Name == n.Name })
		gone := was >= 0 && !slices.ContainsFunc(now, func(other Column) bool { return other.Number == before[was].Number })
		c.Redefined = c.Redefined || gone
	}
	return c
}

// Columns are the layout's, as they go on record.
func (l *Layout) Columns() []Column {
	columns := make([]Column, len(l.Raw))
	for i, c := range l.Raw {
		columns[i] = Column{Number: c.number, Name: c.Name, Type: c.typeOID, Mod: c.typeMod}
		if treat := l.Rule.Treatment(c.Name); treat != rules.Keep {
			columns[i].Treat = treat
		}
	}
	if l.rootOrder {
		slices.SortStableFunc(columns, func(a, b Column) int { return a.Number - b.Number })
	}
	return columns
}

// SameSet reports whether both have the same numbers under the same names.
func SameSet(a, b []Column) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(c Column) bool {
		return !slices.ContainsFunc(b, func(d Column) bool { return c.Number == d.Number && c.Name == d.Name })
	})
}
