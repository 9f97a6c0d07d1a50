package service

import (
	"context"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/verify"
)

// standing compares the tables of outlets that are to be verified regularly, one outlet at a
// time, so that its cost is bounded however many there are.
type standing struct {
	running *running
	outlets *Outlets
}

// standingEvery is how often it is looked which outlet is due.
const standingEvery = 20 * time.Second

// keep compares until the service stops.
func (s *standing) keep() {
	work := s.running.Work
	ticker := time.NewTicker(standingEvery)
	defer ticker.Stop()
	for {
		select {
		case <-work.Done():
			return
		case <-ticker.C:
		}
		found, err := s.running.Catalog.AllVerified(work)
		if err != nil {
			continue // that the state database is away is on record
		}
		for name, one := range s.running.copyOutlets() {
			if work.Err() == nil && s.due(one, found[one.record.ID]) {
				s.compare(work, name, one.record.ID)
			}
		}
	}
}

// due reports whether an outlet that this instance delivers is to be compared again.
func (s *standing) due(one *outletRun, last *catalog.Verified) bool {
	every, err := one.record.Definition.VerifyInterval()
	if err != nil || every == 0 || one.runner == nil || one.stop == nil || one.runner.Status().Phase != "running" {
		return false
	}
	return last == nil || time.Since(last.At) >= every
}

func (s *standing) compare(ctx context.Context, name string, outlet int64) {
	_, err := s.outlets.Verify(ctx, name, ComparePlan{}, func(verify.TableVerdict) {})
	if err == nil || ctx.Err() != nil {
		return // the result is on record
	}
	if s.running.Catalog.SetVerified(ctx, outlet, catalog.Verified{At: time.Now(), Finding: err.Error()}) == nil {
		s.running.RunLog.Write("warn", "outlet/"+name, "verified", "it could not be verified: "+err.Error())
	}
}
