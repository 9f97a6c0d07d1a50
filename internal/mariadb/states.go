package mariadb

import (
	"context"
	"slices"
	"time"

	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/stream"
)

func (r *run) newTable(name string, of statement.Table) *loads.Table {
	t := &loads.Table{Name: of, ChosenBy: r.rule(name), State: engine.TableState{Table: name, Standing: change.Standing{State: engine.StateNew}}}
	r.tables[name] = t
	return t
}

// restore takes a table that is on record.
func (r *run) restore(name string, state *engine.TableState) {
	database, own, ok := change.SplitTable(name)
	if !ok {
		return
	}
	t := r.newTable(name, statement.Table{Database: database, Name: own})
	t.State = *state
	if state.State == engine.StateToLoad || state.State == engine.StateLoading || state.Progress != nil {
		t.Load = loads.RestoredLoad(state.Progress)
	}
}

// appears is for a table that is taken up with the rows that it has.
func (r *run) appears(t *loads.Table) {
	t.State.Rule = t.ChosenBy.Digest()
	r.states.TakeUp(t)
	t.KeyNote()
	r.sink.Table(t.Record())
}

// void says at a place that a table's earlier rows no longer hold, and has it read again. A
// unit is open.
func (r *run) void(t *loads.Table, why change.Reason) {
	if t.State.Schema != nil {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.State.Table, Schema: t.State.Schema, Place: r.tx.place})
	}
	r.disturbed(t)
	r.states.BeginAnew(t, why)
}

// doubt is for tables whose rows may have changed without an event; nil for all.
func (r *run) doubt(why string, of []*loads.Table) {
	for _, t := range r.tables {
		if t.ChosenBy != nil && !engine.Away(t.State.State) && (of == nil || slices.Contains(of, t)) {
			r.states.Rewritten(t, states.Unlogged(why))
		}
	}
}

// mayHaveChanged is doubt at an event that has a number in its group.
func (r *run) mayHaveChanged(why string, of []*loads.Table, number int) error {
	return r.perform([]step{{false, func() { r.doubt(why, of) }}}, number)
}

// keepRefreshing looks for tables that the log has not shown, at intervals.
func (r *run) keepRefreshing(ctx context.Context) error {
	ticker := time.NewTicker(r.config.RefreshEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		}
		if err := r.lookAgain(ctx); err != nil {
			return err
		}
		// The position is stored even if no captured table has changed: the server may purge
		// the log before it.
		r.under(func() {
			if r.at.place != r.stored {
				r.stored = r.at.place
				r.sink.Touch()
			}
		})
	}
}

func (r *run) lookAgain(ctx context.Context) error {
	conn, err := r.config.Connect(ctx, "tables")
	if err != nil {
		return err
	}
	defer conn.Close()
	reader, err := catalogue.NewReader(ctx, conn)
	if err != nil {
		return err
	}
	return r.refresh(ctx, reader, false)
}

// refresh puts tables on record that are there and that the log has not shown. first is
// set before the log is read.
func (r *run) refresh(ctx context.Context, reader *catalogue.Reader, first bool) error {
	all, err := reader.List(ctx, "", "")
	if err != nil {
		return err
	}
	if !first {
		// What was made a moment ago comes by in the log, which knows better.
		end, err := stream.LogEnd(ctx, reader.Conn)
		if err != nil {
			return err
		}
		if err := r.await(ctx, end); err != nil {
			return err
		}
	}
	r.under(func() {
		for name, listed := range all {
			r.seen(name, listed, first)
		}
		for name, t := range r.tables {
			leftOut := r.rule(name) == nil
			if leftOut && !engine.Away(t.State.State) {
				r.states.LeaveOut(t, states.NotChosen)
			}
		}
		r.states.Wake()
	})
	return r.cascades(ctx, reader)
}

// seen takes what the catalogue says of a table.
func (r *run) seen(name string, listed *catalogue.Table, first bool) {
	rule := r.rule(name)
	if rule == nil {
		return
	}
	t := r.tables[name]
	if t == nil {
		t = r.newTable(name, statement.Table{Database: listed.Database, Name: listed.Table})
		t.Listed = listed
		t.State.RowsEstimate = listed.Rows
		r.appears(t)
		return
	}
	t.ChosenBy = rule
	if first || t.Listed == nil {
		t.Listed = listed
	}
	switch {
	case t.State.State == engine.StateLeftOut, t.State.State == engine.StateLoaded:
		r.appears(t)
	case engine.Away(t.State.State), t.State.State == engine.StateNew:
		if t.State.State == engine.StateNew {
			r.appears(t)
		}
	case t.State.Rule != rule.Digest():
		t.State.Rule = rule.Digest()
		t.Version++
		r.states.Rewritten(t, states.RuleChanged)
		r.sink.Table(t.Record())
	}
	if listed.Rows != t.State.RowsEstimate && listed.Rows > 0 && t.Load == nil {
		t.State.RowsEstimate = listed.Rows
	}
}
