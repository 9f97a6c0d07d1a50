package explaining

import (
	"context"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

// OutletFlow is what became of the events that an outlet has read: those of each table are its
// messages, without those beside the first of an event, and what was kept back, merged, and made
// dead letters.
type OutletFlow struct {
	Outlet string    `json:"outlet"`
	Since  time.Time `json:"since" doc:"What was read from then on; it is counted in steps of five minutes, since the service began to deliver"`
	// Passed are all events that the outlet has gone past.
	Passed     int64      `json:"passed" doc:"Events of the source that the outlet has gone past"`
	Other      int64      `json:"other_tables" doc:"Of those, events of tables that it does not take, and events that were counted elsewhere"`
	Total      FlowLine   `json:"total" doc:"All tables together"`
	Tables     []FlowLine `json:"tables"`
	Shaping    float64    `json:"shaping_seconds" doc:"Time spent on reading the journal and making messages"`
	Sending    float64    `json:"sending_seconds" doc:"Time spent on handing them over"`
	Committing float64    `json:"committing_seconds" doc:"Time spent until what was handed over was durable there"`
	DeadNow    int64      `json:"dead_letters_now" doc:"Dead letters that there are now, whenever they became such, with those that wait behind them"`
	Committed  int64      `json:"committed" doc:"The newest offset that was delivered for good"`
}

// FlowLine is an equation: read = messages - split + kept_back + merged + dead_letters.
type FlowLine struct {
	Table    string           `json:"table,omitempty"`
	Read     int64            `json:"read" doc:"Events of the table that were read: messages - split + kept_back + merged + dead_letters"`
	Reads    map[string]int64 `json:"read_by_operation"`
	Messages int64            `json:"messages" doc:"Messages that went out"`
	Types    map[string]int64 `json:"messages_by_type"`
	Split    int64            `json:"split" doc:"Messages besides the first one of an event: the second half of a pair, a marker, the end of a transaction"`
	KeptBack int64            `json:"kept_back" doc:"By a condition or the choice of operations, or since the format has nothing to say about the event"`
	Merged   int64            `json:"merged" doc:"How many fewer events there were after changes of one row were combined"`
	Dead     int64            `json:"dead_letters" doc:"Events that became dead letters, or wait behind one"`
	Settled  bool             `json:"adds_up" doc:"Whether both sides of the equation are equal"`
}

// longestFlow is how far back it is known what became of events.
const longestFlow = time.Hour

// Flow is what became of what an outlet has read in the last minutes, as this instance has
// delivered it.
func (s *Explaining) Flow(ctx context.Context, name string, minutes int) (*OutletFlow, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	f := &OutletFlow{Outlet: name, Tables: []FlowLine{}, Total: newLine("")}
	dead, behind, err := s.Catalog.CountDeadLetters(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	f.DeadNow = dead + behind
	runner := s.Runner(name)
	if runner == nil {
		f.Since = time.Now()
		return f, nil // its consumers read it, or another instance delivers
	}
	f.Committed = runner.Status().Committed
	flow, since := runner.Flow(time.Now().Add(-min(time.Duration(minutes)*time.Minute, longestFlow)))
	f.Since, f.Passed = since, flow.Passed
	f.Shaping, f.Sending, f.Committing = flow.Shaping.Seconds(), flow.Sending.Seconds(), flow.Committing.Seconds()
	for _, table := range flow.TableNames() {
		line := lineOf(table, flow.Tables[table])
		f.Total.add(&line)
		f.Tables = append(f.Tables, line)
	}
	f.Other = f.Passed - f.Total.Read
	f.Total.settle()
	return f, nil
}

func newLine(table string) FlowLine {
	return FlowLine{Table: table, Reads: make(map[string]int64), Types: make(map[string]int64)}
}

func lineOf(table string, t *outlet.TableFlow) FlowLine {
	line := newLine(table)
	line.Split, line.KeptBack, line.Merged, line.Dead = t.Split, t.KeptBack, t.Merged, t.Dead
	for operation, n := range t.Read {
		if n > 0 {
			line.Read += n
			line.Reads[change.Operation(operation).String()] = n
		}
	}
	for kind, n := range t.Messages {
		line.Messages += n
		line.Types[strings.TrimPrefix(strings.TrimPrefix(kind, "rillmark.row."), "rillmark.")] += n
	}
	line.settle()
	return line
}

// settle looks whether the equation holds.
func (l *FlowLine) settle() {
	l.Settled = l.Read == l.Messages-l.Split+l.KeptBack+l.Merged+l.Dead
}

func (l *FlowLine) add(other *FlowLine) {
	l.Read, l.Messages, l.Split, l.KeptBack, l.Merged, l.Dead = l.Read+other.Read, l.Messages+other.Messages, l.Split+other.Split, l.KeptBack+other.KeptBack, l.Merged+other.Merged, l.Dead+other.Dead
	for operation, n := range other.Reads {
		l.Reads[operation] += n
	}
	for kind, n := range other.Types {
		l.Types[kind] += n
	}
}
