package mariadb

import (
	"context"
	"time"

	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/mariadb/loading"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/values"
)

// A run is what its loads belong to.
var _ loading.Host = (*run)(nil)

// Reached implements the loads' host: what of the open group has been taken is not kept.
func (r *run) Reached() stream.Place {
	if r.tx.open {
		return r.tx.end
	}
	return r.at.place
}

// Place implements the loads' host.
func (r *run) Place(ctx context.Context, until stream.Place, f func() error) error {
	release, err := r.StandStill(ctx, until, func() bool { return true })
	if err != nil {
		return err
	}
	defer release()
	return r.Unit(f)
}

// StandStill implements the loads' host.
func (r *run) StandStill(ctx context.Context, until stream.Place, may func() bool) (release func(), _ error) {
	if err := r.await(ctx, until); err != nil {
		return nil, err
	}
	if err := r.awaitWhole(ctx); err != nil {
		return nil, err
	}
	r.writing.Lock()
	allowed := false
	r.under(func() { allowed = may() })
	if !allowed {
		r.writing.Unlock()
		return nil, nil
	}
	return r.writing.Unlock, nil
}

// Unit implements the loads' host.
func (r *run) Unit(f func() error) error {
	return r.sink.Locked(func() error {
		if err := r.sink.Reserve(); err != nil {
			return err
		}
		r.sink.Begin("", "", time.Now().UnixMicro(), 0)
		defer r.sink.Commit()
		r.tx.place = r.at.place.Number()
		return f()
	})
}

// awaitWhole waits until the transaction is complete that the last run cut.
func (r *run) awaitWhole(ctx context.Context) error {
	select {
	case <-r.whole:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// At implements the loads' host.
func (r *run) At() uint64 { return r.tx.place }

// Adopt implements the loads' host.
func (r *run) Adopt(t *loads.Table, l *rows.Layout, filled []bool) { r.adopt(t, l, filled) }

// LayoutOf implements the loads' host.
func (r *run) LayoutOf(t *loads.Table, columns []*values.Column) (*rows.Layout, error) {
	return r.layout(t, columns, false)
}

// Existing implements the loads' host.
func (r *run) Existing(t *loads.Table, l *rows.Layout, row []change.Value, sizes map[string]int64) {
	r.tx.observing = nil
	r.writer.Existing(l, r.tx.place, row, sizes, t.Load.Progress.For.ID)
}
