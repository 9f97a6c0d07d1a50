package mariadb

import (
	"encoding/json"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/values"
)

// table is a captured table through its whole run.
type table struct {
	state     engine.TableState
	name      statement.Table
	rule      *rules.Table
	listed    *catalogue.Table // what the newest look at the catalogue said; nil before
	load      *tableLoad
	statement string // what schema statements did since the last schema event
	renamed   []change.Rename
	// bindings are its table maps, which a statement makes void.
	version int
}

var _ states.Table = (*table)(nil)

// Status implements [states.Table].
func (t *table) Status() *engine.TableState { return &t.state }

// Record implements [states.Table].
func (t *table) Record() engine.TableState {
	t.state.Progress = nil
	if t.load != nil {
		encoded, err := json.Marshal(t.load.progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.state.Progress = encoded
	}
	return t.state
}

// Rule implements [states.Table].
func (t *table) Rule() *rules.Table { return t.rule }

// Task implements [states.Table].
func (t *table) Task() *load.Task {
	if t.load == nil {
		return nil
	}
	return &t.load.progress.Task
}

// Load implements [states.Table].
func (t *table) StartLoad(task load.Task) { t.load = &tableLoad{progress: progress{Task: task}} }

// Restart implements [states.Table].
func (t *table) RestartLoad() { t.load.restart() }

// Unload implements [states.Table].
func (t *table) EndLoad() { t.load = nil }

// binding is a table map, and what its rows become.
type binding struct {
	body    []byte // the map's, to know it again
	table   *table // nil where the rules leave it out
	version int    // of the table, when it was bound
	width   int
	columns []*values.Column
	layout  *rows.Layout
	// adopted is true once its version is the table's on record.
	adopted bool
	filled  []bool
	key     string // the table's name, for digests
	name    string // the same as events have it
	// transactional is false of a table whose rows stay when its group is rolled back.
	transactional bool
	// merged is true of a table that is a union of MyISAM tables: its rows are theirs.
	merged bool
}
