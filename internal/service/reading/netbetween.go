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
		return &admitted{feed: f, reader: f.reader.From(from)}
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
}

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
		for a.batch.Next(&a.event) {
			if a.event.Offset > f.until {
				return nil, nil
			}
			f.origin.Fill(&a.event)
			admitted, err := f.filter.Admits(&a.event)
			if err != nil {
				return nil, outlet.Unfit(f.name, err)
			}
			if err := f.maker.Watch(&a.event); err != nil {
				return nil, outlet.Shaped(f.name, err)
			}
			if admitted {
				return &a.event, nil
			}
		}
		if err := a.batch.Err(); err != nil {
			return nil, base.Answer(err, "source", f.origin.Source)
		}
		if a.batch.Last >= f.until {
			return nil, nil
		}
		a.batch = nil
	}
}
