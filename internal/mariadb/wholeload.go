package mariadb

import (
	"context"
	"time"

	"rillmark/internal/mariadb/wire"
)

// doWhole loads a table without a key that it could be read by, so that nothing says which
// of its rows a later change is about: it is read in one snapshot, and the log stands still
// behind it, where nothing has changed the table since, until its rows are in the journal.
func (l *loader) doWhole(ctx context.Context, j *job) error {
	var s snapshot
	if err := l.see(ctx, j, &s); err != nil {
		return err
	}
	if err := l.standStill(ctx, j, &s); err != nil {
		return err
	}
	defer l.run.writing.Unlock()
	first := true
	err := l.readWhole(ctx, j, func(c *chunk, last bool) error {
		put := l.putWhole(j, c, first, last)
		first = false
		return put
	})
	if err != nil {
		l.run.under(func() {
			if j.current() && j.load.progress.Began {
				j.load.restart() // its snapshot is gone
			}
		})
		return err
	}
	return s.end(ctx, l.conn)
}

// standStill waits until the log has been taken beyond the snapshot, and has it stand still
// there: the caller then holds writing. Where the table has changed in between, the snapshot
// has to be taken again.
func (l *loader) standStill(ctx context.Context, j *job, s *snapshot) error {
	r := l.run
	// A session that has touched a table keeps its definition as it is: statements that
	// changed it before are in the log up to here.
	if err := l.conn.Exec(ctx, "SELECT 1 FROM "+wire.Name(j.listed.Database)+"."+wire.Name(j.listed.Table)+" LIMIT 0"); err != nil {
		return err
	}
	end, err := logEnd(ctx, l.conn)
	if err != nil {
		return err
	}
	if err := r.await(ctx, end); err != nil {
		return err
	}
	if err := r.awaitWhole(ctx); err != nil {
		return err
	}
	r.writing.Lock()
	clean := false
	r.under(func() {
		low, known := r.past.low(s, j.load.sound)
		l.noteWait(j, known)
		changes, _ := j.load.between(low)
		clean = known && !low.Before(j.load.floor) && len(changes) == 0 && j.current()
	})
	if !clean {
		r.writing.Unlock()
		return errAgain
	}
	return nil
}

// putWhole puts rows of a table without a key into the journal; writing is held.
func (l *loader) putWhole(j *job, c *chunk, first, last bool) error {
	r := l.run
	return r.sink.Locked(func() error {
		if err := r.sink.Reserve(); err != nil {
			return err
		}
		r.sink.Begin("", "", time.Now().UnixMicro(), 0)
		defer r.sink.Commit()
		r.tx.place = r.at.place.Number()
		if first {
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
		r.sink.Table(j.table.Record())
		return nil
	})
}

// readWhole reads all rows of a table.
func (l *loader) readWhole(ctx context.Context, j *job, each func(c *chunk, last bool) error) error {
	l.arena, l.images = nil, nil
	l.writer.Fresh()
	c, err := l.rows(ctx, j, 0, func(c *chunk) error { return each(c, false) })
	if err != nil {
		return err
	}
	return each(c, true)
}
