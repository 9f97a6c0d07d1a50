// Package upkeep looks after journals and what sources retain for us: blocks are merged, old
// segments dropped, and everybody warned in time.
package upkeep

import (
	"sync"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/service/base"
	"rillmark/internal/service/running"
)

// Upkeep looks after journals: it condenses them, lets go what retention does not keep,
// watches what sources retain for us, and stores the outlets' history.
type Upkeep struct {
	*base.Common
	Running *running.Running
	// Engine makes a source's engine of its record.
	Engine  func(*catalog.Source) (engine.Engine, error)
	mu      sync.Mutex     // guards resting
	resting map[int64]rest // journals of paused sources
}

// rest is how often a journal was looked after since it ended at an offset.
type rest struct {
	next int64
	runs int
}

// restRuns are enough for a journal that nobody writes to: blocks settle in a minute.
const restRuns = 5

// rests reports whether a paused source's journal, which nobody writes to, needs no more.
func (s *Upkeep) rests(one *running.Source) bool {
	head, err := s.Store.Head(s.Work, one.Record.ID)
	if err != nil {
		return true // it is tried again
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.resting == nil {
		s.resting = make(map[int64]rest)
	}
	now := s.resting[one.Record.ID]
	if now.next != head.Next {
		now = rest{next: head.Next}
	}
	now.runs++
	s.resting[one.Record.ID] = now
	return now.runs > restRuns
}

// keptAtOnce is how many sources' journals are looked after side by side.
const keptAtOnce = 4

// Keep merges small blocks and drops what retention lets go, of a few sources side by side: a journal
// in which there is much to do keeps none of the others waiting.
func (s *Upkeep) Keep() {
	ticker := time.NewTicker(s.Config.Journal.UpkeepEvery)
	defer ticker.Stop()
	passes := newPasses(keptAtOnce)
	defer passes.Wait()
	for {
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
		for name, one := range s.Running.Sources() {
			passes.begin(s.Work, one.Record.ID, func() {
				if err := guard.Run(func() error { s.pass(name, one); return nil }); err != nil {
					s.RunLog.Write("error", "source/"+name, "upkeep", err.Error()+"\n"+guard.Stack(err))
				}
			})
		}
		if err := s.Catalog.TrimLog(s.Work, logAge, logEntries); err != nil && s.Work.Err() == nil {
			s.RunLog.Write("warn", "service", "log", err.Error())
		}
	}
}

// pass looks after one source's journal.
func (s *Upkeep) pass(name string, one *running.Source) {
	_, _, writes := one.Capture.Counts()
	if !writes && (one.Record.Running || s.rests(one)) {
		return // whoever writes the journal looks after it
	}
	loading := one.Capture.Stats.Loading() // it would take the processor from the load
	if err := s.Store.Upkeep(s.Work, one.Record.ID, settle, loading); err != nil && s.Work.Err() == nil {
		s.RunLog.Write("warn", "source/"+name, "upkeep", err.Error())
	}
	if writes {
		s.retain(name, one)
	}
}

const (
	// settle is how old blocks are before they are merged: readers near the
	// end find them as they were written.
	settle     = time.Minute
	logAge     = 30 * 24 * time.Hour
	logEntries = 100_000
)
