package loads

import (
	"encoding/json"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/statement"
)

// Table is a captured table through its whole run.
type Table struct {
	State     engine.TableState
	Name      statement.Table
	ChosenBy  *rules.Table     // the rule; nil where none does
	Listed    *catalogue.Table // what the newest look at the catalogue said; nil before
	Load      *TableLoad
	Statement string // what schema statements did since the last schema event
	Session   uint32 // which ran the last of them
	Renamed   []change.Rename
	// Stated are the types that statements have given its columns, by their names in lower case:
	// what the log does not say of them.
	Stated map[string]string
	// Filled are columns that statements have added since the last schema event, by their names in
	// lower case: rows that are there have got their defaults.
	Filled map[string]statement.Column
	// Made says that a statement has made it, and no version of it is in an event yet.
	Made bool
	// Redefined says that a column was dropped and another has its name now.
	Redefined bool
	// Lossy says that a statement has altered it that was free to cut values.
	Lossy bool
	// bindings are its table maps, which a statement makes void.
	Version int
}

var _ states.Table = (*Table)(nil)

// Status implements [states.Table].
func (t *Table) Status() *engine.TableState { return &t.State }

// Record implements [states.Table].
func (t *Table) Record() engine.TableState {
	t.State.Progress = nil
	if t.Load != nil {
		encoded, err := json.Marshal(t.Load.Progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.State.Progress = encoded
	}
	return t.State
}

// Rule implements [states.Table].
func (t *Table) Rule() *rules.Table { return t.ChosenBy }

// Task implements [states.Table].
func (t *Table) Task() *load.Task {
	if t.Load == nil {
		return nil
	}
	return &t.Load.Progress.Task
}

// Load implements [states.Table].
func (t *Table) StartLoad(task load.Task) { t.Load = &TableLoad{Progress: Progress{Task: task}} }

// Restart implements [states.Table].
func (t *Table) RestartLoad() { t.Load.Restart() }

// Unload implements [states.Table].
func (t *Table) EndLoad() { t.Load = nil }

// KeyNote says of a table that is followed whether it has a key.
func (t *Table) KeyNote() {
	if t.State.State != engine.StateFollowing || t.Listed == nil {
		return
	}
	t.State.Cause, t.State.Note = "", ""
	if len(t.Listed.Key()) == 0 && len(t.ChosenBy.Key) == 0 {
		t.State.Standing = states.NoKey.For(engine.StateFollowing)
	}
}
