package upkeep

import (
	"context"
	"time"

	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/running"
)

// watchEvery is how often sources are asked how much log they hold back for us.
// It is asked of paused ones too: those fill a disk.
const watchEvery = 30 * time.Second

// KeepWatching asks all sources now and then.
func (s *Upkeep) KeepWatching() {
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for {
		for name, one := range s.Running.Sources() {
			if s.Work.Err() != nil {
				return
			}
			s.watch(name, one)
		}
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
	}
}

// watch asks one source. What cannot be asked is shown with its age.
func (s *Upkeep) watch(name string, one *running.Source) {
	built, err := s.Engine(one.Record)
	if err != nil {
		return
	}
	retainer, can := built.(engine.LogRetainer)
	if !can {
		return
	}
	ctx, cancel := context.WithTimeout(s.Work, 5*time.Second)
	defer cancel()
	head, err := s.Store.Head(ctx, one.Record.ID)
	if err != nil {
		return
	}
	held, err := retainer.RetainedLog(ctx, head.Checkpoint)
	if err != nil {
		return
	}
	before := one.Retained.Swap(&running.Retained{Log: held, At: time.Now()})
	was := engine.RetainedFine
	if before != nil && before.Log.Level != "" {
		was = before.Log.Level
	}
	switch held.Level {
	case was, "":
	case engine.RetainedFine:
		s.RunLog.Write("info", "source/"+name, "retained-log", "the source "+held.String()+" again")
	default:
		level := "warn"
		if held.Level == engine.RetainedUrgent {
			level = "error"
		}
		s.RunLog.Write(level, "source/"+name, "retained-log", "the source "+held.String()+": "+held.Advice)
	}
}

// sampleEvery is how often outlets are looked at for their last hour.
const sampleEvery = 5 * time.Second

// storeEvery is how many samples lie between two times that histories are stored.
const storeEvery = 12

// StoreHistories puts the last hour of the outlets that this instance delivers on
// record.
func (s *Upkeep) StoreHistories() {
	ctx, cancel := context.WithTimeout(s.Work, 2*time.Second)
	defer cancel()
	for name, o := range s.Running.Outlets() {
		if o.Runner == nil || o.Runner.Status().Phase == outlet.PhaseStandby {
			continue
		}
		if err := o.Runner.KeepHistory(ctx); err != nil && s.Work.Err() == nil {
			s.RunLog.Write("warn", "outlet/"+name, "history", "the last hour could not be stored: "+err.Error())
		}
	}
	if err := s.Catalog.NoteDelivered(ctx); err != nil && s.Work.Err() == nil {
		s.RunLog.Write("warn", "service", "history", "how far outlets are could not be stored: "+err.Error())
	}
}

const (
	// keepDelivered is for how long it is known when an event was delivered.
	keepDelivered = 7 * 24 * time.Hour
	// forgetEvery is how many samples lie between two times that older ones are forgotten.
	forgetEvery = 60 * storeEvery
)

// forgetDelivered forgets when old events were delivered.
func (s *Upkeep) forgetDelivered() {
	ctx, cancel := context.WithTimeout(s.Work, time.Minute)
	defer cancel()
	if err := s.Catalog.ForgetDelivered(ctx, keepDelivered); err != nil && s.Work.Err() == nil {
		s.RunLog.Write("warn", "service", "history", "old records of deliveries could not be removed: "+err.Error())
	}
}

// KeepHistories notes how far each outlet is behind, whether somebody looks or not.
func (s *Upkeep) KeepHistories() {
	ticker := time.NewTicker(sampleEvery)
	defer ticker.Stop()
	for n := 1; ; n++ {
		if n%storeEvery == 0 {
			s.StoreHistories()
		}
		if n%forgetEvery == storeEvery {
			s.forgetDelivered()
		}
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
		next := make(map[int64]int64)
		for _, one := range s.Running.Sources() {
			if _, at, live := one.Capture.Counts(); live {
				next[one.Record.ID] = at
			} else if head, err := s.Store.Head(s.Work, one.Record.ID); err == nil {
				next[one.Record.ID] = head.Next
			}
		}
		for _, o := range s.Running.Outlets() {
			if at := next[o.SourceID]; o.Runner != nil && at > 0 {
				o.Runner.Sample(max(at-1-o.Runner.Status().Committed, 0))
			}
		}
	}
}
