// Package outlet runs outlets: it reads a journal from an outlet's committed
// offset on, filters, puts events into their shape, delivers them in batches,
// makes dead letters of what cannot be delivered, and commits what has arrived. Outlets of
// kind pull are read by their consumers.
package outlet

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/journal"
	"rillmark/internal/shape"
)

// The phases of an outlet.
const (
	PhasePaused  = "paused"
	PhaseRunning = "running"
	PhaseWaiting = "waiting" // for a fault to pass; tried again by itself
	PhaseFailed  = "failed"  // a person has to decide; see the error
	PhaseStandby = "standby" // another instance delivers it
	PhasePull    = "pull"    // its consumers come and read
)

// Status is how an outlet stands.
type Status struct {
	Phase string
	Error string
	Code  string
	Retry time.Time
	// Attempts counts the tries since the last one that went well.
	Attempts int
	// HeldAt is the offset of the schema change before which it holds; else 0.
	HeldAt int64
	// Held are tables that the destination has not as the source has them; the others go on.
	Held []destination.Held
	// Committed is the newest offset that was delivered.
	Committed int64
	// Delivered counts the events that went out since the service started.
	Delivered int64
	Rate      float64 // events a second, over the last ten seconds
	// Delay is from the commit of the newest delivered event to its delivery.
	Delay time.Duration
}

// Origin is what an outlet has to know of the journal it reads.
type Origin struct {
	Source   string
	SourceID int64
	Database string
	Engine   change.Engine
	// Generation is the newest; Cuts say which offsets belong to which, where
	// there is more than one.
	Generation       int
	GenerationStarts []journal.GenerationStart
}

// Fill completes an event that a journal's reader filled.
func (o *Origin) Fill(e *change.Event) {
	e.Source, e.Generation, e.Database, e.Engine = o.Source, o.Generation, change.DatabaseOf(o.Database, e.Table), o.Engine
	for i := len(o.GenerationStarts) - 1; i >= 0; i-- {
		if o.GenerationStarts[i].First <= e.Offset {
			e.Generation = o.GenerationStarts[i].Generation
			break
		}
	}
}

// Outlet delivers one outlet until its context is done.
type Outlet struct {
	ID          int64
	Name        string
	Origin      Origin
	Filter      func() *shape.Filter // a new one for each goroutine
	Shape       encode.Shape
	Net         bool
	Limits      definition.BatchLimits
	FirstWait   time.Duration
	LongestWait time.Duration
	// Attempts is after how many tries an event becomes a dead letter; 0 tries
	// without end.
	Attempts int
	// SchemaChanges is what it does when the definition of one of its tables changes.
	SchemaChanges SchemaChanges
	// Wait lets later events of a row wait behind a dead letter; Most bounds how
	// many dead letters there are.
	Wait        bool
	Most        int
	Destination func() (destination.Destination, error)
	// ReadAgain has rows of a table read from the source for the outlet alone; nil where
	// that cannot be.
	ReadAgain func(ctx context.Context, of *change.Schema, keys [][]change.Value) error
	// Frame gives what stands before Avro values of a version.
	Frame func(*change.Schema) ([]byte, error)
	// Fit, where not nil, fits their rows to a schema that is there already.
	Fit func(*change.Schema) (*encode.Fitted, error)
	// FitRow, where not nil, does so with rows of format parquet.
	FitRow  func(*change.Schema) (encode.RowForm, error)
	Catalog *catalog.Catalog
	// Instance is this process among those that may deliver the outlet.
	Instance *catalog.Instance
	Store    journal.Reading
	Budget   *MemoryBudget // shared with the service's other outlets
	Log      func(level, event, message string)
	// Ended is called once an outlet that runs once has delivered in a run up to its end.
	Ended func(run int, until int64)

	mu     sync.Mutex
	status Status
	// troubled says that an error was logged and no event has gone out since.
	troubled bool
	rates    capture.Rates
	counts   Counts
	history  History
	flows    Flows
	// flowsFrom is since when flows counts.
	flowsFrom time.Time
	// counted is the newest offset that was counted in a run: what comes again after a fault is
	// not counted once more.
	counted, countedRun int64
	wake                chan struct{}
}

// Status is how the outlet stands now.
func (o *Outlet) Status() Status {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.status.Rate = o.rates.PerSecond(time.Now(), 10)
	return o.status
}

func (o *Outlet) set(change func(*Status)) {
	o.mu.Lock()
	defer o.mu.Unlock()
	change(&o.status)
}

// Carry takes over what was counted before the outlet's definition changed.
func (o *Outlet) Carry(from *Outlet) {
	from.mu.Lock()
	counted, countedRun := from.counted, from.countedRun
	status, rates, counts, history, flows, flowsFrom := from.status, from.rates, from.counts.clone(), from.history.clone(), from.flows.clone(), from.flowsFrom
	from.mu.Unlock()
	o.mu.Lock()
	defer o.mu.Unlock()
	o.flows, o.flowsFrom = flows, flowsFrom
	o.counted, o.countedRun = counted, countedRun
	o.status.Delivered, o.status.Committed, o.status.Delay, o.rates, o.counts, o.history = status.Delivered, status.Committed, status.Delay, rates, counts, history
}

// countedIn is the newest offset that was counted in a run; 0 in one that begins.
func (o *Outlet) countedIn(run int64) int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.countedRun != run {
		o.counted, o.countedRun = 0, run
	}
	return o.counted
}

// Wake lets a running outlet look for dead letters that are to be tried again.
func (o *Outlet) Wake() {
	select {
	case o.wakes() <- struct{}{}:
	default:
	}
}

func (o *Outlet) wakes() chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.wake == nil {
		o.wake = make(chan struct{}, 1)
	}
	return o.wake
}

// Run delivers until ctx is done.
func (o *Outlet) Run(ctx context.Context) {
	o.mu.Lock()
	if o.flowsFrom.IsZero() {
		o.flowsFrom = time.Now()
	}
	o.mu.Unlock()
	wait := o.FirstWait
	last := ""
	for ctx.Err() == nil {
		before := o.Status().Delivered
		err := guard.Run(func() error { return o.once(ctx) })
		if stack := guard.Stack(err); stack != "" {
			o.Log("error", "panic", stack)
		}
		if ctx.Err() != nil {
			break
		}
		if errors.Is(err, catalog.ErrHeld) {
			o.set(func(s *Status) { s.Phase, s.Error, s.Code = PhaseStandby, "", "" })
			select {
			case <-ctx.Done():
			case <-time.After(standbyWait):
			}
			continue
		}
		if caught := new(caughtUpError); errors.As(err, &caught) {
			o.set(func(s *Status) { s.Phase, s.Error, s.Code = PhasePaused, "", "" })
			o.Ended(caught.run, caught.until)
			<-ctx.Done()
			break
		}
		if o.Status().Delivered > before {
			wait = o.FirstWait
			o.set(func(s *Status) { s.Attempts = 0 })
			last = "" // it went on in between: the next error is logged again
		}
		text, code := err.Error(), "error"
		var fault *engine.Fault
		if errors.As(err, &fault) {
			code = fault.Code
		}
		if text != last {
			o.Log("error", code, text)
			last = text
			o.mu.Lock()
			o.troubled = true
			o.mu.Unlock()
		}
		if engine.IsFinal(err) {
			var held *heldChange
			errors.As(err, &held)
			o.set(func(s *Status) {
				s.Phase, s.Error, s.Code = PhaseFailed, text, code
				if held != nil {
					s.HeldAt = held.offset
				}
			})
			<-ctx.Done()
			break
		}
		pause := jittered(wait)
		var asked interface{ RetryAfter() time.Duration }
		if errors.As(err, &asked) && asked.RetryAfter() > 0 {
			pause = asked.RetryAfter()
		}
		o.set(func(s *Status) {
			s.Phase, s.Error, s.Code, s.Retry = PhaseWaiting, text, code, time.Now().Add(pause)
			s.Attempts++
		})
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		wait = min(wait*2, o.LongestWait)
	}
	o.set(func(s *Status) { s.Phase, s.Error, s.Code = PhasePaused, "", "" })
}

// standbyWait is how often it is asked whether another instance still delivers.
const standbyWait = time.Second

// caughtUpError ends an outlet that runs once: it has delivered in a run up to its end.
type caughtUpError struct {
	run   int
	until int64
}

func (*caughtUpError) Error() string { return "caught up" }

// jittered is a wait of up to half as long again, so that many outlets do not
// come back to a destination at the same moment.
func jittered(wait time.Duration) time.Duration { return wait + rand.N(wait/2+1) }

// maker puts events into the outlet's shape.
func (o *Outlet) maker(ctx context.Context, wants encode.Capabilities) *encode.Maker {
	m := encode.NewMaker(o.Shape, wants)
	m.Frame, m.Fit, m.FitRow = o.Frame, o.Fit, o.FitRow
	m.Register = func(s *change.Schema) error {
		var avro uint64
		if o.Shape.Format == encode.FormatAvro {
			form, err := encode.AvroOf(s)
			if err != nil {
				return err
			}
			avro = form.Fingerprint
		}
		return o.Catalog.StoreOutletSchema(ctx, o.ID, s, avro)
	}
	return m
}

// once delivers until an error, with one connection to the destination.
func (o *Outlet) once(ctx context.Context) error {
	if !o.Instance.Valid() {
		return errNotRenewed
	}
	hold, err := o.Instance.HoldOutlet(ctx, o.ID)
	if err != nil {
		return err
	}
	defer hold.Release()
	if err := o.Recall(ctx); err != nil {
		return err
	}
	offset, err := o.Catalog.Offset(ctx, o.ID)
	if err != nil {
		return err
	}
	to, err := o.Destination()
	if err != nil {
		return err
	}
	s := &sender{Outlet: o, offset: offset, hold: hold}
	named, err := o.Catalog.StateName(ctx)
	if err != nil {
		return err
	}
	writer, err := to.Open(ctx, destination.Outlet{ID: o.ID, Name: o.Name, Token: offset.Token, Run: offset.Run, Committed: offset.Committed, Wait: o.Wait, Log: o.Log, KeepRefused: s.keepRefused, ReadAgain: o.ReadAgain,
		Claim:   &destination.Claim{State: named, Known: offset.Claims, Record: hold.Claim},
		LetPass: offset.LetPass, Held: func(tables []destination.Held) { o.set(func(s *Status) { s.Held = tables }) }})
	if err != nil {
		return err
	}
	*s = sender{Outlet: o, offset: offset, hold: hold, writer: writer, wants: to.Capabilities(), tries: make(map[int64]int)}
	s.at = writer.Delivered()
	s.durable = s.at
	s.flushLater()
	defer writer.Close() //nolint:errcheck // what was not flushed is delivered again
	if s.rows, s.deadCount, err = o.Catalog.DeadRows(ctx, o.ID); err != nil {
		return err
	}
	o.Budget.running.Add(1)
	defer o.Budget.running.Add(-1)
	r := &reader{Outlet: o, at: s.at, ended: s.at, run: offset.Run, until: offset.Until, letPass: offset.LetPass, whole: s.wants.Whole, filter: o.Filter(), maker: o.maker(ctx, s.wants)}
	r.halves.Filter = r.filter
	s.repeated = o.countedIn(int64(offset.Run))
	if n := o.delivered(ctx, offset.Committed, s.at); n > 0 {
		s.written.runs = append(s.written.runs, writtenRun{s.at, s.at, n})
	}
	r.repeated = s.repeated
	if len(s.rows) > 0 {
		r.maker.Order()
	}
	if r.wait = o.Limits.Every; r.wait == 0 && s.wants.Late {
		r.wait = flushEvery
	}
	if err := r.resume(ctx); err != nil {
		return err
	}
	o.set(func(st *Status) { st.Phase, st.Error, st.Code, st.Committed = PhaseRunning, "", "", s.at })
	return s.run(ctx, r)
}
