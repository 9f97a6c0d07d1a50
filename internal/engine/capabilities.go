package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/move"
	"rillmark/internal/verify"
)

// Capability names what an engine may offer besides [Engine].
type Capability string

// The capabilities, each with its interface.
const (
	CanScript    Capability = "scripts"      // [Scripter]
	CanTry       Capability = "trial"        // [Trier]
	CanCondition Capability = "condition"    // [ConditionChecker]
	CanRetain    Capability = "retained_log" // [LogRetainer]
	CanCompare   Capability = "verify"       // [Comparer]
	CanMove      Capability = "cutover"      // [Mover]
	CanRehearse  Capability = "impact"       // [Rehearser]
)

// Scripter prepares a source by scripts that an administrator reads and runs.
type Scripter interface {
	// SetupSQL is what an administrator runs on the source so that the login
	// needs no other right; TeardownSQL takes it away. Both can be run again.
	SetupSQL() string
	TeardownSQL() string
	// StatementsSQL is what has the source write the text of each statement that
	// changes a schema into its log.
	StatementsSQL() string
	// RunScript runs one of them whole or not at all, as another login where user
	// is not empty.
	RunScript(ctx context.Context, script, user, password string) error
}

// ConditionChecker reads parts of a table that a condition chooses.
type ConditionChecker interface {
	// CheckCondition says why a condition in the engine's own language cannot
	// choose the rows of a table that a reload reads.
	CheckCondition(ctx context.Context, table, condition string) error
	// KeysCondition is the condition for the rows of some keys, each with a value for
	// every column, in the form that events have them. The values are those of numbers,
	// dates, UUIDs, or text without control characters and backslashes.
	KeysCondition(columns []string, keys [][]string) string
}

// Trier follows a source without storing anything.
type Trier interface {
	// Try follows the chosen tables until ctx is done and leaves nothing behind on
	// the source. ready is called once every later change will come; each gets the
	// events, good during the call only, and ends the trial by its error.
	Try(ctx context.Context, ready func(), each func(tx *change.OpenTransaction, row *change.Row) error) error
}

// LogRetainer knows how much of its log a source keeps because of us, or still has for us.
type LogRetainer interface {
	// RetainedLog asks the source; checkpoint is the newest that is stored, nil without one.
	RetainedLog(ctx context.Context, checkpoint []byte) (RetainedLog, error)
}

// Comparer reads rows for a comparison with what an outlet has made of them.
type Comparer interface {
	// CompareRows begins to read a captured table as events have its rows.
	CompareRows(ctx context.Context, table string) (verify.Side, error)
	// Present is how far the source's log reaches now, as [Checkpoint.Place] counts: what
	// was committed before is in it.
	Present(ctx context.Context) (uint64, error)
}

// Mover says what a move to another database has to carry besides rows.
type Mover interface {
	// Inventory is what the source has besides the rows of some of its tables.
	Inventory(ctx context.Context, tables []string) (*move.Inventory, error)
	// Writers are the scripts, for [Scripter.RunScript], that keep writers out and let
	// them in again.
	Writers() move.Writers
}

// Rehearser runs statements that change a table's definition where they do no harm.
type Rehearser interface {
	// Rehearse runs one statement on empty copies of the captured tables that it changes, one at
	// least, in the scratch database at an address, of which nothing stays. The source is only
	// asked for definitions.
	Rehearse(ctx context.Context, scratch, statement string) ([]*Rehearsal, error)
}

// Rehearsal is what a statement does to the definition of a captured table.
type Rehearsal struct {
	Table string
	// Before and After are the versions as the rules make them; After is nil where the table
	// goes, or is no longer chosen.
	Before, After *change.Schema
	// Name is the table's name afterwards; empty where it is gone.
	Name    string
	Renamed []change.Rename
	// Rewrites says that rows change without an event each.
	Rewrites bool
	// Filled are the values that rows which are there get in new columns, where they are known.
	Filled map[string]json.RawMessage
	// InsertsOnly says that updates and deletes are not captured afterwards, since nothing says
	// which row they are about.
	InsertsOnly bool
	// Exposes is a private column that would have another name, which no rule decides about;
	// the source holds there.
	Exposes string
}

// Capabilities are what an engine offers, in the order of the constants.
func Capabilities(e Engine) []Capability {
	all := []Capability{}
	if _, can := e.(Scripter); can {
		all = append(all, CanScript)
	}
	if _, can := e.(Trier); can {
		all = append(all, CanTry)
	}
	if _, can := e.(ConditionChecker); can {
		all = append(all, CanCondition)
	}
	if _, can := e.(LogRetainer); can {
		all = append(all, CanRetain)
	}
	if _, can := e.(Comparer); can {
		all = append(all, CanCompare)
	}
	if _, can := e.(Mover); can {
		all = append(all, CanMove)
	}
	if _, can := e.(Rehearser); can {
		all = append(all, CanRehearse)
	}
	return all
}

// Lacks is the fault of a request that needs a capability which the engine has not.
func Lacks(name change.Engine, c Capability) *Fault {
	return &Fault{Code: "not-supported", Message: fmt.Sprintf("the engine %s does not support %q", name, c),
		Fix: "`rillmark source engines` lists what each engine supports"}
}

// KeysIn is a condition for the rows of some keys as most servers take it, with the
// server's way to quote a name; see [ConditionChecker] for the values.
func KeysIn(columns []string, keys [][]string, quoted func(string) string) string {
	list := func(texts []string, one func(string) string) string {
		parts := make([]string, len(texts))
		for i, text := range texts {
			parts[i] = one(text)
		}
		return "(" + strings.Join(parts, ", ") + ")"
	}
	rows := make([]string, len(keys))
	for i, key := range keys {
		rows[i] = list(key, func(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" })
	}
	return list(columns, quoted) + " IN (" + strings.Join(rows, ", ") + ")"
}
