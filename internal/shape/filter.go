package shape

import "rillmark/internal/change"

// Filter lets events of chosen tables and operations through. The zero value
// lets everything through. Messages, which have no table, pass any choice of
// tables.
type Filter struct {
	Tables     []Pattern
	Operations []change.Operation

	seen map[string]bool // tables that were matched before
}

// Admits reports whether an event passes. It is not safe for several goroutines.
func (f *Filter) Admits(e *change.Event) bool {
	if len(f.Operations) > 0 {
		found := false
		for _, o := range f.Operations {
			found = found || o == e.Operation
		}
		if !found {
			return false
		}
	}
	return f.AdmitsTable(e.Table)
}

// AdmitsTable reports whether events of a table may pass, messages having none.
// It is not safe for several goroutines.
func (f *Filter) AdmitsTable(table string) bool {
	if len(f.Tables) == 0 || table == "" {
		return true
	}
	admitted, known := f.seen[table]
	if !known {
		for _, p := range f.Tables {
			admitted = admitted || p.Matches(table)
		}
		if f.seen == nil || len(f.seen) > 100_000 {
			f.seen = make(map[string]bool)
		}
		f.seen[table] = admitted
	}
	return admitted
}
