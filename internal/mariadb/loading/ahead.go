package loading

import (
	"context"
	"slices"

	"rillmark/internal/guard"
	"rillmark/internal/mariadb/loads"
)

// ahead is a chunk that was read, with the snapshot it was read in. The next chunk is read while
// one is put into the journal; otherwise the server and the journal would wait for each other.
//
// It is as correct as one that is read later: the changes that are laid over its rows are kept
// from the earlier chunk's snapshot on, and a later snapshot sees all that an earlier one saw. It
// is used only where it begins behind the row that the earlier chunk ended with, and the load and
// the table's version are still the same.
type ahead struct {
	load     *loads.TableLoad
	turn     int
	version  int
	after    []string // the key behind which it begins
	snapshot loads.Snapshot
	chunk    *chunk
}

// of reports whether it is what a job asks for; the lock is held.
func (a *ahead) of(j *job) bool {
	return a != nil && a.load == j.load && a.turn == j.turn && a.version == j.table.Version && slices.Equal(a.after, j.at.After)
}

// readOne reads the rows of a chunk in the snapshot that was taken for it, and gives that back.
func (l *loader) readOne(ctx context.Context, j *job, one *ahead) (err error) {
	if one.chunk, err = l.rows(ctx, j, j.limit, nil); err != nil {
		return err
	}
	return one.snapshot.End(ctx, l.conn)
}

// put puts a chunk into the journal, and reads the next one meanwhile.
func (l *loader) put(ctx context.Context, j *job) error {
	one := j.ready
	defer l.giveBack(one.chunk)
	deliver := func(ctx context.Context) error {
		return l.in.Host.Place(ctx, one.snapshot.Ended, func() error { return l.deliver(j, &one.snapshot, one.chunk) })
	}
	// A lock on a table keeps writers waiting: it is taken only where it is their turn.
	if one.chunk.end || !j.sound || !j.listed.Transactional() {
		return deliver(ctx)
	}
	next := &ahead{load: j.load, turn: j.turn, version: j.version, after: one.chunk.after}
	then := *j
	then.at.After, then.limit = one.chunk.after, l.limitAfter(j, one.chunk)
	var failed error
	group, ctx := guard.WithContext(ctx)
	group.Go(func() error { return deliver(ctx) })
	group.Go(func() error {
		if failed = next.snapshot.Begin(ctx, l.conn); failed == nil {
			failed = l.readOne(ctx, &then, next)
		}
		return nil
	})
	err := group.Wait()
	switch {
	case err != nil:
		return err
	case failed != nil:
		l.HangUp(ctx) // it shows again when it is read in its turn
	default:
		l.ahead = next
	}
	return nil
}

// limitAfter is how many rows the chunk behind one has.
func (l *loader) limitAfter(j *job, c *chunk) int {
	n := len(c.rows)
	if n == 0 {
		return j.limit
	}
	return min(max(l.in.Config.ChunkBytes/max(c.bytes/n, 1), 20), 50_000, 4*j.limit)
}
