package reading

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/journal"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
)

// netBytes is about how much of a net of changes is held at a time.
const netBytes = 64 << 20

// EachNet hands out the net of changes between the feed's beginning and its end, each
// as a CloudEvent that is good during the call.
func (f *Feed) EachNet(ctx context.Context, each func(body []byte) error) error {
	net := shape.NetBetween{Limit: netBytes, Open: func(from int64) shape.Events {
		return &admitted{feed: f, reader: f.reader.From(from), halves: shape.Halves{Filter: f.filter}}
	}}
	var out encode.Batch
	if f.ended {
		return nil
	}
	err := net.Each(ctx, f.at+1, func(e *change.Event) error {
		out.Reset()
		if err := f.maker.Append(&out, e, true); err != nil {
			return outlet.Shaped(f.name, err)
		}
		for i := range out.Messages {
			if err := each(out.Messages[i].Body); err != nil {
				return err
			}
		}
		return nil
	})
	f.at, f.ended = f.until, err == nil
	return err
}

// admitted reads the events that a feed's filter lets through, up to the feed's end.
type admitted struct {
	feed   *Feed
	reader journal.Reader
	batch  *journal.Batch
	event  change.Event
	halves shape.Halves // of changed keys
	behind bool         // the event in hand comes next: a half before it was handed out
	kept   func(e *change.Event, after []change.Value)
}

// KeptBack implements [shape.Events].
func (a *admitted) KeptBack(f func(e *change.Event, after []change.Value)) { a.kept = f }

// Next implements [shape.Events].
func (a *admitted) Next(ctx context.Context) (*change.Event, error) {
	f := a.feed
	for {
		if a.batch == nil {
			batch, err := a.reader.TryNext(ctx)
			if batch == nil || err != nil {
				return nil, base.Answer(err, "source", f.origin.Source)
			}
			a.batch = batch
		}
		for a.behind || a.batch.Next(&a.event) {
			if a.event.Offset > f.until {
				return a.settled(nil)
			}
			if !a.behind {
				f.origin.Fill(&a.event)
				half, err := a.settled(&a.event)
				if a.behind = half != nil; a.behind || err != nil {
					return half, err
				}
			}
			a.behind = false
			if a.halves.Hold(&a.event) {
				continue
			}
			if admitted, err := a.admits(&a.event); admitted || err != nil {
				return &a.event, err
			}
		}
		if err := a.batch.Err(); err != nil {
			return nil, base.Answer(err, "source", f.origin.Source)
		}
		if a.batch.Last >= f.until {
			return a.settled(nil) // its other half lies behind the end
		}
		a.batch = nil
	}
}

// settled is the half that waited for the event behind it, if it passes.
func (a *admitted) settled(next *change.Event) (*change.Event, error) {
	half, err := a.halves.Settle(next)
	if half == nil {
		return nil, nil
	}
	if err != nil {
		return nil, outlet.Unfit(a.feed.name, err)
	}
	if admitted, err := a.admits(half); !admitted || err != nil {
		return nil, err
	}
	return half, nil
}

func (a *admitted) admits(e *change.Event) (bool, error) {
	after := e.After // a condition may make another event of it
	admitted, err := a.feed.filter.Admits(e)
	if err == nil && !admitted && a.kept != nil && shape.Joins(e) && a.feed.filter.AdmitsTable(e.Table) {
		a.kept(e, after)
	}
	if err != nil {
		return false, outlet.Unfit(a.feed.name, err)
	}
	return admitted, outlet.Shaped(a.feed.name, a.feed.maker.Watch(e))
}
