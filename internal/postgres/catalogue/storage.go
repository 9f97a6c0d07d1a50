package catalogue

import (
	"maps"
	"slices"

	"rillmark/internal/capture/rules"
)

// Storage is the file in which a table's rows lie, and by which transaction each of its
// columns was defined last, by their numbers. The log has nothing of a statement that writes
// all rows anew, such as ALTER COLUMN … TYPE … USING: it changes both at once. A VACUUM FULL
// or a TRUNCATE changes the file alone, SET NOT NULL or SET STORAGE a column alone.
type Storage struct {
	File    uint32         `json:"file"`
	Defined map[int]uint32 `json:"defined"`
	// Texts says how values of user-defined types are written, by type: an ALTER TYPE changes
	// what all rows read as, and the log has nothing of it either.
	Texts map[uint32]*TypeText `json:"texts,omitempty"`
}

// TypeText is what the text of a type's values depends on.
type TypeText struct {
	// Labels are an enum's, by the number that each keeps whatever its name is.
	Labels map[uint32]string `json:"labels,omitempty"`
	// Attributes are the numbers of a composite type's.
	Attributes []int32 `json:"attributes,omitempty"`
}

// otherwise reports whether values that were there are written otherwise now.
func (t *TypeText) otherwise(now *TypeText) bool {
	for number, label := range t.Labels {
		if since, there := now.Labels[number]; there && since != label {
			return true
		}
	}
	return !slices.Equal(t.Attributes, now.Attributes)
}

func (t *TypeText) equal(other *TypeText) bool {
	return maps.Equal(t.Labels, other.Labels) && slices.Equal(t.Attributes, other.Attributes)
}

// Rewritten reports whether rows have been written anew, or read as other values, since s, for
// all that can be known.
func (s *Storage) Rewritten(now *Storage) bool {
	if s == nil || now == nil {
		return false
	}
	for oid, text := range s.Texts {
		if since := now.Texts[oid]; since != nil && text.otherwise(since) {
			return true
		}
	}
	if s.File == 0 || s.File == now.File {
		return false
	}
	for number, defined := range s.Defined {
		if since, there := now.Defined[number]; there && since != defined {
			return true
		}
	}
	return false
}

// InPlace reports whether the rows lie where they lay: no statement has written them anew.
func (s *Storage) InPlace(now *Storage) bool {
	return s != nil && now != nil && s.File != 0 && s.File == now.File
}

// Equal reports whether nothing is otherwise.
func (s *Storage) Equal(now *Storage) bool {
	if s == nil || now == nil {
		return s == now
	}
	return s.File == now.File && maps.Equal(s.Defined, now.Defined) && maps.EqualFunc(s.Texts, now.Texts, (*TypeText).equal)
}

// storage is that of the columns of which a rule lets anything through.
func storage(file uint32, types map[uint32]*typeRow, rule *rules.Table, n int, column func(i int) (number int, name string, defined, typeOID uint32)) *Storage {
	s := &Storage{File: file, Defined: make(map[int]uint32, n)}
	for i := range n {
		number, name, defined, typeOID := column(i)
		if rule.Treatment(name) == rules.Drop {
			continue
		}
		s.Defined[number] = defined
		if typeOID < firstUserOID {
			continue
		}
		eachWithin(types, typeOID, func(t *typeRow) {
			if t.text == nil {
				return
			}
			if s.Texts == nil {
				s.Texts = make(map[uint32]*TypeText)
			}
			s.Texts[t.oid] = t.text
		})
	}
	return s
}

// Storage is the table's under a rule.
func (l *Listed) Storage(rule *rules.Table) *Storage {
	return storage(l.file, l.types, rule, min(len(l.numbers), len(l.Columns), len(l.defined), len(l.typeOIDs)), func(i int) (int, string, uint32, uint32) {
		return int(l.numbers[i]), l.Columns[i].Name, l.defined[i], l.typeOIDs[i]
	})
}

// Storage is the table's under a rule; nil for one that is gone.
func (d *Described) Storage(rule *rules.Table) *Storage {
	if len(d.Columns) == 0 {
		return nil // dropped meanwhile
	}
	return storage(d.file, d.types, rule, len(d.Columns), func(i int) (int, string, uint32, uint32) {
		c := &d.Columns[i]
		return c.number, c.name, c.defined, c.typeOID
	})
}
