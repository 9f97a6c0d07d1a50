package comparing

import (
	"context"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/verify"
)

// standingEvery is how often it is looked which outlet is due.
const standingEvery = 20 * time.Second

// Keep compares the tables of outlets that are to be verified regularly, one outlet at a time,
// so that its cost is bounded however many there are. It ends when the service does.
func (s *Comparing) Keep() {
	work := s.Work
	ticker := time.NewTicker(standingEvery)
	defer ticker.Stop()
	for {
		select {
		case <-work.Done():
			return
		case <-ticker.C:
		}
		found, err := s.Catalog.AllVerified(work)
		if err != nil {
			continue // that the state database is away is on record
		}
		for name, record := range s.Running.Delivered() {
			if work.Err() == nil && s.due(record, found[record.ID]) {
				s.compareAgain(work, name, record.ID)
			}
		}
	}
}

// due reports whether an outlet that this instance delivers is to be compared again.
func (s *Comparing) due(record *catalog.Outlet, last *catalog.Verified) bool {
	every, err := record.Definition.VerifyInterval()
	if err != nil || every == 0 {
		return false
	}
	if runner := s.Running.Delivering(record.Name); runner == nil || runner.Status().Phase != "running" {
		return false
	}
	return last == nil || time.Since(last.At) >= every
}

func (s *Comparing) compareAgain(ctx context.Context, name string, outlet int64) {
	_, err := s.Verify(ctx, name, ComparePlan{}, func(verify.TableVerdict) {})
	if err == nil || ctx.Err() != nil {
		return // the result is on record
	}
	if s.Catalog.SetVerified(ctx, outlet, catalog.Verified{At: time.Now(), Finding: err.Error()}) == nil {
		s.RunLog.Write("warn", "outlet/"+name, "verified", "it could not be verified: "+err.Error())
	}
}
