package postgres

import (
	"slices"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
)

// A row that enters a table's filter is new to consumers, and the log leaves out a
// large value that the update did not touch. The row is then read by its key, as a
// load reads rows again: between two marks, laid over with what came between, as
// an event "existing" with all its values. The table goes on being followed
// meanwhile; what is to be read is on record with the insert.

// refetch is a load of rows that have entered the filter, and of nothing else.
func refetch(from LSN) *tableLoad {
	return &tableLoad{ready: true, progress: progress{By: byKey, Began: true, Read: true, Kind: load.Refetch, From: from}}
}

// askRefetch asks for a row that has entered the filter where its image leaves
// values out. The lock is held, a unit is open.
func (r *run) askRefetch(rel *relation, raw []pgoutput.TupleColumn, after []change.Value) {
	t := rel.table
	if rel.rule.Filter == nil || !omits(after) || len(rel.layout.schema.Key()) == 0 {
		return
	}
	s := &t.state
	switch under := t.load; {
	case under == nil && (s.State == engine.StateFollowing || s.State == engine.StateStale):
		t.load = refetch(LSN(r.row.Place))
	case under == nil, !under.progress.Began && under.progress.Kind == load.Full:
		return // a load that reads every row comes after this one
	case under.progress.Kind == load.Part:
		// It reads rows of its own choice alone.
		under.progress.Then, under.progress.ThenNote = engine.StateStale, refetchFailed+reloadByHand
		r.sink.Table(t.progressState())
		return
	case under.progress.Kind == load.Refetch && len(under.progress.Keys) >= maxRefetch:
		t.load = nil
		s.State, s.Note = engine.StateStale, refetchFailed+reloadByHand
		r.sink.Table(t.progressState())
		return
	}
	t.load.ask(rel.layout, raw, after)
	r.sink.Table(t.progressState())
	r.wakeLoaders()
}

const refetchFailed = "rows have entered the filter of which the log left values out, and they could not be read"

// ask puts a row's key among those to be read again, and reports whether that is new.
func (l *tableLoad) ask(from *layout, raw []pgoutput.TupleColumn, after []change.Value) bool {
	p := &l.progress
	key := from.keyText(raw)
	if l.asked != nil {
		values := make([]change.Value, 0, 4)
		for _, i := range from.schema.Key() {
			values = append(values, after[i])
		}
		l.asked[change.RowKey(values)] = slices.Clone(key)
	}
	switch {
	case p.waits(key):
		return false
	case len(p.Keys) >= maxRefetch:
		l.restart()
	default:
		p.Keys = append(p.Keys, key)
	}
	return true
}
