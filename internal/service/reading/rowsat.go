package reading

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"time"

	"rillmark/internal/asof"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/journal"
	"rillmark/internal/service/base"
)

// RowsOf asks for a table's rows as they were.
type RowsOf struct {
	Table string
	// At is an offset, the newest that counts, or a place before which it ends; empty for
	// now.
	At string
	// Where is a condition on rows; empty for all of them.
	Where string
}

// RowsAt is a table as it was. Whoever gets one closes it.
type RowsAt struct {
	Table string
	// Offset is the newest that counts, CommittedAt when the newest event of the table was
	// committed; zero where it has none.
	Offset      int64
	CommittedAt time.Time
	// Rows is how many rows the table had, whatever the condition.
	Rows int64
	// Complete says that the rows are what they were; Note says why they may not be.
	Complete bool
	Note     string

	table *asof.Table
	where *expression.BoundCondition
	done  func()
}

const (
	// rowsInMemory of a table stay there, in bytes; more goes into a file.
	rowsInMemory = 64 << 20
	// rowsAtOnce is how many tables are worked out at a time.
	rowsAtOnce = 2
	// longestTurn is how long another one waits for its turn.
	longestTurn = 30 * time.Second
)

// turn takes one of the places of tables that are worked out at a time.
func (s *Reading) turn(ctx context.Context, longest time.Duration) error {
	late := time.NewTimer(longest)
	defer late.Stop()
	select {
	case s.folding <- struct{}{}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-late.C:
		return &engine.Fault{Code: base.CodeBusy, Message: fmt.Sprintf("%d tables are being worked out from the journal already, and none of them has ended within %s", cap(s.folding), longest), Fix: "ask again once one of them has ended"}
	}
}

// RowsAt works out a table as it was at an offset, from its events.
func (s *Reading) RowsAt(ctx context.Context, source string, of RowsOf) (_ *RowsAt, err error) {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	head, err := s.Store.Head(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	last := head.Next - 1
	if offset, wrong := strconv.ParseInt(of.At, 10, 64); wrong == nil {
		if last = offset; offset < head.First-1 || offset >= head.Next {
			return nil, base.OutsideFault(offset, head)
		}
	} else if of.At != "" {
		if last, err = s.Place(ctx, record.ID, of.At); err != nil {
			return nil, err
		}
	}
	var condition *expression.Condition
	if of.Where != "" {
		if condition, err = expression.ParseCondition(of.Where); err != nil {
			return nil, &engine.Fault{Code: base.CodeInvalid, Message: "where: " + err.Error()}
		}
	}
	if err := s.turn(ctx, longestTurn); err != nil {
		return nil, err
	}
	r := &RowsAt{Table: of.Table, Offset: last, table: asof.New(os.TempDir(), rowsInMemory)}
	r.done = func() {
		r.table.Close() //nolint:errcheck // a file that was only for this
		<-s.folding
	}
	defer func() {
		if err != nil {
			r.done()
		}
	}()
	if err := s.fold(ctx, record.ID, r, head.First, last); err != nil {
		return nil, base.Answer(err, "source", source)
	}
	if err := r.ready(source); err != nil {
		return nil, err
	}
	if condition != nil {
		if r.where, err = condition.Bind(of.Table, r.table.Schema().Columns); err != nil {
			return nil, &engine.Fault{Code: base.CodeInvalid, Message: "where: " + err.Error()}
		}
	}
	if r.Rows, err = r.table.Rows(); err != nil {
		return nil, err
	}
	reload := fmt.Sprintf("; `rillmark source reload %s %s` has all rows come again", source, change.Argument(r.Table))
	switch {
	case !r.table.Begun():
		r.Note = "the journal has no load of this table up to here: rows that have not changed since capture began are missing" + reload
	case r.table.Inexact() != "":
		r.Note = r.table.Inexact()
	case r.table.Partial() > 0:
		r.Note = fmt.Sprintf("%d rows were changed that the journal does not have: what their changes left out is missing", r.table.Partial()) + reload
	}
	r.Complete = r.Note == ""
	return r, nil
}

// fold takes the table's events between two offsets.
func (s *Reading) fold(ctx context.Context, source int64, r *RowsAt, first, last int64) error {
	reader := s.Store.Reader(source, first, journal.ReaderOptions{Tables: "^" + regexp.QuoteMeta(r.Table) + "$", Wants: func(table string) bool { return table == r.Table }})
	for reader.Position() <= last {
		batch, err := reader.TryNext(ctx)
		if err != nil || batch == nil {
			return err
		}
		var e change.Event
		for batch.Next(&e) && e.Offset <= last {
			if e.Table != r.Table {
				continue // a message
			}
			if err := r.table.Apply(&e); err != nil {
				return &engine.Fault{Code: "rows-not-kept", Message: "the rows of " + r.Table + " cannot be worked out", Cause: err, Fix: "see that the service's folder for temporary files (TMPDIR) has room"}
			}
			r.CommittedAt = e.Transaction.CommittedAt
		}
		if err := batch.Err(); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

// ready says why the rows at the offset cannot be known.
func (r *RowsAt) ready(source string) error {
	switch {
	case r.table.Schema() == nil:
		return &engine.Fault{Code: base.CodeNotFound, Message: fmt.Sprintf("the journal of %s has no event of a table %q up to offset %d", source, r.Table, r.Offset), Fix: "`rillmark source show " + source + "` lists its tables"}
	case r.table.Loading() > 0:
		return &engine.Fault{Code: "not-known", Message: fmt.Sprintf("at offset %d %s was being loaded, from offset %d on", r.Offset, r.Table, r.table.Loading()), Fix: "choose an offset before that, or one after the load"}
	}
	return nil
}

// Schema is the version that the rows have.
func (r *RowsAt) Schema() *change.Schema { return r.table.Schema() }

// Each hands out the rows that the condition chooses; a row is good during the call only.
func (r *RowsAt) Each(f func(row []change.Value) error) error {
	return r.table.Each(func(row []change.Value) error {
		if r.where != nil && r.where.VerdictOn(row) == expression.Fails {
			return nil
		}
		if r.where != nil {
			if err := r.where.Beyond(); err != nil {
				return &definition.Invalid{Location: "where", Message: err.Error()}
			}
		}
		return f(row)
	})
}

// Close gives the room back.
func (r *RowsAt) Close() { r.done() }
