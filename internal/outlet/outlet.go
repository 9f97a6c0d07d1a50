// Package outlet runs outlets: it reads a journal from an outlet's committed
// offset on, filters, encodes, delivers, and commits what has arrived. Outlets
// of kind pull are read by their consumers; see [Pull].
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
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/shape"
)

// The phases of an outlet.
const (
	PhasePaused  = "paused"
	PhaseRunning = "running"
	PhaseWaiting = "waiting" // for a fault to pass; tried again by itself
	PhaseFailed  = "failed"  // a person has to decide; see the error
	PhasePull    = "pull"    // its consumers come and read
)

// Status is how an outlet stands.
type Status struct {
	Phase string
	Error string
	Code  string
	Retry time.Time
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
	Generation int
	Cuts       []journal.Cut
}

// Fill completes an event that a journal's reader filled.
func (o *Origin) Fill(e *change.Event) {
	e.Source, e.Generation, e.Database, e.Engine = o.Source, o.Generation, o.Database, o.Engine
	for i := len(o.Cuts) - 1; i >= 0; i-- {
		if o.Cuts[i].First <= e.Offset {
			e.Generation = o.Cuts[i].Generation
			break
		}
	}
}

// Outlet delivers one outlet until its context is done.
type Outlet struct {
	ID          int64
	Name        string
	Origin      Origin
	Filter      *shape.Filter
	Address     string // the service's public address
	Destination func() (destination.Destination, error)
	Catalog     *catalog.Catalog
	Store       *journal.Store
	Log         func(level, event, message string)

	mu     sync.Mutex
	status Status
	rates  capture.Rates
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

const (
	firstWait = 200 * time.Millisecond
	longWait  = 30 * time.Second
	// flushEvery is how long an event that was written may not be durable.
	flushEvery = 300 * time.Millisecond
	// flushEvents are written without a flush at most.
	flushEvents = 100_000
)

// Run delivers until ctx is done.
func (o *Outlet) Run(ctx context.Context) {
	wait := firstWait
	last := ""
	for ctx.Err() == nil {
		began := time.Now()
		err := o.once(ctx)
		if ctx.Err() != nil {
			break
		}
		if time.Since(began) > time.Minute {
			wait = firstWait
		}
		text, code := err.Error(), "error"
		var fault *engine.Fault
		if errors.As(err, &fault) {
			code = fault.Code
		}
		if text != last {
			o.Log("error", code, text)
			last = text
		}
		if engine.IsFinal(err) {
			o.set(func(s *Status) { s.Phase, s.Error, s.Code = PhaseFailed, text, code })
			<-ctx.Done()
			break
		}
		pause := wait + rand.N(wait/2)
		o.set(func(s *Status) { s.Phase, s.Error, s.Code, s.Retry = PhaseWaiting, text, code, time.Now().Add(pause) })
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		wait = min(wait*2, longWait)
	}
	o.set(func(s *Status) { s.Phase, s.Error, s.Code = PhasePaused, "", "" })
}

// delivery is one try.
type delivery struct {
	*Outlet
	offset    catalog.Offset
	writer    destination.Writer
	encoder   encode.CloudEvents
	buf       []byte
	written   int64 // events since the last flush
	at        int64 // the newest offset that was written or passed over
	newest    time.Time
	lastFlush time.Time
}

func (o *Outlet) once(ctx context.Context) error {
	offset, err := o.Catalog.Offset(ctx, o.ID)
	if err != nil {
		return err
	}
	to, err := o.Destination()
	if err != nil {
		return err
	}
	writer, err := to.Open(ctx, destination.Outlet{Name: o.Name, Run: offset.Run, Committed: offset.Committed})
	if err != nil {
		return err
	}
	d := &delivery{Outlet: o, offset: offset, writer: writer, encoder: encode.CloudEvents{Address: o.Address}, at: writer.Delivered(), lastFlush: time.Now()}
	defer writer.Close() //nolint:errcheck // what was not flushed is delivered again
	o.set(func(s *Status) { s.Phase, s.Error, s.Code, s.Committed = PhaseRunning, "", "", d.at })
	err = d.deliver(ctx)
	if ctx.Err() != nil {
		// What was written is there already: commit it rather than repeat it.
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		if flushing := d.flush(last); flushing != nil {
			return flushing
		}
	}
	return err
}

func (d *delivery) deliver(ctx context.Context) error {
	reader := d.Store.Reader(d.Origin.SourceID, d.at+1, journal.ReaderOptions{Tables: shape.Expression(d.Filter.Tables)})
	for {
		batch, err := d.next(ctx, reader)
		if errors.Is(err, journal.ErrExpired) {
			return &engine.Fault{Code: "left-behind", Final: true, Cause: err, Message: "the journal no longer has what this outlet needs next",
				Fix: "`rillmark outlet rewind " + d.Name + " --to beginning` goes on at the oldest event that is kept; what lies in between was not delivered"}
		}
		if err != nil {
			return err
		}
		if err := d.batch(ctx, batch); err != nil {
			return err
		}
		if d.written >= flushEvents || time.Since(d.lastFlush) >= flushEvery {
			if err := d.flush(ctx); err != nil {
				return err
			}
		}
	}
}

// next is the next batch. Before it waits for one, what was written is shown,
// and flushed when its time has come.
func (d *delivery) next(ctx context.Context, reader *journal.Reader) (*journal.Batch, error) {
	batch, err := reader.TryNext(ctx)
	if batch != nil || err != nil {
		return batch, err
	}
	if err := d.writer.Show(); err != nil {
		return nil, err
	}
	for d.at > d.offset.Committed {
		wait, cancel := context.WithTimeout(ctx, max(flushEvery-time.Since(d.lastFlush), time.Millisecond))
		batch, err := reader.Next(wait)
		cancel()
		if batch != nil || !errors.Is(err, context.DeadlineExceeded) {
			return batch, err
		}
		if err := d.flush(ctx); err != nil {
			return nil, err
		}
	}
	return reader.Next(ctx)
}

func (d *delivery) batch(ctx context.Context, batch *journal.Batch) error {
	var e change.Event
	sent := int64(0)
	for batch.Next(&e) {
		if !d.Filter.Admits(&e) {
			continue
		}
		d.Origin.Fill(&e)
		d.buf = d.encoder.Append(d.buf[:0], &e)
		if err := d.writer.Write(ctx, e.Offset, d.buf); err != nil {
			return err
		}
		sent++
	}
	if err := batch.Err(); err != nil {
		return err
	}
	d.at = batch.Last
	d.written += sent
	d.newest = batch.LastCommit
	if cap(d.buf) > 1<<20 {
		d.buf = nil // one huge row must not be held for ever
	}
	now := time.Now()
	d.mu.Lock()
	d.rates.Add(now, sent)
	d.status.Delivered += sent
	if sent > 0 {
		d.status.Delay = now.Sub(batch.LastCommit)
	}
	d.mu.Unlock()
	return nil
}

// flush makes what was written durable, and commits it after that.
func (d *delivery) flush(ctx context.Context) error {
	d.lastFlush = time.Now()
	if d.at <= d.offset.Committed {
		return nil
	}
	if err := d.writer.Flush(ctx); err != nil {
		return err
	}
	if err := d.Catalog.Commit(ctx, d.ID, d.offset.Run, d.at, d.written); err != nil {
		return err
	}
	d.offset.Committed, d.written = d.at, 0
	d.set(func(s *Status) { s.Committed = d.at })
	return nil
}
