package states

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// table is one without an engine.
type table struct {
	state engine.TableState
	rule  *rules.Table
	task  *load.Task
}

func (t *table) Status() *engine.TableState { return &t.state }
func (t *table) Record() engine.TableState  { return t.state }
func (t *table) Rule() *rules.Table         { return t.rule }
func (t *table) Task() *load.Task           { return t.task }
func (t *table) StartLoad(task load.Task)   { t.task = &task }
func (t *table) RestartLoad()               { anew := t.task.Anew(); t.task = &anew }
func (t *table) EndLoad()                   { t.task = nil }

// sink notes the operations of the events that it gets.
type sink struct {
	engine.Sink
	events []change.Operation
}

func (s *sink) Add(row *change.Row)     { s.events = append(s.events, row.Operation) }
func (s *sink) Table(change.TableState) {}
func (s *sink) Touch()                  {}
func (s *sink) Report(_ engine.Report)  {}
func outlet(id int64) (a load.Audience) { a.ID, a.Name = id, "feed"; return a }
func reading(t *table, k *Keeper)       { k.LoadBegan(t, 1, "by key", 10) }

// TestStates goes with one table through what may happen to it, in a row each.
func TestStates(t *testing.T) {
	rewritten, missing := Rewritten, change.Reason{Cause: change.CauseValueMissing, Text: "a value is missing"}
	stale := func(r change.Reason) change.Standing { return r.For(engine.StateStale) }
	loading := change.Standing{State: engine.StateLoading}
	for name, c := range map[string]struct {
		loads, reload bool // of the run, and of the table's rule
		happens       func(*require.Assertions, *Keeper, *table)
		ends          change.Standing
		task          bool // a load is left
	}{
		"a rewrite is shown where nobody reloads": {true, false, func(is *require.Assertions, k *Keeper, t *table) { k.Rewritten(t, rewritten) }, stale(ByHand(rewritten)), false},
		"a rewrite is read again by the rule":     {true, true, func(is *require.Assertions, k *Keeper, t *table) { k.Rewritten(t, rewritten) }, rewritten.For(engine.StateToLoad), true},
		"nothing is read in a run without loads":  {false, true, func(is *require.Assertions, k *Keeper, t *table) { k.Rewritten(t, rewritten) }, stale(ByHand(rewritten)), false},
		"what is void is read again":              {true, false, func(is *require.Assertions, k *Keeper, t *table) { k.BeginAnew(t, rewritten) }, rewritten.For(engine.StateToLoad), true},
		"what is void is shown without loads":     {false, false, func(is *require.Assertions, k *Keeper, t *table) { k.BeginAnew(t, rewritten) }, stale(rewritten), false},
		"a load ends in following": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			is.NoError(k.Ask(t, load.Ask{}))
			reading(t, k)
			k.LoadEnded(t, 2, 0)
		}, following, false},
		"a load that left out large values": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			reading(t, k)
			k.LoadEnded(t, 2, 3)
		}, change.Standing{State: engine.StateStale, Cause: change.CauseValueTooLarge, Note: "3 values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table"}, false},
		"a load during which a value went missing": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			reading(t, k)
			k.Lacks(t, missing)
			k.LoadEnded(t, 2, 0)
		}, stale(missing), false},
		"a load that has not begun brings what they lack": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			k.Lacks(t, missing)
			reading(t, k)
			k.LoadEnded(t, 2, 0)
		}, following, false},
		"a load that begins anew brings it, too": {true, true, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			reading(t, k)
			k.Lacks(t, missing)
			k.Rewritten(t, rewritten)
			reading(t, k)
			k.LoadEnded(t, 2, 0)
		}, following, false},
		"a part leaves the table as it was": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.Lacks(t, missing)
			is.NoError(k.Ask(t, load.Ask{Where: "branch = 1"}))
			reading(t, k)
			k.LoadEnded(t, 2, 0)
		}, stale(missing), false},
		"while it is read the note says which part": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			is.NoError(k.Ask(t, load.Ask{Where: "branch = 1"}))
			reading(t, k)
		}, change.Standing{State: engine.StateLoading, Cause: change.CausePart, Note: load.Ask{Where: "branch = 1"}.What()}, true},
		"all of it has no note": {true, false, func(is *require.Assertions, k *Keeper, t *table) { k.BeginAnew(t, rewritten); reading(t, k) }, loading, true},
		"a rewrite while a part is read makes it stale": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			is.NoError(k.Ask(t, load.Ask{Where: "branch = 1"}))
			reading(t, k)
			k.Rewritten(t, rewritten)
			reading(t, k)
			k.LoadEnded(t, 2, 0)
		}, stale(ByHand(rewritten)), false},
		"an outlet that is no more leaves it as it was": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.Lacks(t, missing)
			is.NoError(k.Ask(t, load.Ask{For: outlet(7)}))
			is.ErrorIs(k.Ask(t, load.Ask{For: outlet(8), Drop: true}), engine.ErrCannotLoad)
			is.NoError(k.Ask(t, load.Ask{For: outlet(7), Drop: true}))
		}, stale(missing), false},
		"a load that cannot go on": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			k.LoadFailed(t, t.task, "permission denied")
		}, change.Standing{State: engine.StateNotLoaded, Cause: change.CauseUnreadable, Note: "permission denied"}, false},
		"one that stands apart, too": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			is.NoError(k.Ask(t, load.Ask{Where: "branch = 1"}))
			k.LoadFailed(t, t.task, "permission denied")
		}, following, false},
		"what is gone has no load": {true, false, func(is *require.Assertions, k *Keeper, t *table) {
			k.BeginAnew(t, rewritten)
			k.LeaveOut(t, Gone)
			k.Rewritten(t, rewritten)
			is.ErrorIs(k.Ask(t, load.Ask{}), engine.ErrCannotLoad)
		}, Gone, false},
	} {
		t.Run(name, func(t *testing.T) {
			one := &table{state: engine.TableState{Table: "public.loans", Standing: following}, rule: &rules.Table{ReloadRewritten: c.reload}}
			s := new(sink)
			k := &Keeper{Sink: s, Loads: c.loads, All: func(yield func(Table) bool) { yield(one) }}
			c.happens(require.New(t), k, one)
			require.Equal(t, c.ends, one.state.Standing)
			require.Equal(t, c.task, one.task != nil)
			if c.task {
				require.NotContains(t, []string{engine.StateFollowing, engine.StateStale}, one.state.State)
			}
			loaded := slices.Index(s.events, change.Loaded)
			require.True(t, loaded < 0 || loaded == len(s.events)-1, "nothing comes after a load's end")
		})
	}
}
