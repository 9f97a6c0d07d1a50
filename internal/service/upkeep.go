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
			if _, _, writes := one.capture.Counts(); !writes {
				continue // whoever writes the journal looks after it
			}
			loading := one.capture.Stats.Loading() // it would take the processor from the load
			if err := s.Store.Upkeep(s.Work, one.record.ID, settle, loading); err != nil && s.Work.Err() == nil {
				s.RunLog.Write("warn", "source/"+name, "upkeep", err.Error())
			}
			s.retain(name, one)
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
