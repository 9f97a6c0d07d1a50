package loading

import (
	"context"

	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// doWhole loads a table without a key that it could be read by, so that nothing says which
// of its rows a later change is about: it is read in one snapshot, and the log stands still
// behind it, where nothing has changed the table since, until its rows are in the journal.
func (l *loader) doWhole(ctx context.Context, j *job) error {
	var s loads.Snapshot
	if err := l.see(ctx, j, &s); err != nil {
		return err
	}
	release, err := l.standStill(ctx, j, &s)
	if err != nil {
		return err
	}
	defer release()
	first := true
	err = l.readWhole(ctx, j, func(c *chunk, last bool) error {
		put := l.putWhole(j, c, first, last)
		first = false
		return put
	})
	if err != nil {
		l.in.under(func() {
			if j.current() && j.load.Progress.Began {
				j.load.Restart() // its snapshot is gone
			}
		})
		return err
	}
	return s.End(ctx, l.conn)
}

// standStill waits until the log has been taken beyond the snapshot, and has it stand still
// there until it is released. Where the table has changed in between, the snapshot has to be
// taken again.
func (l *loader) standStill(ctx context.Context, j *job, s *loads.Snapshot) (release func(), err error) {
	// A session that has touched a table keeps its definition as it is: statements that
	// changed it before are in the log up to here.
	if err := l.conn.Exec(ctx, "SELECT 1 FROM "+wire.Name(j.listed.Database)+"."+wire.Name(j.listed.Table)+" LIMIT 0"); err != nil {
		return nil, err
	}
	end, err := stream.LogEnd(ctx, l.conn)
	if err != nil {
		return nil, err
	}
	release, err = l.in.Host.StandStill(ctx, end, func() bool {
		low, known := l.in.Past.Low(s, j.load.Sound)
		l.noteWait(j, known)
		changes, _ := j.load.Between(low)
		return known && !low.Before(j.load.Floor) && len(changes) == 0 && j.current()
	})
	if err == nil && release == nil {
		err = errAgain
	}
	return release, err
}

// putWhole puts rows of a table without a key into the journal, while the log stands still.
func (l *loader) putWhole(j *job, c *chunk, first, last bool) error {
	r := l.in
	return r.Host.Unit(func() error {
		if first {
			r.Host.Adopt(j.table, j.layout, j.listed.Filled)
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
		r.Sink.Table(j.table.Record())
		return nil
	})
}

// readWhole reads all rows of a table.
func (l *loader) readWhole(ctx context.Context, j *job, each func(c *chunk, last bool) error) error {
	c, err := l.rows(ctx, j, 0, func(c *chunk) error { return each(c, false) })
	if err != nil {
		return err
	}
	defer l.giveBack(c)
	return each(c, true)
}
