package loading

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
)

// full loads a table that has no key, so that nothing identifies which of its rows a
// change between two marks is about: it is read in one snapshot, which stays open
// until all its rows are in the journal.
//
// The void event stands where every transaction before it is visible in the
// snapshot and none after it is. Rows of the load and changes after the void
// then add up in any order: folded as a bag, in which a row may for a while be
// missing more often than it is there, they give the table.
func (l *loader) full(ctx context.Context, j *job, estimate int64) error {
	marks, err := l.in.host.MarkSession(ctx, "load")
	if err != nil {
		return err
	}
	defer marks.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	err = l.fullBetween(ctx, j, estimate, func(seen func() error) error { return l.in.host.Place(ctx, marks, seen) })
	if l.Conn.PgConn().TxStatus() != 'I' && ctx.Err() == nil {
		if _, rolled := l.Conn.Exec(ctx, "ROLLBACK"); rolled != nil && (err == nil || errors.Is(err, errDisturbed)) {
			return rolled
		}
	}
	if errors.Is(err, errDisturbed) {
		return nil // it is handed out again
	}
	return err
}

func (l *loader) fullBetween(ctx context.Context, j *job, estimate int64, mark func(func() error) error) error {
	r, t := l.in, j.table
	began := time.Now()
	var into *chunk.Rows
	for attempt := 0; ; attempt++ {
		var w *loads.Window
		var before []uint32
		err := mark(func() error {
			if j.current() {
				w, before = j.load.Open(), r.host.Touching(t.Number)
			}
			return nil
		})
		if err != nil {
			return err
		}
		if w == nil {
			return errDisturbed
		}
		seen, err := l.BeginReading(ctx)
		if err != nil {
			return err
		}
		into = &chunk.Rows{Seen: seen}
		if into.Layout, err = l.Layout(ctx); err != nil {
			return err
		}
		if into.Leaves, err = l.Leaves(ctx); err != nil {
			return err
		}
		accepted := false
		err = mark(func() error {
			defer j.load.Close(w)
			invisible := func(xid uint32) bool { return !seen.Sees(xid) }
			if !j.current() || w.Voided || slices.ContainsFunc(before, invisible) || slices.ContainsFunc(w.Touched, invisible) || r.host.Hosts(t, into.Leaves) {
				return nil
			}
			accepted = true
			r.host.Adopt(t, into.Layout, r.host.LastRow())
			r.loadBegins(j, into.Layout, loads.InFull, estimate)
			return nil
		})
		if err != nil {
			return err
		}
		if accepted {
			break
		}
		if _, err := l.Conn.Exec(ctx, "ROLLBACK"); err != nil {
			return err
		}
		var current bool
		r.under(func() { current = j.current() })
		if !current {
			return errDisturbed
		}
		if err := l.WaitToSee(ctx, attempt, began); err != nil {
			return err
		}
	}
	return l.readFull(ctx, j, into, mark)
}

// errDisturbed ends the reading of a table without a key that was truncated or
// changed its columns meanwhile: it begins anew.
var errDisturbed = errors.New("the table has changed under the load")

// readFull reads through the table with a cursor, a piece between two marks.
func (l *loader) readFull(ctx context.Context, j *job, into *chunk.Rows, mark func(func() error) error) error {
	r, t := l.in, j.table
	s := l.SelectionOf(into.Layout)
	if _, err := l.Conn.Exec(ctx, "DECLARE rows NO SCROLL CURSOR FOR SELECT "+strings.Join(s.Names, ", ")+" FROM "+l.Target.From()+j.condition()); err != nil {
		return err
	}
	// The first read shows how large rows are; then there are more at a time.
	for limit := 20; ; limit = min(4*limit, l.Limit()) {
		into.Rows = nil
		n, _, err := l.Collect(ctx, into, s, fmt.Sprintf("FETCH %d FROM rows", limit), nil, 0, 0)
		if err != nil {
			return err
		}
		done := n < limit
		err = mark(func() error {
			if !j.current() || t.State.Schema.Fingerprint() != into.Layout.Schema.Fingerprint() {
				if j.current() {
					t.Load.Restart()
				}
				return nil
			}
			for _, row := range into.Rows {
				r.addExisting(t, into, row, r.host.LastRow())
			}
			t.Load.Progress.Read = done
			r.finishIfComplete(j)
			r.sink.Table(t.Record())
			return nil
		})
		if err != nil {
			return err
		}
		var disturbed bool
		r.under(func() { disturbed = j.load.Turn != j.turn })
		if disturbed {
			return errDisturbed
		}
		if done {
			_, err := l.Conn.Exec(ctx, "COMMIT")
			return err
		}
	}
}
