// Package engine is what a kind of source has to offer, and what it gets to
// write to. Package postgres fills [Engine]; package capture runs one and fills
// [Sink]. Nothing here knows a wire format, and nothing outside of an engine's
// package does.
package engine

import (
	"context"
	"errors"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
)

// Engine reads one source. What not every engine has stands in the interfaces of
// capabilities.go.
type Engine interface {
	// Name is the engine's.
	Name() change.Engine
	// Check looks at the source without changing it: one verdict a line.
	Check(ctx context.Context) []change.Check
	// Tables lists the tables of the source and how the rules see them.
	Tables(ctx context.Context) ([]Table, error)
	// Run prepares the source where that is ours to do, loads what is to be
	// loaded, follows the log, and returns when ctx is done or with an error;
	// a [*Fault] says whether trying again can help.
	Run(ctx context.Context, start Start, sink Sink) error
	// Remove takes away what Run made on the source, and says what an administrator
	// made for it and it has no right to take away.
	Remove(ctx context.Context) (remains []string, err error)
}

// ErrComplete ends a run that was to load only: all tables are loaded.
var ErrComplete = errors.New("all tables are loaded")

// ErrCaughtUp ends a run that was to end so: all that the source had committed when
// it began is in the journal, and nothing is left to load.
var ErrCaughtUp = errors.New("caught up")

// ErrAgain ends a run that is to be begun again at once, with what is stored.
var ErrAgain = errors.New("begin again")

// Table is one table of a source.
type Table struct {
	Name          string        `json:"name" doc:"Schema-qualified name"`
	Captured      bool          `json:"captured" doc:"Whether a table rule chooses it"`
	Key           []string      `json:"key" doc:"The key's columns; empty without one"`
	RowsEstimate  int64         `json:"rows_estimate" doc:"The server's own estimate"`
	Identity      string        `json:"identity" doc:"What the log carries of an old row: key, row, index or nothing"`
	InsertsOnly   bool          `json:"inserts_only" doc:"True where publishing updates and deletes would make the application's statements fail"`
	Advice        string        `json:"advice,omitempty" doc:"What consumers will miss, and the statement that changes it"`
	PartitionOf   string        `json:"partition_of,omitempty" doc:"The partitioned table that this one is a part of"`
	CapturedAs    string        `json:"captured_as,omitempty" doc:"The table's name in events, where it is not its own"`
	Columns       []TableColumn `json:"columns" doc:"Its columns, generated ones left out"`
	CannotPublish string        `json:"cannot_publish,omitempty" doc:"Why the table cannot be captured at all"`
}

// TableColumn is one column of a table.
type TableColumn struct {
	Name string `json:"name"`
	Type string `json:"type" doc:"The engine's name of the type"`
	// Labels are an enum's, in the engine's order.
	Labels []string `json:"labels,omitempty"`
}

// The states of a table.
const (
	StateNew         = "new"            // it came a moment ago; writers who began before are waited for
	StateToLoad      = "to-load"        // its load has not begun
	StateLoading     = "loading"        // its rows are being read while it is followed
	StateFollowing   = "following"      // its changes are captured
	StateStale       = "stale"          // a schema change rewrote rows in silence: reload it
	StateLoaded      = "loaded"         // its rows are in the journal, and it is not followed
	StateUnpublished = "unpublished"    // an administrator has to publish it first
	StateNotLoaded   = "not-loaded"     // its load cannot go on, see the note; its changes are captured
	StateGone        = change.TableGone // dropped or renamed in the source
	StateLeftOut     = "left-out"       // there, and no longer chosen by the rules
)

// Away reports whether a table of that state is not captured any more.
func Away(state string) bool { return state == StateGone || state == StateLeftOut }

// TableState is what is on record of a table, in one step with the events.
type TableState = change.TableState

// Start is where a run goes on.
type Start struct {
	// Checkpoint is what the last one stored, nil at the first start.
	Checkpoint []byte
	Tables     map[string]*TableState
	// Once has the run end with [ErrCaughtUp].
	Once bool
	// Reloads asks for loads while the run goes on.
	Reloads <-chan Reload
	// Reader names the instance that runs; Former are those that ran the source before
	// and do so no longer, though a server may think so.
	Reader string
	Former []string
}

// Reload asks that a table's rows be read anew.
type Reload struct {
	Table string
	load.Ask
	// Done, which has room for one, gets nil once that is on record,
	// [ErrCannotLoad], or why the run ends.
	Done chan<- error
}

// ErrCannotLoad answers a [Reload] of a table that cannot be loaded in its state, or is
// being loaded where a part of it is asked for.
var ErrCannotLoad = errors.New("the table cannot be loaded now")

// Checkpoint is where a source would go on if the process died now.
type Checkpoint struct {
	// State is stored with the events, in the engine's own form.
	State []byte
	// Release is how much of its log the source need not keep for us once State
	// is stored, as the engine numbers it.
	Release uint64
	// Place is how far State reaches in the source's log.
	Place uint64
}

// Sink takes a run's events into the journal. All methods but Locked, Released and
// Report are called inside of Locked, and so is whatever changes what the checkpoint
// function reads.
//
// Events are added in units: all of what one message of the log brings. A block
// is never cut inside a unit, and a checkpoint lies between units.
type Sink interface {
	// Locked runs f while no other goroutine of the run is in f, and returns its error.
	Locked(f func() error) error
	// Unlocked, called inside of Locked, lets the others in while f runs.
	Unlocked(f func() error) error
	// Checkpoint gives the function that the sink calls, with the lock held, at
	// a unit's end.
	Checkpoint(func() Checkpoint)
	// Reserve begins a unit. It waits, with the lock released, while too much is
	// on its way to the journal; its error is the run's end.
	Reserve() error
	// Begin opens a transaction. next is the index of its next event: more than
	// zero where the earlier ones are in the journal already. origin names the
	// server that it came from by replication, if any.
	Begin(id, origin string, commitTime int64, next uint64)
	// Add adds one event to the open transaction.
	Add(row *change.Row)
	// Next is the index that the transaction's next event gets.
	Next() uint64
	// Commit ends the transaction.
	Commit()
	// Table puts a table's state on record in the same step as all that was
	// added so far, and no later event.
	Table(TableState)
	// Touch asks that the checkpoint be stored soon although no event came.
	Touch()
	// Store stores the checkpoint now, with the tables' states, and waits for it. It is
	// for the goroutine that reads the log, and for a run that ends with it: a block that
	// is closed behind a transaction's last event does not say that it was the last.
	Store(ctx context.Context) error
	// StoreWhole is Store for any other goroutine: it waits for the next unit, or for the
	// transaction's end.
	StoreWhole(ctx context.Context) error
	// Released is the Release of the newest checkpoint that is stored.
	Released() uint64
	// Report describes the run, for the log of the run and the status page.
	Report(Report)
}

// Report is one thing that happened in a run, or what it is doing.
type Report struct {
	Level   string // info, warn or error
	Event   string // a stable word: connected, slot-created, load-began ...
	Message string
	// Doing, where not empty, replaces what the status page says is going on.
	Doing string
	// Preparing says that what it is doing comes before anything is followed.
	Preparing bool
}
