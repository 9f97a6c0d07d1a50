package shape

import (
	"bytes"
	"context"

	"rillmark/internal/change"
)

// Events hands out a journal's events in their order; the event is good until the
// next call. It is nil at the end.
type Events interface {
	Next(ctx context.Context) (*change.Event, error)
	// KeptBack has rows' events that are not let through given to f in their places, with the
	// row after them as it was before the filter saw them.
	KeptBack(f func(e *change.Event, after []change.Value))
}

// NetBetween works out what the changes of rows between two offsets come to: of each
// row one event, with what it was before the first change and is after the last. An
// event without a row (truncate, loaded, void, schema, message) ends what was worked
// out so far and stands where it is. Rows come in the order of their newest change;
// where they take more than the limit, in shares of the rows, each in that order, for
// which the events are read again.
type NetBetween struct {
	// Open reads from an offset on what the filter lets through, up to the end.
	Open func(from int64) Events
	// Limit is about how many bytes of rows are held at a time.
	Limit int

	net Net
}

// Each hands the net changes from an offset on to f, whose event is good during the
// call.
func (b *NetBetween) Each(ctx context.Context, from int64, f func(*change.Event) error) error {
	events := b.Open(from)
	for {
		b.net = Net{Limit: b.Limit}
		end, err := b.gather(ctx, events, 0)
		if err == nil {
			err = b.net.Take(f)
		}
		var last int64
		if end != nil {
			last = end.Offset
		}
		for b.net.share+1 < b.net.shares && err == nil {
			b.net.share++
			if _, err = b.gather(ctx, b.Open(from), last); err == nil {
				err = b.net.Take(f)
			}
		}
		if err != nil || end == nil {
			return err
		}
		if err := f(end); err != nil {
			return err
		}
		from = end.Offset + 1
	}
}

// gather takes the rows of the share at hand, up to the first event that is none of a
// row, which it gives back. last is that one's offset where it is known.
func (b *NetBetween) gather(ctx context.Context, events Events, last int64) (*change.Event, error) {
	events.KeptBack(b.net.KeepBack)
	for {
		e, err := events.Next(ctx)
		if e == nil || err != nil || e.Offset == last {
			return nil, err
		}
		if !Joins(e) {
			end := *e
			end.Body, end.Before, end.After = bytes.Clone(e.Body), change.CloneImage(e.Before), change.CloneImage(e.After)
			return &end, nil
		}
		b.net.Add(e)
	}
}
