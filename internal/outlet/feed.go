package outlet

import (
	"context"
	"errors"
	"time"

	"rillmark/internal/encode"
	"rillmark/internal/guard"
)

// batches are how many an outlet has: one is filled while another one is sent.
const batches = 2

// feed reads for a sender. At the journal's end, where little comes at a time, the sender
// reads itself: each transaction wakes one goroutine for each outlet. Behind that, one batch is
// read while another one is sent.
type feed struct {
	*reader
	batches [batches]encode.Batch
	// pumping is true while the batches are filled by a goroutine of their own, which hands
	// them on over full and gets them back over empty. ended is why it ends.
	pumping     bool
	empty, full chan *encode.Batch
	ended       chan error
	stop        context.CancelFunc
	// linger fires when what has come has waited for more long enough; nil while nothing has.
	linger *time.Timer
}

// errAtEnd ends a pump that has come to the journal's end.
var errAtEnd = errors.New("the journal's end")

// atEnd reports whether the sender can read itself: whoever writes the journal says when
// there is more. An outlet that runs once ends where it has caught up, and one that collects
// for long has a goroutine that waits.
func (f *feed) atEnd() bool {
	return f.until == 0 && f.wait <= longestNap && f.unfit == nil && f.journal.Changed() != nil
}

// start begins to fill batches ahead.
func (f *feed) start(ctx context.Context) {
	reading, stop := context.WithCancel(ctx)
	f.pumping, f.stop = true, stop
	f.empty, f.full, f.ended = make(chan *encode.Batch, len(f.batches)), make(chan *encode.Batch, len(f.batches)-1), make(chan error, 1)
	for i := range f.batches {
		f.empty <- &f.batches[i]
	}
	go func() {
		f.ended <- guard.Run(func() error { return f.pump(reading) })
	}()
}

// pump fills batches and hands them on until ctx is done, an error ends it, or there is
// nothing more to read.
func (f *feed) pump(ctx context.Context) error {
	for {
		var b *encode.Batch
		select {
		case b = <-f.empty:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if f.until > 0 && f.at >= f.until {
			return &caughtUpError{run: f.run, until: f.until}
		}
		b.Reset()
		if err := f.fill(ctx, b, true); err != nil {
			return err
		}
		atEnd := !f.filled && f.atEnd()
		select {
		case f.full <- b:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if atEnd {
			return errAtEnd
		}
	}
}

// halt ends the pump, if there is one, and waits for it.
func (f *feed) halt() {
	if f.pumping {
		f.stop()
		<-f.ended //nolint:errcheck // it was asked to end
		f.pumping = false
	}
}

// rest is after a pump has ended by itself.
func (f *feed) rest() {
	f.stop()
	f.pumping = false
	for i := range f.batches {
		f.batches[i].Reset()
		f.batches[i].Trim(restingBatch)
	}
}

// more is ready when there is something to read for a sender that reads itself.
func (f *feed) more() (changed <-chan struct{}, due <-chan time.Time) {
	switch {
	case f.pumping:
		return nil, nil
	case f.linger != nil:
		return nil, f.linger.C
	}
	return f.journal.Changed(), nil
}

// take reads what there is now.
func (f *feed) take(ctx context.Context) (*encode.Batch, error) {
	f.linger = nil
	b := &f.batches[0]
	b.Reset()
	return b, f.fill(ctx, b, false)
}
