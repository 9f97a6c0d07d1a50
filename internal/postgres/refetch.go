package postgres

import (
	"rillmark/internal/capture/load"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

// A row that enters a table's filter is new to consumers, and the log leaves out a
// large value that the update did not touch. The row is then read by its key, as a
// load reads rows again: between two marks, laid over with what came between, as
// an event "existing" with all its values. The table goes on being followed
// meanwhile; what is to be read is on record with the insert. Where the log does not
// say whether the row was outside before, it may have been.

// askRefetch asks for a row that has entered the filter, or may have, where its image
// leaves values out. The lock is held, a unit is open.
func (r *run) askRefetch(rel *relation, place session.LSN, raw []pgoutput.TupleColumn, after []change.Value) {
	t := rel.table
	if rel.rule.Filter == nil || !change.Omits(after) {
		return
	}
	if len(rel.layout.Schema.Key()) == 0 {
		r.loads.Lacks(t, states.ByHand(refetchFailed))
		return
	}
	s := &t.State
	switch under := t.Load; {
	case under == nil && (s.State == engine.StateFollowing || s.State == engine.StateStale):
		t.Load = loads.Refetch(place)
	case under == nil, !under.Progress.Began && !under.Progress.Apart():
		return // a load that reads every row comes after this one
	case under.Progress.Kind != load.Refetch && under.Progress.Apart(), // it reads rows of its own choice, or for one outlet
		under.Progress.Kind != load.Refetch && len(under.Progress.Keys) >= loads.MaxRefetch/2: // more of them could restart the load without end
		r.loads.Lacks(t, states.ByHand(refetchFailed))
		return
	case under.Progress.Kind == load.Refetch && len(under.Progress.Keys) >= loads.MaxRefetch:
		t.Load = nil
		r.loads.Rewritten(t, refetchFailed)
		return
	}
	t.Load.Ask(rel.layout, raw, after)
	r.sink.Table(t.Record())
	r.loads.Wake()
}

var refetchFailed = change.Reason{Cause: change.CauseValueMissing, Text: "rows have entered the filter of which the log left values out, and they could not be read"}
