// Package states is what becomes of the tables that a run captures, whichever engine reads
// them: when their rows are read, what a load that begins, ends or cannot go on makes of a
// table, and which of them is read next. An engine knows how rows are read, and when they have
// changed without an event.
//
// All methods but [Keeper.KeepReloading] and [Work] are called under the sink's lock.
package states

import (
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// Table is a captured table.
type Table interface {
	// Status is what is on record of the table, to be changed in place; Record is a copy with
	// the progress of its load.
	Status() *engine.TableState
	Record() engine.TableState
	// Rule is nil while none has chosen the table in this run.
	Rule() *rules.Table
	// Task is that of the table's load, to be changed in place; nil where none is under way.
	Task() *load.Task
	// StartLoad gives the table a load in place of one that may be under way, RestartLoad has
	// that one begin anew, and EndLoad takes it away: what is being read for it comes to nothing.
	StartLoad(task load.Task)
	RestartLoad()
	EndLoad()
}

// Keeper keeps the states of a run's tables.
type Keeper struct {
	Sink engine.Sink
	// Loads says that the rows are read that tables have when they are taken up; LoadOnly that
	// the run ends with that.
	Loads, LoadOnly bool
	// All are the tables of the run.
	All iter.Seq[Table]

	more    chan struct{} // closed and made anew when there is more to read
	reading bool
	told    time.Time // when the status page learnt what is being read
}

// Reasons that tables of every engine may have.
var (
	RuleChanged = change.Reason{Cause: change.CauseRuleChanged, Text: "the table's rule has changed, and events before that follow the old one"}
	Rewritten   = change.Reason{Cause: change.CauseRewritten, Text: "a schema change filled or changed rows without an event"}
	NoKey       = change.Reason{Cause: change.CauseNoKey, Text: "no key: consumers cannot tell two equal rows apart"}
	Gone        = change.Reason{Cause: change.CauseGone, Text: "dropped or renamed in the source"}.For(engine.StateGone)
	NotChosen   = change.Reason{Cause: change.CauseLeftOut, Text: "no rule chooses it any more"}.For(engine.StateLeftOut)
	following   = change.Standing{State: engine.StateFollowing}
)

// Unlogged is for a table of which rows came, changed or went without an event.
func Unlogged(text string) change.Reason {
	return change.Reason{Cause: change.CauseUnlogged, Text: text}
}

// ByHand is the reason of a table that nobody loads by itself.
func ByHand(r change.Reason) change.Reason {
	r.Text += ": reload the table with `rillmark source reload`"
	return r
}

// put has a table's state go on record soon.
func (k *Keeper) put(t Table) {
	k.Sink.Table(t.Record())
	k.Sink.Touch()
}

func (k *Keeper) report(t Table, level, event, message string) {
	k.Sink.Report(engine.Report{Level: level, Event: event, Message: t.Status().Table + message})
}

// Rewritten is for a table whose rows have changed without an event: it is loaded anew, or
// shown as stale, as its rule says; a load that is under way begins again.
func (k *Keeper) Rewritten(t Table, why change.Reason) {
	k.Reread(t, why, k.Loads && t.Rule() != nil && t.Rule().Reloads(t.Status().Rows(), why.Cause == change.CauseRewritten))
}

// Reread is for a table whose rows consumers do not have as they are now: reload says whether
// all of them are loaded, or the table is shown as stale.
func (k *Keeper) Reread(t Table, why change.Reason, reload bool) {
	if task := t.Task(); task != nil && task.Kind != load.Refetch {
		if task.Apart() && reload {
			*task = load.Task{Restarts: task.Restarts} // of all rows
		} else if task.Apart() {
			task.EndsAs(ByHand(why).For(engine.StateStale))
		}
		t.RestartLoad()
		k.put(t)
		k.report(t, "info", "load-again", ": "+why.Text+": the load begins anew")
		k.Wake()
		return
	}
	if !slices.Contains([]string{engine.StateFollowing, engine.StateStale, engine.StateNotLoaded}, t.Status().State) {
		return
	}
	if !reload {
		k.stale(t, ByHand(why), why.Text)
		return
	}
	k.BeginAnew(t, why)
}

// stale shows a table as stale; told is what the log of the run says of it.
func (k *Keeper) stale(t Table, why change.Reason, told string) {
	t.Status().Standing = why.For(engine.StateStale)
	k.put(t)
	k.report(t, "warn", "table-"+engine.StateStale, ": "+told)
}

// BeginAnew has a table read again of which all rows are void, or shown as stale where nothing
// is loaded.
func (k *Keeper) BeginAnew(t Table, why change.Reason) {
	if !k.Loads {
		k.stale(t, why, why.Text)
		return
	}
	var task load.Task
	if before := t.Task(); before != nil {
		task.Restarts = before.Restarts + 1
	}
	k.toLoad(t, task, why)
	k.report(t, "warn", "table-"+engine.StateToLoad, ": "+why.Text)
}

func (k *Keeper) toLoad(t Table, task load.Task, why change.Reason) {
	t.StartLoad(task)
	t.Status().Standing, t.Status().RowsDone = why.For(engine.StateToLoad), 0
	k.put(t)
	k.Wake()
}

// LeaveOut is for a table that no rule chooses any more, or that is gone.
func (k *Keeper) LeaveOut(t Table, s change.Standing) {
	t.EndLoad()
	t.Status().Standing = s
	k.put(t)
}

// Ask begins a load of a table that is followed, or ends one; [engine.ErrCannotLoad] says that
// it cannot be.
func (k *Keeper) Ask(t Table, ask load.Ask) error {
	if ask.Drop {
		return k.drop(t, ask.For)
	}
	state := t.Status()
	switch {
	case t.Rule() == nil, engine.Away(state.State), state.State == engine.StateUnpublished, ask != (load.Ask{}) && t.Task() != nil:
		return engine.ErrCannotLoad
	case state.State == engine.StateNew:
		return nil // it is loaded as it is
	}
	var task load.Task
	if ask != (load.Ask{}) {
		task = load.Task{Where: ask.Where, For: ask.For}
		task.EndsAs(state.Standing)
	}
	if ask.Where != "" {
		task.Kind = load.Part
	}
	k.toLoad(t, task, change.Reason{})
	return nil
}

// drop ends the load of a table for an outlet that is no more.
func (k *Keeper) drop(t Table, whose load.Audience) error {
	task := t.Task()
	if task == nil || whose.ID == 0 || task.For.ID != whose.ID {
		return engine.ErrCannotLoad
	}
	t.Status().Standing = task.Afterwards()
	t.EndLoad()
	k.put(t)
	k.report(t, "info", "load-dropped", ": the outlet "+whose.Name+", for which it was loaded, is no more")
	k.Wake()
	return nil
}

// LoadBegan puts the beginning of a table's load on record; a unit is open, and the table has a
// schema version. how says how it is read.
func (k *Keeper) LoadBegan(t Table, place uint64, how string, estimate int64) {
	state, task := t.Status(), t.Task()
	if task.Kind == load.Full {
		k.Sink.Add(&change.Row{Operation: change.Void, Table: state.Table, Schema: state.Schema, Place: place, For: task.For.ID})
	}
	task.Began = true
	state.Standing, state.RowsDone, state.RowsEstimate = change.Standing{State: engine.StateLoading}, 0, estimate
	if part := task.Brief(); part != "" {
		state.Cause, state.Note = change.CausePart, part
	}
	k.Sink.Table(t.Record())
	what := strings.Join(strings.Fields(how+" "+task.Brief()), " ")
	k.Sink.Report(engine.Report{Level: "info", Event: "load-began", Message: strings.TrimSpace("loading "+state.Table+" "+what) + fmt.Sprintf(", about %d rows", estimate)})
	k.Tell(false)
}

// LoadEnded ends a load of which everything is in the journal; a unit is open. refused counts
// the values that were too large.
func (k *Keeper) LoadEnded(t Table, place uint64, refused int) {
	state, task := t.Status(), *t.Task()
	t.EndLoad()
	if task.Kind == load.Refetch { // nobody was told of it
		k.leftOut(t, refused)
		return
	}
	event := change.Row{Operation: change.Loaded, Table: state.Table, Schema: state.Schema, Place: place, For: task.For.ID}
	if task.Kind == load.Full {
		state.RowsEstimate = state.RowsDone
	} else {
		event.Body, _ = json.Marshal(map[string]string{"part": task.What()}) // it is text
	}
	k.Sink.Add(&event)
	state.Standing = following
	if task.Then != "" {
		state.Standing = task.Afterwards()
	}
	k.leftOut(t, refused)
	k.report(t, "info", "load-done", fmt.Sprintf(": %d rows loaded", state.RowsDone))
	k.Tell(false)
	k.Wake()
}

// leftOut shows a table as stale of which a load has left values out.
func (k *Keeper) leftOut(t Table, values int) {
	if state := t.Status(); values > 0 && state.State == engine.StateFollowing {
		state.Standing = change.Reason{Cause: change.CauseValueTooLarge, Text: fmt.Sprintf("%d values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table", values)}.For(engine.StateStale)
	}
}

// LeftOut shows a table as stale that has got a row without one of its values, which was too
// large; where names the row, for people.
func (k *Keeper) LeftOut(t Table, where string) {
	if task := t.Task(); task != nil && !task.Apart() {
		return // the load counts what it refused
	}
	k.Lacks(t, change.Reason{Cause: change.CauseValueTooLarge, Text: "a value larger than largest_value was left out of " + where + ": raise it, or leave the column out by a rule, and reload the table"})
}

// Lacks shows a table as stale whose consumers lack a value that only a load of all rows can
// bring, at the end of a load that is under way; a load that has yet to begin brings it.
func (k *Keeper) Lacks(t Table, why change.Reason) {
	state, task := t.Status(), t.Task()
	if task != nil && task.Kind == load.Refetch {
		task = nil // the table goes on as it is
	}
	switch {
	case task == nil && state.State == engine.StateFollowing:
		k.stale(t, why, why.Text)
	case task == nil, !task.Apart() && !task.Began, task.Then != "" && task.Then != engine.StateFollowing:
		return
	default:
		task.EndsAs(why.For(engine.StateStale))
		k.Sink.Table(t.Record())
	}
}

// LoadFailed ends a load that cannot go on while others can; task is what it was to read.
func (k *Keeper) LoadFailed(t Table, task *load.Task, why string) {
	state := t.Status()
	t.EndLoad()
	unreadable := change.Reason{Cause: change.CauseUnreadable, Text: why}
	switch {
	case task.Kind == load.Refetch:
		state.Standing = unreadable.For(engine.StateStale)
	case task.Apart():
		state.Standing = task.Afterwards()
	default:
		state.Standing = unreadable.For(engine.StateNotLoaded)
	}
	k.put(t)
	k.report(t, "error", "load-failed", ": "+why)
	k.Tell(false)
	k.Wake()
}

// TakeUp is for a table that is captured from now on, with the rows that it has.
func (k *Keeper) TakeUp(t Table) {
	if k.Loads {
		k.toLoad(t, load.Task{}, change.Reason{})
	} else {
		t.EndLoad()
		t.Status().Standing, t.Status().RowsDone = following, 0
		k.put(t)
	}
	k.report(t, "info", "table-"+t.Status().State, "")
}
