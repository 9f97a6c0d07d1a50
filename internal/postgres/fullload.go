package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// full loads a table that has no key, so that nothing tells which of its rows a
// change between two marks is about: it is read in one snapshot, which stays open
// until all its rows are in the journal.
//
// The void event stands where every transaction before it is visible in the
// snapshot and none after it is. Rows of the load and changes after the void
// then add up in any order: folded as a bag, in which a row may for a while be
// missing more often than it is there, they give the table.
func (l *loader) full(ctx context.Context, j *job, estimate int64) error {
	marks, err := l.run.markSession(ctx, "load")
	if err != nil {
		return err
	}
	defer marks.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	err = l.fullBetween(ctx, j, estimate, func(seen func() error) error { return l.run.place(ctx, marks, seen) })
	if l.conn.PgConn().TxStatus() != 'I' && ctx.Err() == nil {
		if _, rolled := l.conn.Exec(ctx, "ROLLBACK"); rolled != nil && (err == nil || errors.Is(err, errDisturbed)) {
			return rolled
		}
	}
	if errors.Is(err, errDisturbed) {
		return nil // it is handed out again
	}
	return err
}

func (l *loader) fullBetween(ctx context.Context, j *job, estimate int64, mark func(func() error) error) error {
	r, t := l.run, j.table
	began := time.Now()
	var into *chunkRows
	for attempt := 0; ; attempt++ {
		var w *window
		var before []uint32
		err := mark(func() error {
			if j.current() {
				w, before = j.load.open(), r.notYetVisible.of(t.number)
			}
			return nil
		})
		if err != nil {
			return err
		}
		if w == nil {
			return errDisturbed
		}
		seen, err := l.beginReading(ctx)
		if err != nil {
			return err
		}
		into = &chunkRows{seen: seen}
		if into.layout, err = l.layout(ctx); err != nil {
			return err
		}
		accepted := false
		err = mark(func() error {
			defer j.load.close(w)
			invisible := func(xid uint32) bool { return !seen.sees(xid) }
			if !j.current() || w.voided || slices.ContainsFunc(before, invisible) || slices.ContainsFunc(w.touched, invisible) {
				return nil
			}
			accepted = true
			r.adopt(t, into.layout, r.lastRow)
			r.loadBegins(j, into.layout, inFull, estimate)
			return nil
		})
		if err != nil {
			return err
		}
		if accepted {
			break
		}
		if _, err := l.conn.Exec(ctx, "ROLLBACK"); err != nil {
			return err
		}
		var current bool
		r.under(func() { current = j.current() })
		if !current {
			return errDisturbed
		}
		if err := l.waitToSee(ctx, attempt, began); err != nil {
			return err
		}
	}
	return l.readFull(ctx, j, into, mark)
}

// errDisturbed ends the reading of a table without a key that was truncated or
// changed its columns meanwhile: it begins anew.
var errDisturbed = errors.New("the table has changed under the load")

// readFull reads through the table with a cursor, a piece between two marks.
func (l *loader) readFull(ctx context.Context, j *job, into *chunkRows, mark func(func() error) error) error {
	r, t := l.run, j.table
	s := l.selectionOf(into.layout)
	if _, err := l.conn.Exec(ctx, "DECLARE rows NO SCROLL CURSOR FOR SELECT "+strings.Join(s.names, ", ")+" FROM "+j.from()+j.condition()); err != nil {
		return err
	}
	// A first look tells how large rows are; then there are more at a time.
	for limit := 20; ; limit = min(4*limit, l.limit()) {
		into.rows = nil
		n, _, err := l.collect(ctx, into, s, fmt.Sprintf("FETCH %d FROM rows", limit), nil, 0, 0)
		if err != nil {
			return err
		}
		done := n < limit
		err = mark(func() error {
			if !j.current() || t.state.Schema.Fingerprint() != into.layout.schema.Fingerprint() {
				if j.current() {
					t.load.restart()
				}
				return nil
			}
			for _, row := range into.rows {
				r.addExisting(t, into, row, r.lastRow)
			}
			t.load.progress.Read = done
			r.finishIfComplete(j)
			r.sink.Table(t.progressState())
			return nil
		})
		if err != nil {
			return err
		}
		var disturbed bool
		r.under(func() { disturbed = j.load.turn != j.turn })
		if disturbed {
			return errDisturbed
		}
		if done {
			_, err := l.conn.Exec(ctx, "COMMIT")
			return err
		}
	}
}
