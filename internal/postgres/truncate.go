package postgres

import (
	"fmt"

	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// truncate is one event a table, all in one unit. Where a partition is truncated
// and others of its root's are not, no event says what went.
func (r *run) truncate(m *pgoutput.Truncate, start session.LSN) error {
	var one []*relation // of each table
	truncated := make(map[*tables.Table]map[uint32]bool)
	for _, oid := range m.Relations {
		rel := r.relations[oid]
		if rel == nil {
			return &engine.Fault{Code: "cannot-decode", Final: true, Message: fmt.Sprintf("the truncate at %s of the log names table %d, which was not announced", start, oid)}
		}
		if rel.skipped {
			continue
		}
		r.notYetVisible.Note(r.tx.XID, rel.table.Number)
		if truncated[rel.table] == nil {
			truncated[rel.table] = make(map[uint32]bool)
			one = append(one, rel)
		}
		truncated[rel.table][oid] = true
	}
	var whole []*relation
	var partly []*tables.Table
	for _, rel := range one {
		if r.isWhole(rel.table, truncated[rel.table]) {
			whole = append(whole, rel)
		} else {
			partly = append(partly, rel.table)
		}
	}
	brings := len(whole) > 0
	for _, t := range partly {
		brings = brings || t.State.Schema != nil
	}
	isNew, err := r.arrive(start, brings)
	if err != nil || !isNew {
		return err
	}
	for _, rel := range whole {
		r.adopt(rel.table, rel.layout, start)
		body := change.TruncateBody(m.Flags&1 != 0, m.Flags&2 != 0)
		r.sink.Add(&change.Row{Operation: change.Truncate, Table: rel.layout.Name, Schema: rel.layout.Schema, Place: uint64(start), Body: body})
		if load := rel.table.Load; load != nil {
			load.ObserveTruncate()
		}
	}
	for _, t := range partly {
		r.void(t, states.Unlogged("one of its partitions was truncated, and its rows went without an event"), start)
	}
	return nil
}

// isWhole reports whether everything that may hold rows of a table was truncated: the
// tables on record, and those that the stream has announced since.
func (r *run) isWhole(t *tables.Table, truncated map[uint32]bool) bool {
	for oid := range t.ID.Members {
		if !truncated[oid] {
			return false
		}
	}
	for oid, rel := range r.relations {
		if rel.table == t && !truncated[oid] && t.Mapped() && r.owners[oid] != t && !rel.moved && rel.layout.OID != oid {
			return false
		}
	}
	return true
}
