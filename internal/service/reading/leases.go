package reading

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// LeasedPage is a run of events that one of several readers has been handed.
type LeasedPage struct {
	Page
	Lease *catalog.Lease // its Token is empty where there is nothing to read
}

// Lease hands a reader events that no other reader has, for a time. It waits up
// to wait for a first one.
func (s *Reading) Lease(ctx context.Context, name, reader string, limit int, lasts, wait time.Duration) (*LeasedPage, error) {
	if err := s.wantPull(ctx, name); err != nil {
		return nil, err
	}
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	deadline := time.Now().Add(wait)
	for {
		leased, feed, err := s.lease(ctx, record, reader, limit, lasts)
		if err != nil {
			return nil, err
		}
		if leased == nil {
			continue // somebody else has them since
		}
		if len(leased.Events) > 0 {
			return leased, nil
		}
		if leased.Lease.Token != "" {
			// Only events that the filter keeps back: they are dealt with.
			if _, err := s.Catalog.EndLease(ctx, record.ID, leased.Lease.Token, 0); err != nil && !errors.Is(err, catalog.ErrVersion) {
				return nil, base.Answer(err, "outlet", name)
			}
			continue
		}
		left := time.Until(deadline)
		if left <= 0 {
			return leased, nil
		}
		// Another reader's lease may run out before there is anything new.
		if err := feed.Wait(ctx, min(left, time.Second)); err != nil {
			return nil, err
		}
	}
}

// lease is one try: nil where another reader was faster. Readers of one outlet in
// this instance take turns, so that they do not read the same events in vain.
func (s *Reading) lease(ctx context.Context, record *catalog.Outlet, reader string, limit int, lasts time.Duration) (*LeasedPage, *Feed, error) {
	turn, _ := s.leasing.LoadOrStore(record.ID, make(chan struct{}, 1))
	select {
	case turn.(chan struct{}) <- struct{}{}:
		defer func() { <-turn.(chan struct{}) }()
	case <-ctx.Done():
		return nil, nil, context.Cause(ctx)
	}
	from, most, err := s.Catalog.Free(ctx, record.ID)
	if err != nil {
		return nil, nil, base.Answer(err, "outlet", record.Name)
	}
	feed, committed, err := s.OutletFeed(ctx, record.Name, Span{From: strconv.FormatInt(from, 10)})
	if err != nil {
		return nil, nil, err
	}
	page, err := feed.page(ctx, min(limit, int(min(most-from+1, 1<<30))), 0)
	if err != nil {
		return nil, nil, err
	}
	leased := &LeasedPage{Page: *page, Lease: &catalog.Lease{First: from, Last: min(page.Passed, most)}}
	leased.Committed, leased.Passed = committed, leased.Lease.Last
	for n := len(leased.Offsets); n > 0 && leased.Offsets[n-1] > leased.Lease.Last; n-- {
		leased.Events, leased.Offsets = leased.Events[:n-1], leased.Offsets[:n-1]
	}
	if leased.Lease.Last < from {
		return leased, feed, nil // there is nothing to read
	}
	if leased.Lease, err = s.Catalog.Lend(ctx, record.ID, reader, lasts, from, leased.Lease.Last); err != nil {
		return nil, nil, base.Answer(err, "outlet", record.Name)
	}
	if leased.Lease == nil {
		return nil, nil, nil
	}
	return leased, feed, nil
}

func leaseOver(err error, name string) error {
	if errors.Is(err, catalog.ErrVersion) {
		return &engine.Fault{Code: base.CodeLeaseOver, Message: fmt.Sprintf("outlet %q has no such lease any more: its time is over, and another reader may have its events", name),
			Fix: "lease anew; ask for more seconds, or extend a lease in time"}
	}
	return base.Answer(err, "outlet", name)
}

// EndLease says that a lease's events are dealt with.
func (s *Reading) EndLease(ctx context.Context, name, token string, events int64) (committed int64, err error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	committed, err = s.Catalog.EndLease(ctx, record.ID, token, events)
	return committed, leaseOver(err, name)
}

// ExtendLease gives a reader more time.
func (s *Reading) ExtendLease(ctx context.Context, name, token string, lasts time.Duration) (time.Time, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return time.Time{}, base.Answer(err, "outlet", name)
	}
	until, err := s.Catalog.ExtendLease(ctx, record.ID, token, lasts)
	return until, leaseOver(err, name)
}

// GiveBackLease lets other readers have a lease's events at once.
func (s *Reading) GiveBackLease(ctx context.Context, name, token string) error {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	return leaseOver(s.Catalog.GiveBackLease(ctx, record.ID, token), name)
}
