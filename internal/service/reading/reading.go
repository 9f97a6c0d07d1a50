// Package reading is what consumers read themselves: feeds of journals and of outlets,
// commits, leases, and marks.
package reading

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
)

// Reading is what consumers read themselves, with their offsets and leases.
type Reading struct {
	*base.Common
	leasing sync.Map      // of the outlets' ids: whose turn it is to lease
	folding chan struct{} // has room for the tables that are worked out at a time
}

func NewReading(c *base.Common) *Reading {
	return &Reading{Common: c, folding: make(chan struct{}, rowsAtOnce)}
}

// Feed reads a journal's events, filtered and in their shape, in order.
type Feed struct {
	name    string // of the outlet that is read for, if any
	origin  outlet.Origin
	filter  *shape.Filter
	reader  journal.Reader
	maker   *encode.Maker
	address string     // the service's public one
	net     *shape.Net // where only the net of changes is asked for
	window  int        // the rows of one net
	batch   *journal.Batch
	event   change.Event
	halves  shape.Halves // of changed keys
	out     encode.Batch
	sent    int // messages of out that were handed out
	at      int64
	until   int64           // the newest offset that is read; 0 without an end
	ended   bool            // it has been passed
	drain   context.Context // ended when nobody should wait any longer
}

// Plain has the feed hand out events as CloudEvents, each as the journal has it.
func (f *Feed) Plain() {
	f.maker, f.net = encode.NewMaker(encode.Shape{Address: f.address, Format: "cloudevents"}, encode.Capabilities{}), nil
}

// FeedEvent is one message of a feed, good until the next call.
type FeedEvent struct {
	Body   []byte
	Offset int64
	// Last is false while the same offset gives another message.
	Last bool
}

// Span is a part of a journal, by the places at which it begins and before which it
// ends; either may be empty.
type Span struct{ From, Until string }

// OpenFeed reads a part of a source's journal, from its oldest event on where the part
// has no beginning.
func (s *Reading) OpenFeed(ctx context.Context, source string, filter *shape.Filter, span Span) (*Feed, error) {
	return s.openFeed(ctx, source, filter, span, 0)
}

// openFeed reads for an outlet, or for nobody in particular where that is 0.
func (s *Reading) openFeed(ctx context.Context, source string, filter *shape.Filter, span Span, outlet int64) (*Feed, error) {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	origin, err := s.Origin(ctx, record)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	if span.From == "0" { // what readers of an earlier version ask for
		span.From = ""
	}
	passed, err := s.Place(ctx, record.ID, span.From)
	if err != nil {
		return nil, err
	}
	from, until := passed+1, int64(0)
	if span.Until != "" {
		if until, err = s.End(ctx, record.ID, span.Until, passed); err != nil {
			return nil, err
		}
	}
	return &Feed{drain: s.Draining, origin: origin, address: s.Config.PublicURL, filter: filter, halves: shape.Halves{Filter: filter}, at: passed, until: until, ended: span.Until != "" && until == passed, maker: encode.NewMaker(encode.Shape{Address: s.Config.PublicURL, Format: "cloudevents"}, encode.Capabilities{}),
		reader: s.Store.Reader(record.ID, from, journal.ReaderOptions{Tables: shape.Expression(filter.Tables), For: outlet})}, nil
}

// Head is where a source's journal stands.
func (s *Journals) Head(ctx context.Context, source string) (journal.Head, error) {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return journal.Head{}, base.Answer(err, "source", source)
	}
	head, err := s.Store.Head(ctx, record.ID)
	return head, base.Answer(err, "source", source)
}

// Ended reports whether all before the feed's end has been handed out.
func (f *Feed) Ended() bool {
	return f.ended && f.sent == len(f.out.Messages) && (f.net == nil || f.net.Rows() == 0)
}

// Passed is the newest offset that the feed has handed out or passed over.
func (f *Feed) Passed() int64 { return f.at }

// TryNext is the next message that passes the filter; nil at the journal's end, and at
// the feed's own.
func (f *Feed) TryNext(ctx context.Context) (*FeedEvent, error) {
	for {
		if f.sent < len(f.out.Messages) {
			m := &f.out.Messages[f.sent]
			f.sent++
			return &FeedEvent{m.Body, m.Offset, f.sent == len(f.out.Messages) || f.out.Messages[f.sent].Offset != m.Offset}, nil
		}
		f.out.Reset()
		f.out.Keep(1 << 20)
		f.sent = 0
		if f.batch == nil {
			var batch *journal.Batch
			var err error
			if !f.ended {
				batch, err = f.reader.TryNext(ctx)
			}
			if err != nil {
				return nil, base.Answer(err, "source", f.origin.Source)
			}
			if batch == nil {
				if f.net == nil || f.net.Rows() == 0 {
					return nil, nil
				}
				if err := f.takeNet(); err != nil {
					return nil, err
				}
				continue
			}
			f.batch = batch
		}
		if err := f.read(); err != nil {
			return nil, err
		}
	}
}

// read takes events of the batch in hand until there is something to hand out.
func (f *Feed) read() error {
	for len(f.out.Messages) == 0 && f.batch.Next(&f.event) {
		if f.until > 0 && f.event.Offset > f.until {
			err := f.release(nil)
			f.at, f.batch, f.ended = f.until, nil, true
			return err
		}
		f.origin.Fill(&f.event)
		if err := f.release(&f.event); err != nil {
			return err
		}
		if f.halves.Hold(&f.event) {
			continue
		}
		f.at = f.event.Offset
		if err := f.take(&f.event); err != nil {
			return err
		}
	}
	if err := f.batch.Err(); err != nil {
		return base.Answer(err, "source", f.origin.Source)
	}
	if len(f.out.Messages) == 0 { // all of the batch has been read
		if f.until > 0 && f.batch.Last >= f.until {
			err := f.release(nil) // its other half lies behind the end
			f.at, f.batch, f.ended = f.until, nil, true
			return err
		}
		f.at = f.halves.Before(f.batch.Last)
		f.batch = nil
	}
	return nil
}

// release takes the first half of a changed key that waited for the event behind it; next
// is nil where that is not known.
func (f *Feed) release(next *change.Event) error {
	half, err := f.halves.Settle(next)
	if half == nil {
		return nil
	}
	if err != nil {
		return outlet.Unfit(f.name, err)
	}
	return f.take(half)
}

// take puts an event into what is handed out next, or into the net of changes.
func (f *Feed) take(e *change.Event) error {
	after := e.After // a condition may make another event of it
	admitted, err := f.filter.Admits(e)
	if err != nil {
		return outlet.Unfit(f.name, err)
	}
	switch {
	case f.net != nil && !admitted && !f.maker.Needs(e):
		if shape.Joins(e) && f.filter.AdmitsTable(e.Table) {
			f.net.KeepBack(e, after)
			if f.net.Bytes() >= maxPageBytes {
				return f.takeNet()
			}
		}
		return nil
	case f.net != nil && admitted && shape.Joins(e):
		f.net.Add(e)
		if f.net.Rows() >= f.window || f.net.Bytes() >= maxPageBytes {
			return f.takeNet()
		}
		return nil
	case f.net != nil:
		if err := f.takeNet(); err != nil {
			return err
		}
	}
	if admitted || f.maker.Needs(e) {
		return f.append(e, admitted)
	}
	return nil
}

func (f *Feed) takeNet() error {
	return f.net.Take(func(e *change.Event) error { return f.append(e, true) })
}

func (f *Feed) append(e *change.Event, admitted bool) error {
	return outlet.Shaped(f.name, f.maker.Append(&f.out, e, admitted))
}

// errDraining ends a wait while the service is stopping.
var errDraining = &engine.Fault{Code: base.CodeStopping, Message: "the service is stopping", Fix: "read on when it runs again"}

// Wait waits at the journal's end until there is more, or for at most d.
func (f *Feed) Wait(ctx context.Context, d time.Duration) error {
	wait, cancel := context.WithTimeout(ctx, d)
	defer cancel()
	defer context.AfterFunc(f.drain, cancel)()
	batch, err := f.reader.Next(wait)
	if batch != nil {
		f.batch = batch
		return nil
	}
	if f.drain.Err() != nil && ctx.Err() == nil {
		return errDraining
	}
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return nil
	}
	return base.Answer(err, "source", f.origin.Source)
}

// Page is a run of events.
type Page struct {
	Events  [][]byte
	Offsets []int64 // of the events
	// Passed is the newest offset that the page covers: committing it commits
	// all of the page, events that the filter kept back included.
	Passed int64
	// Committed is the outlet's committed offset; 0 for a source.
	Committed int64
}

// maxPageBytes bounds a page; a single larger event still comes, alone.
const maxPageBytes = 8 << 20

func (f *Feed) page(ctx context.Context, limit int, wait time.Duration) (*Page, error) {
	p := new(Page)
	size := 0
	f.window = limit
	deadline := time.Now().Add(wait)
	// A page ends where an offset does, and with a net of changes where that does.
	whole := true
	for !whole || len(p.Events) < limit && size < maxPageBytes {
		one, err := f.TryNext(ctx)
		if err != nil {
			return nil, err
		}
		if one == nil {
			left := time.Until(deadline)
			if len(p.Events) > 0 || left <= 0 || f.ended {
				break
			}
			if err := f.Wait(ctx, left); err == errDraining {
				break // with what there is: nothing
			} else if err != nil {
				return nil, err
			}
			continue
		}
		p.Events = append(p.Events, append([]byte(nil), one.Body...))
		p.Offsets = append(p.Offsets, one.Offset)
		size += len(one.Body)
		whole = f.sent == len(f.out.Messages) // of both halves of a changed key, too
	}
	p.Passed = f.at
	return p, nil
}

// ReadSource reads a page of a source's journal.
func (s *Reading) ReadSource(ctx context.Context, source string, filter *shape.Filter, span Span, limit int) (*Page, error) {
	f, err := s.OpenFeed(ctx, source, filter, span)
	if err != nil {
		return nil, err
	}
	return f.page(ctx, limit, 0)
}

// OutletFeed reads what an outlet lets through of a part of the journal, from behind
// its committed offset where the part has no beginning.
func (s *Reading) OutletFeed(ctx context.Context, name string, span Span) (*Feed, int64, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, 0, base.Answer(err, "outlet", name)
	}
	offset, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return nil, 0, base.Answer(err, "outlet", name)
	}
	filter, err := record.Definition.Filter()
	if err != nil {
		return nil, 0, err
	}
	if span.From == "" || span.From == "0" {
		span.From = strconv.FormatInt(offset.Committed+1, 10)
	}
	f, err := s.openFeed(ctx, record.Definition.Source, filter, span, record.ID)
	if err != nil {
		return nil, 0, err
	}
	if f.name = name; record.Definition.Destination != "" {
		return f, offset.Committed, nil
	}
	return f, offset.Committed, s.shapeFeed(ctx, f, record)
}

// shapeFeed puts a pull outlet's events into the shape that it asks for.
func (s *Reading) shapeFeed(ctx context.Context, f *Feed, record *catalog.Outlet) error {
	d := record.Definition
	if err := d.Validate(); err != nil {
		return err
	}
	shaped, err := s.Shape(ctx, &d)
	if err != nil {
		return err
	}
	f.maker = encode.NewMaker(shaped, encode.Capabilities{})
	f.maker.Register = func(version *change.Schema) error {
		return s.Catalog.StoreOutletSchema(ctx, record.ID, version, 0)
	}
	if d.Changes == "combined" {
		f.net, f.window = new(shape.Net), 1000
	}
	if !f.maker.Closes() {
		return nil
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return base.Answer(err, "source", d.Source)
	}
	f.reader = s.Store.Reader(source.ID, f.at+1, journal.ReaderOptions{For: record.ID})
	o := &outlet.Outlet{ID: record.ID, Origin: f.origin, Store: s.Store, Filter: func() *shape.Filter { return f.filter }}
	return o.Recount(ctx, f.maker.Closer(), f.at)
}

// ReadOutlet reads a page of a pull outlet without moving its offset. It waits
// up to wait for a first event.
func (s *Reading) ReadOutlet(ctx context.Context, name string, span Span, limit int, wait time.Duration) (*Page, error) {
	if err := s.wantPull(ctx, name); err != nil {
		return nil, err
	}
	f, committed, err := s.OutletFeed(ctx, name, span)
	if err != nil {
		return nil, err
	}
	p, err := f.page(ctx, limit, wait)
	if err != nil {
		return nil, err
	}
	p.Committed = committed
	return p, nil
}

func (s *Reading) wantPull(ctx context.Context, name string) error {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	if record.Definition.Destination != "" {
		return &engine.Fault{Code: base.CodeNotPull, Message: fmt.Sprintf("outlet %q delivers to destination %q by itself; only an outlet without a destination is read", name, record.Definition.Destination),
			Fix: "add an outlet without a destination, or watch this one: `rillmark watch --outlet " + name + "`"}
	}
	if !record.Running {
		return &engine.Fault{Code: base.CodePaused, Message: fmt.Sprintf("outlet %q is paused%s", name, base.Because(record.Reason)), Fix: "`rillmark outlet resume " + name + "`"}
	}
	return nil
}

// Commit moves a pull outlet's committed offset forward. An offset at or
// below it changes nothing; one that the journal does not have yet is refused.
func (s *Reading) Commit(ctx context.Context, name string, offset int64) (committed int64, err error) {
	record, err := s.pullOutletAt(ctx, name, offset, "commit")
	if err != nil {
		return 0, err
	}
	at, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	if err := s.Catalog.Commit(ctx, record.ID, at.Run, offset, max(offset-at.Committed, 0)); err != nil {
		return 0, base.Answer(err, "outlet", name)
	}
	return max(at.Committed, offset), nil
}

// Report notes how far a consumer is that keeps its own offset. It is a report
// only: where reading starts is the consumer's to say.
func (s *Reading) Report(ctx context.Context, name string, offset int64) error {
	record, err := s.pullOutletAt(ctx, name, offset, "report")
	if err != nil {
		return err
	}
	return base.Answer(s.Catalog.Report(ctx, record.ID, offset), "outlet", name)
}

// pullOutletAt is an outlet whose consumers come and read, if the offset was handed out.
func (s *Reading) pullOutletAt(ctx context.Context, name string, offset int64, verb string) (*catalog.Outlet, error) {
	if err := s.wantPull(ctx, name); err != nil {
		return nil, err
	}
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	head, err := s.Store.Head(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	if offset < 0 || offset >= head.Next {
		return nil, &engine.Fault{Code: base.CodeOffsetOutside, Message: fmt.Sprintf("offset %d was never handed out: the journal's newest is %d", offset, head.Next-1),
			Fix: verb + " an offset that was read"}
	}
	return record, nil
}

// FilterOf makes a filter of patterns and operations as they stand in a query.
func FilterOf(tables, operations []string) (*shape.Filter, error) {
	return (&definition.Outlet{Tables: tables, Operations: operations}).Filter()
}
