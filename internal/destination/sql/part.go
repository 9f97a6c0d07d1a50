package sql

import (
	"context"
	"errors"
	"maps"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// part writes messages from one index to before another, in the open transaction or one that
// it opens.
func (w *Writer) part(ctx context.Context, batch *encode.Batch, from, to int, behind *destination.Behind) (refused []destination.Refusal, err error) {
	for from < to && err == nil {
		end := to
		if !w.db.TransactionalDefinitions() {
			if end, err = w.upToDefinition(ctx, batch.Messages[:to], from); err != nil {
				return nil, err
			}
		}
		var more []destination.Refusal
		if end > from {
			more, err = w.segment(ctx, batch, from, end, behind)
		} else {
			// No savepoint outlives such a statement.
			end++
			m := &batch.Messages[from]
			if err = w.heldFor(m, w.wholeTable(ctx, m)); err != nil && w.db.RefusesRow(err) && !engine.IsFinal(err) {
				more = []destination.Refusal{{Index: from, Err: w.db.Refusal(m.Table, err)}}
				err = w.outlet.KeepRefused(ctx, batch, more)
			}
		}
		w.touch(batch.Messages[from:end])
		refused, from = append(refused, more...), end
		w.reached = batch.Messages[end-1].Offset
	}
	return refused, err
}

// upToDefinition is the end of the messages that can be written before the next one that may
// make or alter tables, which commits what is open. What lies before its transaction is
// committed, and written, by itself.
func (w *Writer) upToDefinition(ctx context.Context, messages []encode.Message, from int) (end int, err error) {
	end = from
	for end < len(messages) && !defines(&messages[end]) {
		end++
	}
	if end == len(messages) || messages[end].After == 0 {
		return end, nil
	}
	before := messages[end].After
	if w.open && w.reached <= before && messages[from].Offset > before {
		err = w.commit(ctx, max(before, w.durable))
	}
	begins := from
	for messages[begins].Offset <= before {
		begins++
	}
	if begins > from {
		end = begins
	}
	return end, err
}

// defines reports whether a message may need statements that make or alter tables.
func defines(m *encode.Message) bool {
	return m.Operation == change.Definition || m.Operation == change.Void || m.Operation == change.Loaded || m.Operation == change.Truncate
}

// touch notes which tables the open transaction has written.
func (w *Writer) touch(messages []encode.Message) {
	if !w.open || w.db.TransactionalDefinitions() {
		return
	}
	last := ""
	for i := range messages {
		if m := &messages[i]; m.Table != last {
			last = m.Table
			w.touched[last] = true
		}
	}
}

// wholeTable does what an event about a whole table means.
func (w *Writer) wholeTable(ctx context.Context, m *encode.Message) error {
	switch m.Operation {
	case change.Definition, change.Void:
		return w.apart(ctx, m.Table, func(w *Writer) error { return w.event(ctx, m) })
	case change.Truncate: // the rows go with the transaction
		if m.Schema == nil || w.isHeld(m) {
			return nil
		}
		err := w.apart(ctx, m.Table, func(w *Writer) error {
			_, err := w.tableFor(ctx, m.Table, m.Schema)
			return err
		})
		if err != nil {
			return err
		}
	default:
	}
	return w.event(ctx, m)
}

// apart does what may make or alter a table of the source. Where that would commit a
// transaction of which the source has more, a second session does it: it comes before the
// transaction then, of which readers still see all or nothing. That cannot be where the
// transaction has written the table itself.
func (w *Writer) apart(ctx context.Context, source string, do func(w *Writer) error) error {
	if w.db.TransactionalDefinitions() || !w.open || w.touched[source] {
		return do(w)
	}
	err := w.beside(ctx, source, do)
	var fault *engine.Fault
	if err == nil || !errors.As(w.db.Explained(err), &fault) || fault.Code != "locked" {
		return err
	}
	// Tables that refer to each other are locked together, by what is open here.
	if err := w.giveUp(ctx); err != nil {
		return err
	}
	if err := do(w); err != nil {
		return err
	}
	if err := w.settle(ctx); err != nil {
		return err
	}
	return &engine.Fault{Code: "locked", Message: "the table for " + source + " has got another definition, which could not be while a transaction was open that has written tables beside it; that transaction is written again"}
}

// giveUp takes back what is open: all of it comes again.
func (w *Writer) giveUp(ctx context.Context) error {
	if err := w.exec(ctx, "ROLLBACK"); err != nil {
		return err
	}
	w.open, w.reached = false, w.durable
	w.record.Tables, w.record.TablesChanged = maps.Clone(w.onRecord), false
	clear(w.touched)
	clear(w.tables)
	clear(w.leftover)
	return nil
}

// beside does it with a writer of its own, which has nothing open, and commits there what is
// on record of the table.
func (w *Writer) beside(ctx context.Context, source string, do func(w *Writer) error) error {
	db, err := w.db.Beside(ctx)
	if err != nil {
		return err
	}
	defer db.Close() //nolint:errcheck // what is open in it was not to be
	side := *w
	side.db, side.open, side.reached = db, false, w.durable
	side.saved, side.leftover, side.touched = make(map[string]map[string]*TableState), make(map[string]bool), make(map[string]bool)
	side.record = &Record{Run: w.record.Run, Offset: w.record.Offset, Tables: maps.Clone(w.onRecord)}
	if err = do(&side); err == nil {
		err = side.settle(ctx)
	}
	w.db.Redefined()
	w.onRecord = side.onRecord
	if state := w.onRecord[source]; state != nil {
		w.record.Tables[source] = state
	}
	if err != nil {
		delete(w.tables, source) // it is not known what it is like
	}
	return err
}

// heldFor holds a message's table where an error is about that alone; nil then.
func (w *Writer) heldFor(m *encode.Message, err error) error {
	err = w.of(m.Table, m.Offset, err)
	if one := new(tableError); errors.As(err, &one) {
		w.hold(one)
		return nil
	}
	return err
}
