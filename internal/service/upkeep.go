package service

import (
	"time"

	"rillmark/internal/service/base"
)

// upkeep looks after journals: it condenses them, lets go what retention does not keep,
// watches what sources retain for us, and stores the outlets' history.
type upkeep struct {
	*base.Common
	running *running
	sources *Sources
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
func (s *upkeep) rests(one *sourceRun) bool {
	head, err := s.Store.Head(s.Work, one.record.ID)
	if err != nil {
		return true // it is tried again
	}
	if s.resting == nil {
		s.resting = make(map[int64]rest)
	}
	now := s.resting[one.record.ID]
	if now.next != head.Next {
		now = rest{next: head.Next}
	}
	now.runs++
	s.resting[one.record.ID] = now
	return now.runs > restRuns
}

// keep merges small blocks and drops what retention lets go.
func (s *upkeep) keep() {
	ticker := time.NewTicker(s.Config.Journal.UpkeepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
		for name, one := range s.running.copySources() {
			_, _, writes := one.capture.Counts()
			if !writes && (one.record.Running || s.rests(one)) {
				continue // whoever writes the journal looks after it
			}
			loading := one.capture.Stats.Loading() // it would take the processor from the load
			if err := s.Store.Upkeep(s.Work, one.record.ID, settle, loading); err != nil && s.Work.Err() == nil {
				s.RunLog.Write("warn", "source/"+name, "upkeep", err.Error())
			}
			if writes {
				s.retain(name, one)
			}
		}
		if err := s.Catalog.TrimLog(s.Work, logAge, logEntries); err != nil && s.Work.Err() == nil {
			s.RunLog.Write("warn", "service", "log", err.Error())
		}
	}
}

const (
	// settle is how old blocks are before they are merged: readers near the
	// end find them as they were written.
	settle     = time.Minute
	logAge     = 30 * 24 * time.Hour
	logEntries = 100_000
)
