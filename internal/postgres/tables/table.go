// Package tables is what a run knows of a captured table: its state, which of the source's
// tables it is, and its load.
package tables

import (
	"encoding/json"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/publication"
)

// Table is a captured table through its whole run.
type Table struct {
	State  engine.TableState
	Number uint32 // in this run
	// Captured is what the newest look at the source chose it for; nil before.
	Captured *publication.Captured
	// ID is which table and which columns it was at the newest place that is known.
	ID catalogue.Identity
	// Statement is what the event trigger said of changes of the table's schema, until
	// a schema event takes it.
	Statement string
	// Doubt is why rows before the next one no longer hold: it is not known which
	// table's they are. Empty for none.
	Doubt string
	// Redefined says that a look at the source has found its rows to be written anew, with
	// other values, by a statement that the log has nothing of.
	Redefined bool
	// Told is the newest look at the source (see the run's looks) during which the stream
	// said what the table is: what that look has listed may be from before.
	Told int
	// Load is there until the table's load is complete.
	Load *loads.TableLoad
}

// Rule is the table's; nil before the first look at the source.
func (t *Table) Rule() *rules.Table {
	if t.Captured == nil {
		return nil
	}
	return t.Captured.Rule
}

// Mapped reports whether the table's rows are those of partitions.
func (t *Table) Mapped() bool {
	if t.Captured != nil {
		return t.Captured.Mapped
	}
	return t.State.Members != nil
}

var _ states.Table = (*Table)(nil)

// Status implements [states.Table].
func (t *Table) Status() *engine.TableState { return &t.State }

// Record implements [states.Table].
func (t *Table) Record() engine.TableState {
	t.State.Progress, t.State.Identity = nil, t.ID.Encode()
	if t.Load != nil {
		encoded, err := json.Marshal(t.Load.Progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.State.Progress = encoded
	}
	return t.State
}

// Task implements [states.Table].
func (t *Table) Task() *load.Task {
	if t.Load == nil {
		return nil
	}
	return &t.Load.Progress.Task
}

// StartLoad implements [states.Table].
func (t *Table) StartLoad(task load.Task) {
	t.Load = &loads.TableLoad{Ready: true, Progress: loads.Progress{Task: task}}
}

// RestartLoad implements [states.Table].
func (t *Table) RestartLoad() { t.Load.Restart() }

// EndLoad implements [states.Table].
func (t *Table) EndLoad() { t.Load = nil }
