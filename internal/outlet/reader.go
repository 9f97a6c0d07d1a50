package outlet

import (
	"context"
	"errors"
	"fmt"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/shape"
)

// reader fills batches from the journal.
type reader struct {
	*Outlet
	at      int64         // the newest offset that is in a batch
	run     int           // the outlet's, counted by its rewinds
	until   int64         // where an outlet ends that runs once; else 0
	letPass int64         // schema changes up to this offset may pass
	wait    time.Duration // how long events wait for others
	whole   bool          // the destination asks where transactions end
	ended   int64         // the newest offset with which one ends
	filter  *shape.Filter
	maker   *encode.Maker
	journal journal.Reader
	current *journal.Batch // partly read
	event   change.Event
	halves  shape.Halves // of changed keys
	filled  bool         // the last batch was handed on since it was full: there may be more
	unfit   error        // the next event does not fit; what lies before it is in a batch
	net     shape.Net
	// repeated is the newest offset that was counted before; uncounted takes what is counted of
	// those that come again.
	repeated  int64
	uncounted encode.TableTally
}

// tally is where an event counts.
func (r *reader) tally(b *encode.Batch, e *change.Event) *encode.TableTally {
	if e.Offset <= r.repeated {
		return &r.uncounted
	}
	return b.Tally.Of(e.Table)
}

// resume opens the journal behind what was delivered. Where that lies in the
// middle of a transaction that is to be closed with its counts, its first part
// is counted again.
func (r *reader) resume(ctx context.Context) error {
	options := journal.ReaderOptions{Tables: shape.Expression(r.filter.Tables), Wants: r.filter.AdmitsTable, For: r.ID}
	if r.maker.Closes() || r.whole {
		options.Tables, options.Wants = "", nil // a transaction's last event may be of any table
	}
	if r.maker.Closes() {
		if err := r.Recount(ctx, r.maker.Closer(), r.at); err != nil {
			return err
		}
	}
	r.journal = r.Store.Reader(r.Origin.SourceID, r.at+1, options)
	return nil
}

// Recount counts the events of the transaction that is open after an offset, up
// to that offset.
func (o *Outlet) Recount(ctx context.Context, into *encode.Closer, at int64) error {
	var e change.Event
	look := o.Store.Reader(o.Origin.SourceID, at+1, journal.ReaderOptions{For: o.ID})
	batch, err := look.TryNext(ctx)
	if err != nil || batch == nil {
		return nil //nolint:nilerr // whoever reads on gets the error
	}
	if !batch.Next(&e) || e.Transaction.Index == 0 {
		return batch.Err()
	}
	from, filter := e.Offset-int64(e.Transaction.Index), o.Filter()
	look = o.Store.Reader(o.Origin.SourceID, from, journal.ReaderOptions{For: o.ID})
	for {
		batch, err := look.TryNext(ctx)
		if errors.Is(err, journal.ErrExpired) {
			return nil // retention has taken the transaction's beginning
		}
		if err != nil || batch == nil {
			return err
		}
		for batch.Next(&e) {
			if e.Offset > at {
				return nil
			}
			admitted, err := filter.Admits(&e)
			if err != nil && !isBeyond(err) {
				return Unfit(o.Name, err)
			}
			if admitted || err != nil {
				into.Resume(&e)
			}
		}
		if err := batch.Err(); err != nil {
			return err
		}
	}
}

// fill reads events into an empty batch until a limit is reached, which filled then says, or
// until there are no more and those that there are have waited long enough; without waits,
// until there are no more.
func (r *reader) fill(ctx context.Context, b *encode.Batch, waits bool) error {
	var began, committed time.Time
	if r.unfit != nil {
		return r.unfit
	}
	r.filled = false
	start, waited := time.Now(), time.Duration(0)
	last := r.at
	most := min(r.Limits.Bytes, r.Budget.share())
	b.Keep(2 * most)
	for {
		asked := time.Now()
		err := r.next(ctx, b, &began, waits)
		if waited += time.Since(asked); err != nil {
			return err
		}
		if r.current == nil {
			break
		}
		if began.IsZero() {
			began = time.Now()
		}
		full := false
		for !full && r.current.Next(&r.event) {
			if r.until > 0 && r.event.Offset > r.until {
				if err := r.release(b, nil); err != nil {
					return err
				}
				last, r.current = r.until, nil
				break
			}
			if err := r.take(b); err != nil {
				if last == r.at || !isUnfit(err) {
					return err
				}
				r.unfit, r.current = err, nil // what lies before it goes out first
				break
			}
			if r.halves.Before(r.event.Offset) < r.event.Offset {
				continue // it goes out with the next event
			}
			last, committed = r.event.Offset, r.event.Transaction.CommittedAt
			full = len(b.Messages)+r.net.Rows() >= r.Limits.Events || b.Bytes()+r.net.Bytes() >= most
		}
		if r.current == nil {
			break
		}
		if err := r.current.Err(); err != nil {
			return r.explained(err)
		}
		if full {
			r.filled = true
			break
		}
		if r.until > 0 && r.current.Last >= r.until { // the other half lies behind the end
			if err := r.release(b, nil); err != nil {
				return err
			}
		}
		last, committed = r.halves.Before(r.current.Last), r.current.LastCommit
		r.current = nil
		if r.until > 0 && last >= r.until {
			last = r.until // behind it the filter lets nothing through
			break
		}
	}
	if err := r.flushNet(b); err != nil {
		return err
	}
	b.Last, b.Committed = last, committed
	b.Tally.Took = time.Since(start) - waited
	r.Outlet.countRead(last - max(r.at, min(r.repeated, last)))
	r.at = last
	return nil
}

// restingBatch is what a batch keeps while there is nothing to read.
const restingBatch = 32 << 10

// longestNap is the longest wait for more events in which it is not looked whether a batch is
// full.
const longestNap = 500 * time.Millisecond

// next makes sure that there is a journal's batch to read. It leaves none where
// the batch in hand is to go out now.
func (r *reader) next(ctx context.Context, b *encode.Batch, began *time.Time, waits bool) error {
	if r.current != nil {
		return nil
	}
	var err error
	if r.current, err = r.journal.TryNext(ctx); r.current != nil || err != nil || !waits {
		return r.explained(err)
	}
	if began.IsZero() {
		b.Trim(restingBatch)
		r.current, err = r.journal.Next(ctx)
		return r.explained(err)
	}
	left := r.wait - time.Since(*began)
	if r.until > 0 {
		left = 0
	}
	if left <= 0 {
		return nil
	}
	if left <= longestNap {
		// Nobody looks before that: one wake-up for all that comes until then.
		select {
		case <-time.After(left):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		r.current, err = r.journal.TryNext(ctx)
		return r.explained(err)
	}
	wait, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	r.current, err = r.journal.Next(wait)
	if r.current == nil && errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return nil
	}
	return r.explained(err)
}

func (r *reader) explained(err error) error {
	var damage *journal.Damage
	if errors.As(err, &damage) {
		return &engine.Fault{Code: "journal-damaged", Final: true, Cause: err, Message: "the journal is damaged where this outlet reads next",
			Fix: fmt.Sprintf("bring the state database back from a backup that has these offsets; or `rillmark outlet rewind %s --to %d` goes on behind them: they are not delivered then. `rillmark journal verify %s` lists all that is damaged", r.Name, damage.Last+1, r.Origin.Source)}
	}
	if !errors.Is(err, journal.ErrExpired) {
		return err
	}
	return &engine.Fault{Code: "left-behind", Final: true, Cause: err, Message: fmt.Sprintf("the journal no longer has offset %d, which this outlet needs next", r.at+1),
		Fix: "`rillmark outlet rewind " + r.Name + " --to beginning` goes on at the oldest event that is kept; what lies in between was not delivered. With hold_journal_bytes, retention would wait for this outlet"}
}

// take puts the event in hand into the batch.
func (r *reader) take(b *encode.Batch) error {
	r.Origin.Fill(&r.event)
	if err := r.release(b, &r.event); err != nil {
		return err
	}
	if r.halves.Hold(&r.event) {
		return nil
	}
	return r.one(b, &r.event)
}

// one puts an event into the batch, and tells where its transaction begins and ends.
func (r *reader) one(b *encode.Batch, e *change.Event) error {
	from := len(b.Messages)
	if err := r.chosen(b, e); err != nil || !r.whole {
		return err
	}
	for i := from; i < len(b.Messages); i++ {
		b.Messages[i].After = r.ended
	}
	if e.Transaction.Last {
		b.Whole, r.ended = e.Offset, e.Offset
	}
	return nil
}

// chosen puts an event into the batch, where the outlet's conditions admit it.
func (r *reader) chosen(b *encode.Batch, e *change.Event) error {
	if err := r.mayPass(e); err != nil {
		return err
	}
	operation, after := e.Operation, e.After // by a condition it may become another one
	admitted, err := r.filter.Admits(e)
	takes := admitted || err != nil || r.filter.AdmitsTable(e.Table)
	keptBack := err == nil && !admitted
	if err != nil {
		err = r.refuse(b, e, Unfit(r.Name, err))
	} else {
		err = r.put(b, e, admitted, after)
	}
	if err != nil || !takes {
		return err // one that does not fit is no part of the batch
	}
	tally := r.tally(b, e)
	if tally.Read[operation]++; keptBack {
		tally.KeptBack++
	}
	return nil
}

// put puts an event into the batch that the conditions admit, or do not; after is the row after
// it, whatever the conditions made of the event.
func (r *reader) put(b *encode.Batch, e *change.Event, admitted bool, after []change.Value) error {
	if r.Net {
		switch {
		case !admitted && !r.maker.Needs(e):
			if shape.Joins(e) && r.filter.AdmitsTable(e.Table) {
				r.net.KeepBack(e, after)
			}
			return nil
		case admitted && shape.Joins(e):
			r.tally(b, e).Merged++
			r.net.Add(e)
			return nil
		}
		if err := r.flushNet(b); err != nil {
			return err
		}
	}
	if !admitted && !r.maker.Needs(e) {
		return nil
	}
	return r.append(b, e, admitted)
}

func (r *reader) append(b *encode.Batch, e *change.Event, admitted bool) error {
	before := len(b.Messages)
	err := Shaped(r.Name, r.maker.Append(b, e, admitted))
	if err != nil && isUnfit(err) {
		b.Messages = b.Messages[:before]
		return r.refuse(b, e, err)
	}
	if said := b.Messages[before:]; admitted && (len(said) == 0 || said[0].Type == encode.TransactionEnd) {
		r.tally(b, e).KeptBack++
	}
	return err
}

func (r *reader) flushNet(b *encode.Batch) error {
	return r.net.Take(func(e *change.Event) error {
		r.tally(b, e).Merged--
		return r.append(b, e, true)
	})
}

func isUnfit(err error) bool {
	var fault *engine.Fault
	return errors.As(err, &fault) && (fault.Code == codeConditionUnfit || fault.Code == codeFormUnfit || fault.Code == codeSchemaChange)
}

// The faults of events that an outlet's definition does not fit.
const (
	codeConditionUnfit = "condition-unfit"
	codeFormUnfit      = "form-unfit"
)

// Shaped puts it into words where a message could not be made because the outlet's form of
// rows does not fit a table as it is from an event on; other errors stay.
func Shaped(name string, err error) error {
	if form := (*shape.Unfit)(nil); errors.As(err, &form) {
		return &engine.Fault{Code: codeFormUnfit, Final: true, Message: "the outlet's form of rows cannot be used any more", Cause: form,
			Fix: "change it with `rillmark outlet edit " + name + "`; delivery goes on where it stopped"}
	}
	return err
}

// Unfit says that an outlet's condition does not fit a table as it is from an event on: what
// it would choose is not known.
func Unfit(name string, err error) error {
	if isBeyond(err) {
		return &engine.Fault{Code: codeConditionUnfit, Final: true, Message: "the outlet's condition cannot be worked out", Cause: err,
			Fix: "change it with `rillmark outlet edit " + name + "`"}
	}
	return &engine.Fault{Code: codeConditionUnfit, Final: true, Message: "the outlet's condition on rows cannot be used any more: " + err.Error(),
		Fix: "change it with `rillmark outlet edit " + name + "`; delivery goes on where it stopped"}
}
