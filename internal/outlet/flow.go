package outlet

import (
	"maps"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// Flow is what became of events that an outlet has read, in a period: each of them was kept
// back, was merged with others, is a dead letter, or went out in one message or several.
type Flow struct {
	// Passed are all offsets that the outlet has gone past, those of tables that it does not
	// take included.
	Passed int64
	Tables map[string]*TableFlow
	// Shaping, Sending and Committing are the time that was spent in these stages.
	Shaping, Sending, Committing time.Duration
}

// TableFlow is that of one table.
type TableFlow struct {
	Read     [change.OperationCount]int64 // by operation
	KeptBack int64                        // by a condition, a choice of operations, or the format
	Merged   int64                        // how many fewer they are after they were combined
	Dead     int64                        // events that became dead letters, or wait behind one
	Split    int64                        // messages besides the first one of an event
	Messages map[string]int64             // that went out, by type
}

const (
	// flowStep is how long a period is, at least, of which is known what became of its events;
	// flowSteps of them are kept.
	flowStep  = 5 * time.Minute
	flowSteps = 13
	// maxFlowTables bounds the tables of one period, and maxTypes their types of messages;
	// what is above is counted together.
	maxFlowTables = 500
	maxTypes      = 50
	// others is where that is counted.
	others = "(others)"
)

// flowPeriod is a step.
type flowPeriod struct {
	from time.Time
	Flow
}

// Flows is what became of events in the last hour.
type Flows struct{ periods []*flowPeriod }

// now is the period of a moment.
func (f *Flows) now(at time.Time) *flowPeriod {
	step := at.Truncate(flowStep)
	if n := len(f.periods); n > 0 && !f.periods[n-1].from.Before(step) {
		return f.periods[n-1]
	}
	if len(f.periods) >= flowSteps {
		f.periods = slices.Delete(f.periods, 0, 1)
	}
	f.periods = append(f.periods, &flowPeriod{from: step})
	return f.periods[len(f.periods)-1]
}

// of is the flow of a table.
func (f *Flow) of(table string) *TableFlow {
	if one := f.Tables[table]; one != nil {
		return one
	}
	if f.Tables == nil {
		f.Tables = make(map[string]*TableFlow)
	}
	if len(f.Tables) >= maxFlowTables && table != others {
		return f.of(others)
	}
	one := &TableFlow{Messages: make(map[string]int64)}
	f.Tables[table] = one
	return one
}

// redelivered counts a dead letter that has gone out after all. It was dead in an earlier period,
// perhaps: over all of them it is none.
func (t *TableFlow) redelivered(operation string) {
	t.Dead--
	t.add("rillmark.row."+operation, 1)
}

// add counts messages of a type.
func (t *TableFlow) add(kind string, n int64) {
	if _, known := t.Messages[kind]; !known && len(t.Messages) >= maxTypes {
		kind = others
	}
	t.Messages[kind] += n
}

// sent takes in a batch that went out, but for what is dead of it.
func (f *Flow) sent(tally *encode.Tally, passed int64, messages []encode.Message, dead []refusal) {
	f.Passed += passed
	f.Shaping += tally.Took
	for i := range tally.Tables {
		from := &tally.Tables[i]
		t := f.of(from.Table)
		for operation, n := range from.Read {
			t.Read[operation] += n
		}
		t.KeptBack += from.KeptBack
		t.Merged += from.Merged
	}
	var gone map[int64]bool
	for _, one := range dead {
		if gone == nil {
			gone = make(map[int64]bool, len(dead))
		}
		if !gone[one.offset] {
			gone[one.offset] = true
			f.of(one.table).Dead++
		}
	}
	var t *TableFlow
	table, kind, n := "", "", int64(0)
	for i := range messages {
		m := &messages[i]
		if gone[m.Offset] {
			continue
		}
		if t == nil || m.Table != table || m.Type != kind {
			if n > 0 {
				t.add(kind, n)
			}
			t, table, kind, n = f.of(m.Table), m.Table, m.Type, 0
		}
		if n++; m.Part > 0 || m.Type == encode.TransactionEnd {
			t.Split++
		}
	}
	if n > 0 {
		t.add(kind, n)
	}
}

// merge adds up two flows.
func (f *Flow) merge(other *Flow) {
	f.Passed += other.Passed
	f.Shaping, f.Sending, f.Committing = f.Shaping+other.Shaping, f.Sending+other.Sending, f.Committing+other.Committing
	for name, from := range other.Tables {
		t := f.of(name)
		for operation, n := range from.Read {
			t.Read[operation] += n
		}
		t.KeptBack, t.Merged, t.Dead, t.Split = t.KeptBack+from.KeptBack, t.Merged+from.Merged, t.Dead+from.Dead, t.Split+from.Split
		for kind, n := range from.Messages {
			t.add(kind, n)
		}
	}
}

// since adds up the periods that end after a moment; from is where the first of them begins.
func (f *Flows) since(at time.Time) (sum Flow, from time.Time) {
	for _, p := range f.periods {
		if !p.from.Add(flowStep).After(at) {
			continue
		}
		if from.IsZero() {
			from = p.from
		}
		sum.merge(&p.Flow)
	}
	return sum, from
}

// clone copies what was counted.
func (f *Flows) clone() Flows {
	var copied Flows
	for _, p := range f.periods {
		one := &flowPeriod{from: p.from}
		one.merge(&p.Flow)
		copied.periods = append(copied.periods, one)
	}
	return copied
}

// Flow is what became of the events that were read since a moment, as far as that is still
// known; it is counted in steps of some minutes, so that from, the beginning, lies before.
func (o *Outlet) Flow(since time.Time) (sum Flow, from time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	sum, from = o.flows.since(since)
	if started := o.flowsFrom; from.Before(started) {
		from = started
	}
	return sum, from
}

// TableNames are those of the tables that a flow knows of, in their order.
func (f *Flow) TableNames() []string {
	return slices.SortedFunc(maps.Keys(f.Tables), strings.Compare)
}
