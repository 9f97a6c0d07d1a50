// Package capture runs sources: it takes a source's journal over, runs its
// engine into it, and tries again after a fault that may pass. One [Source] is
// one such loop.
package capture

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/catalog"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/journal"
)

// The phases of a source's capture.
const (
	PhasePaused   = "paused"   // on request
	PhaseStarting = "starting" // connecting, preparing
	PhaseRunning  = "running"  // following, and perhaps loading
	PhaseWaiting  = "waiting"  // for a fault to pass; tried again by itself
	PhaseStandby  = "standby"  // another instance captures it
	PhaseFailed   = "failed"   // a person has to decide; see the error
)

// Status is what a source's capture is doing.
type Status struct {
	Phase string
	Doing string
	// Error is the last one, in a person's words; empty while all is well.
	Error string
	Code  string
	Since time.Time
	Retry time.Time // when it is tried again, while waiting
}

// Source runs one source until its context is done.
type Source struct {
	ID      int64
	Name    string
	Engine  func() (engine.Engine, error) // built anew for each try: secrets may have changed
	Catalog *catalog.Catalog
	Store   journal.Journals
	Log     func(level, event, message string)
	// Instance is the id of this process among those on the state database.
	Instance string
	// Once has the source end when it has caught up.
	Once bool
	// Complete is called when a source that was to load only has done so, and CaughtUp
	// when one that runs once has; they must not wait for the end of Run.
	Complete, CaughtUp func()
	Stats              *Stats

	// former are the instances that this one took the source over from, the last of them;
	// only Run uses it.
	former []string

	mu     sync.Mutex
	status Status
	writer journal.Appender
	// reloads reaches the run at hand, whose end closes ended; nil without one.
	reloads chan engine.Reload
	ended   chan struct{}
	// sink is that of the run at hand, and asked when it was asked to note its position last.
	sink  *sink
	asked time.Time
}

// askedEvery is how far apart two notes of a position are that somebody asks for.
const askedEvery = 100 * time.Millisecond

// Reached reports whether all that the source's log has up to a place is captured and in the
// journal. Where it is not, the position that the run at hand has come to is noted soon, even if
// nothing that is captured lies before it: of a log that others write alone, it is noted seldom.
func (s *Source) Reached(place uint64) bool {
	if s.Stats.Place() >= place {
		return true
	}
	s.mu.Lock()
	to := s.sink
	if to == nil || time.Since(s.asked) < askedEvery {
		s.mu.Unlock()
		return false
	}
	s.asked = time.Now()
	s.mu.Unlock()
	to.Locked(func() error { //nolint:errcheck // of a run that has ended
		if to.checkpoint != nil {
			to.Touch()
		}
		return nil
	})
	return false
}

// Reload has the run at hand read a table's rows anew, while it goes on; see
// [engine.Reload]. taken is false where no run could take that on.
func (s *Source) Reload(ctx context.Context, table string, ask load.Ask) (taken bool, err error) {
	s.mu.Lock()
	reloads, ended := s.reloads, s.ended
	running := s.status.Phase == PhaseRunning
	s.mu.Unlock()
	if !running || reloads == nil {
		return false, nil
	}
	done := make(chan error, 1)
	select {
	case reloads <- engine.Reload{Table: table, Ask: ask, Done: done}:
	case <-ended:
		return false, nil
	case <-ctx.Done():
		return false, context.Cause(ctx)
	}
	select {
	case err := <-done:
		return err == nil || errors.Is(err, engine.ErrCannotLoad), err
	case <-ended:
		return false, nil
	case <-ctx.Done():
		return false, context.Cause(ctx)
	}
}

// Status is how the source stands now.
func (s *Source) Status() Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.status
}

func (s *Source) set(change func(*Status)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	phase := s.status.Phase
	change(&s.status)
	if s.status.Phase != phase {
		s.status.Since = time.Now()
	}
}

// Counts are exact up to the newest append, while this process writes the
// journal; ok is false otherwise.
func (s *Source) Counts() (counts []journal.Count, next int64, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.writer == nil {
		return nil, 0, false
	}
	counts, next = s.writer.Counts()
	return counts, next, true
}

// The waits between tries.
const (
	firstWait = 200 * time.Millisecond
	longWait  = 5 * time.Second
)

// codeHeld is the fault of a source that another instance captures.
const codeHeld = "held-elsewhere"

// standbyWait is how often it is asked whether another instance still does.
const standbyWait = 2 * time.Second

// mostFormer instances may hold on to something at the source.
const mostFormer = 8

// Run captures until ctx is done.
func (s *Source) Run(ctx context.Context) {
	wait := firstWait
	last := ""
	for {
		began := time.Now()
		s.set(func(st *Status) {
			if st.Phase != PhaseStandby { // which lasts until it captures
				st.Phase = PhaseStarting
			}
		})
		err := guard.Run(func() error { return s.once(ctx) })
		if stack := guard.Stack(err); stack != "" {
			s.Log("error", "panic", stack)
		}
		if ctx.Err() != nil {
			s.set(func(st *Status) { *st = Status{Phase: PhasePaused} })
			return
		}
		if errors.Is(err, engine.ErrAgain) {
			continue
		}
		if errors.Is(err, engine.ErrComplete) || errors.Is(err, engine.ErrCaughtUp) {
			s.set(func(st *Status) { *st = Status{Phase: PhasePaused} })
			if errors.Is(err, engine.ErrComplete) {
				s.Log("info", "complete", "nothing is left to load")
				s.Complete()
			} else {
				s.CaughtUp()
			}
			<-ctx.Done()
			return
		}
		if time.Since(began) > 10*time.Second {
			wait, last = firstWait, "" // it had worked: this is another failure
		}
		text, code := err.Error(), "error"
		var fault *engine.Fault
		if errors.As(err, &fault) {
			code = fault.Code
		}
		final := engine.IsFinal(err)
		if text != last || final {
			level := "error"
			if code == codeHeld {
				level = "info" // as it should be, with two instances
			}
			s.Log(level, code, text)
		}
		last = text
		if code == codeHeld {
			s.set(func(st *Status) { *st = Status{Phase: PhaseStandby} })
			select {
			case <-ctx.Done():
			case <-time.After(standbyWait):
			}
			continue
		}
		if final {
			s.set(func(st *Status) { st.Phase, st.Doing, st.Error, st.Code = PhaseFailed, "", text, code })
			<-ctx.Done() // until a person resumes it
			s.set(func(st *Status) { *st = Status{Phase: PhasePaused} })
			return
		}
		pause := wait + rand.N(wait/2)
		s.set(func(st *Status) {
			st.Phase, st.Doing, st.Error, st.Code, st.Retry = PhaseWaiting, "", text, code, time.Now().Add(pause)
		})
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		wait = min(wait*2, longWait)
	}
}

// once is one try: from the journal's own position until something fails.
func (s *Source) once(ctx context.Context) error {
	built, err := s.Engine()
	if err != nil {
		return err
	}
	writer, head, err := s.Store.TakeOver(ctx, s.ID, s.Instance)
	if err != nil {
		return stateFault(err)
	}
	defer writer.Close(ctx)
	if head.Former != "" && head.Former != s.Instance && !slices.Contains(s.former, head.Former) {
		s.former = append(s.former[max(0, len(s.former)-mostFormer+1):], head.Former)
	}
	tables, err := s.Catalog.TableStates(ctx, s.ID)
	if err != nil {
		return stateFault(err)
	}
	reloads, ended := make(chan engine.Reload), make(chan struct{})
	defer close(ended)
	s.mu.Lock()
	s.writer, s.reloads, s.ended = writer, reloads, ended
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.writer, s.reloads, s.sink = nil, nil, nil
		s.mu.Unlock()
	}()

	to := newSink(writer, s.Catalog.KnowSchema, s.take, s.Stats)
	s.mu.Lock()
	s.sink = to
	s.mu.Unlock()
	group, ctx := guard.WithContext(ctx)
	parcels := make(chan parcel, 1)
	group.Go(func() error { return to.compress(ctx, parcels) })
	group.Go(func() error { return stateFault(to.store(ctx, parcels)) })
	group.Go(func() error { return s.keepCounts(ctx, writer) })
	group.Go(func() error {
		err := built.Run(ctx, engine.Start{Checkpoint: head.Checkpoint, Tables: tables, Once: s.Once, Reloads: reloads, Reader: s.Instance, Former: s.former}, to)
		to.end(err)
		if err == nil {
			err = errors.New("the engine ended without being asked to")
		}
		return err
	})
	// Whoever fails first ends the others; an engine that waits for room is
	// woken too.
	stop := context.AfterFunc(ctx, func() { to.end(context.Cause(ctx)) })
	defer stop()
	err = group.Wait()
	flush, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	writer.FlushCounts(flush) //nolint:errcheck // they are counted again from the blocks
	return err
}

// take passes an engine's report on.
func (s *Source) take(r engine.Report) {
	if r.Message != "" {
		s.Log(r.Level, r.Event, r.Message)
	}
	if r.Doing != "" {
		s.set(func(st *Status) {
			st.Doing = r.Doing
			if !r.Preparing {
				st.Phase, st.Error, st.Code = PhaseRunning, "", ""
			}
		})
	}
}

// countsEvery is how often the counts are stored; what is younger is counted
// again after a crash.
const countsEvery = 5 * time.Second

func (s *Source) keepCounts(ctx context.Context, writer journal.Appender) error {
	ticker := time.NewTicker(countsEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
			if err := writer.FlushCounts(ctx); err != nil {
				return stateFault(err)
			}
		}
	}
}

// stateFault puts an error of the state database into words.
func stateFault(err error) error {
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, journal.ErrHeld):
		return &engine.Fault{Code: codeHeld, Message: "another instance on this state database captures this source; this one stands by"}
	case errors.Is(err, journal.ErrFenced):
		return &engine.Fault{Code: "fenced", Cause: err, Message: "this instance no longer writes the source's journal"}
	}
	return &engine.Fault{Code: "state-database", Cause: err, Message: "the state database cannot be used; the source keeps its log for us meanwhile"}
}

// String names the source in logs.
func (s *Source) String() string { return fmt.Sprintf("source/%s", s.Name) }
