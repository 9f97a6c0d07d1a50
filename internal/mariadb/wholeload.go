package mariadb

import (
	"context"
	"time"

	"rillmark/internal/mariadb/stream"
)

// doWhole loads a table without a key that it could be read by, so that nothing says which
// of its rows a later change is about: it is read in one snapshot, and the log stands still
// where that snapshot does until all its rows are in the journal.
func (l *loader) doWhole(ctx context.Context, j *job) error {
	r := l.run
	var s snapshot
	if err := l.see(ctx, j, &s); err != nil {
		return err
	}
	if err := r.awaitWhole(ctx); err != nil {
		return err
	}
	r.writing.Lock()
	held := true
	release := func() {
		if held {
			r.writing.Unlock()
			held = false
		}
	}
	defer release()
	var low stream.Place
	for {
		var known, there bool
		r.under(func() {
			there = !r.at.place.Before(s.at)
			if low, known = r.loads.past.low(&s, j.load.sound); !known || low.Before(j.load.floor) {
				known = false
			}
		})
		if there {
			if !known {
				return errAgain
			}
			break
		}
		// The log has not come so far. It goes on by one group at a time, so that it does
		// not pass the place.
		release()
		if err := r.awaitNext(ctx, s.at); err != nil {
			return err
		}
		r.writing.Lock()
		held = true
	}
	clean := false
	r.under(func() {
		changes, _ := j.load.between(low)
		clean = len(changes) == 0 && j.current()
	})
	if !clean {
		return errAgain
	}
	first := true
	err := l.readWhole(ctx, j, func(c *chunk, last bool) error {
		return r.sink.Locked(func() error {
			if err := r.sink.Reserve(); err != nil {
				return err
			}
			r.sink.Begin("", "", time.Now().UnixMicro(), 0)
			defer r.sink.Commit()
			r.tx.place = r.at.place.Number()
			if first {
				first = false
				r.adopt(j.table, j.layout, j.listed.Filled)
				if !j.current() {
					return errAgain
				}
				r.loadBegins(j)
			}
			for _, row := range c.rows {
				r.addExisting(j.table, c, row)
			}
			if last {
				r.loadEnds(j.table)
			}
			r.sink.Table(j.table.progressState())
			return nil
		})
	})
	if err != nil {
		r.under(func() {
			if j.current() && j.load.progress.Began {
				j.load.restart() // its snapshot is gone
			}
		})
		return err
	}
	return s.end(ctx, l.conn)
}

// readWhole reads all rows of a table.
func (l *loader) readWhole(ctx context.Context, j *job, each func(c *chunk, last bool) error) error {
	l.arena, l.images = nil, nil
	c, err := l.read(ctx, j, 0, func(c *chunk) error { return each(c, false) })
	if err != nil {
		return err
	}
	return each(c, true)
}

// awaitNext waits until the log has been taken up to a place, and has it stand still there
// for a moment.
func (r *run) awaitNext(ctx context.Context, until stream.Place) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := r.await(ctx, until); err != nil {
		if ctx.Err() != nil {
			return errAgain
		}
		return err
	}
	return nil
}
