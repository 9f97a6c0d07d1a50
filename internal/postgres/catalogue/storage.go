package catalogue

import (
	"maps"

	"rillmark/internal/capture/rules"
)

// Storage is the file in which a table's rows lie, and by which transaction each of its
// columns was defined last, by their numbers. The log has nothing of a statement that writes
// all rows anew, such as ALTER COLUMN … TYPE … USING: it changes both at once. A VACUUM FULL
// or a TRUNCATE changes the file alone, SET NOT NULL or SET STORAGE a column alone.
type Storage struct {
	File    uint32         `json:"file"`
	Defined map[int]uint32 `json:"defined"`
}

// Rewritten reports whether rows have been written anew with other values since s, for all
// that can be known.
func (s *Storage) Rewritten(now *Storage) bool {
	if s == nil || now == nil || s.File == 0 || s.File == now.File {
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
	return s.File == now.File && maps.Equal(s.Defined, now.Defined)
}

// storage is that of the columns of which a rule lets anything through.
func storage(file uint32, rule *rules.Table, n int, column func(i int) (number int, name string, defined uint32)) *Storage {
	s := &Storage{File: file, Defined: make(map[int]uint32, n)}
	for i := range n {
		if number, name, defined := column(i); rule.Treatment(name) != rules.Drop {
			s.Defined[number] = defined
		}
	}
	return s
}

// Storage is the table's under a rule.
func (l *Listed) Storage(rule *rules.Table) *Storage {
	return storage(l.file, rule, min(len(l.numbers), len(l.Columns), len(l.defined)), func(i int) (int, string, uint32) {
		return int(l.numbers[i]), l.Columns[i].Name, l.defined[i]
	})
}

// Storage is the table's under a rule; nil for one that is gone.
func (d *Described) Storage(rule *rules.Table) *Storage {
	if len(d.Columns) == 0 {
		return nil // dropped meanwhile
	}
	return storage(d.file, rule, len(d.Columns), func(i int) (int, string, uint32) {
		return d.Columns[i].number, d.Columns[i].name, d.Columns[i].defined
	})
}
