package service

import (
	"context"
	"time"

	"rillmark/internal/engine"
)

// watchEvery is how often sources are asked how much log they hold back for us.
// It is asked of paused ones too: those fill a disk.
const watchEvery = 15 * time.Second

// watched is what a source said, and when.
type watched struct {
	held engine.Held
	at   time.Time
}

func (s *Service) keepWatch() {
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for {
		for name, one := range s.copySources() {
			if s.work.Err() != nil {
				return
			}
			s.watch(name, one)
		}
		select {
		case <-s.work.Done():
			return
		case <-ticker.C:
		}
	}
}

// watch asks one source. What cannot be asked is shown with its age.
func (s *Service) watch(name string, one *sourceRun) {
	built, err := s.buildEngine(one.record)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(s.work, 5*time.Second)
	defer cancel()
	held, err := built.Held(ctx)
	if err != nil {
		return
	}
	before := one.held.Swap(&watched{held, time.Now()})
	was := engine.HeldFine
	if before != nil && before.held.Level != "" {
		was = before.held.Level
	}
	switch {
	case held.Level == was || held.Level == "":
	case held.Level == engine.HeldFine:
		s.log.tell("info", "source/"+name, "log-held", "the source "+held.String()+" again")
	default:
		level := "warn"
		if held.Level == engine.HeldUrgent {
			level = "error"
		}
		s.log.tell(level, "source/"+name, "log-held", "the source "+held.String()+": "+held.Advice)
	}
}
