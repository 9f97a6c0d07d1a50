// Package trial is a sink for trials: it hands events on and keeps nothing.
package trial

import (
	"context"
	"sync"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// Sink hands the events of a run on. It implements [engine.Sink].
type Sink struct {
	// Each gets the events, good during the call only; its error ends the run.
	Each func(*change.OpenTransaction, *change.Row) error
	mu   sync.Mutex
	tx   change.OpenTransaction
	err  error
}

// Err is the error of Each that ended the run.
func (s *Sink) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Locked implements [engine.Sink].
func (s *Sink) Locked(f func() error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return f()
}

// Unlocked implements [engine.Sink].
func (s *Sink) Unlocked(f func() error) error {
	s.mu.Unlock()
	defer s.mu.Lock()
	return f()
}

// Checkpoint implements [engine.Sink].
func (s *Sink) Checkpoint(func() engine.Checkpoint) {}

// Reserve implements [engine.Sink].
func (s *Sink) Reserve() error { return s.err }

// Begin implements [engine.Sink].
func (s *Sink) Begin(id, origin string, commitTime int64, next uint64) {
	s.tx = change.OpenTransaction{ID: id, Origin: origin, CommitTime: commitTime, Next: next}
}

// Add implements [engine.Sink].
func (s *Sink) Add(row *change.Row) {
	if s.err == nil {
		s.err = s.Each(&s.tx, row)
	}
	s.tx.Next++
}

// Next implements [engine.Sink].
func (s *Sink) Next() uint64 { return s.tx.Next }

// Commit implements [engine.Sink].
func (s *Sink) Commit() {}

// Table implements [engine.Sink].
func (s *Sink) Table(engine.TableState) {}

// Touch implements [engine.Sink].
func (s *Sink) Touch() {}

// Store implements [engine.Sink].
func (s *Sink) Store(context.Context) error { return s.err }

// StoreWhole implements [engine.Sink].
func (s *Sink) StoreWhole(context.Context) error { return s.err }

// Released implements [engine.Sink].
func (s *Sink) Released() uint64 { return 0 }

// Report implements [engine.Sink].
func (s *Sink) Report(engine.Report) {}
