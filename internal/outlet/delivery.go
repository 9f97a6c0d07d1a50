package outlet

import (
	"context"
	"errors"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

const (
	// flushEvery is how long an event that was sent may not be committed, where much comes.
	flushEvery = 300 * time.Millisecond
	// lateFlushEvery is the same where nothing is won by more haste; see [pace].
	lateFlushEvery = 3 * flushEvery
	// flushEvents are sent without a flush at most.
	flushEvents = 100_000
	// lookEvery is how often dead letters are looked for that are to
	// be tried again, through another instance.
	lookEvery = 5 * time.Second
	// lastWait is how long a stop may take for what is under way.
	lastWait = 5 * time.Second
)

// sender delivers batches with one writer.
type sender struct {
	*Outlet
	offset    catalog.Offset
	hold      *catalog.Hold
	writer    destination.Writer
	wants     encode.Capabilities
	again     *encode.Maker   // for dead letters
	at        int64           // the newest offset that was sent, became a dead letter or was passed over
	durable   int64           // up to where the destination has it for good
	written   written         // messages since the last commit
	repeated  int64           // the newest offset that was counted before
	unflushed int64           // messages since the last flush
	from      int64           // the batch in hand begins there
	flushAt   time.Time       // when it is time to flush
	rows      map[string]bool // that have a dead letter
	deadCount int             // how many dead letters there are, those behind included
	tries     map[int64]int   // of events that failed, by offset
	newest    time.Time       // commit time of the newest event that was sent
	// committing is there while a commit is under way, up to committingAt.
	committing   <-chan error
	committingAt int64
	pace         pace
	late         bool // what was sent is durable only later: files that are closed first
}

// errNotRenewed ends a delivery that another instance may have taken over.
var errNotRenewed = &engine.Fault{Code: "state-database", Message: "this instance could not say to the state database in time that it lives; it delivers nothing until it has, since another one may"}

// run delivers what the feed reads until ctx is done or an error ends it.
func (s *sender) run(ctx context.Context, r *reader) error {
	f := &feed{reader: r}
	err := s.deliver(ctx, f)
	f.halt()
	if ctx.Err() == nil {
		return err
	}
	// What was sent is there already: commit it rather than repeat it.
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastWait)
	defer cancel()
	return s.flush(last, true)
}

func (s *sender) deliver(ctx context.Context, f *feed) error {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	wake := s.wakes()
	timer := time.NewTimer(time.Hour) // made once: the loop turns for each small transaction
	defer timer.Stop()
	if err := s.redeliverWanted(ctx); err != nil {
		return err
	}
	for {
		if !f.pumping && !f.atEnd() {
			f.start(ctx)
		}
		var flush, look <-chan time.Time
		if s.deadCount > 0 {
			look = ticker.C // a timer that nobody waits for wakes nobody
		}
		if s.unsettled() {
			timer.Reset(max(time.Until(s.flushAt), time.Millisecond))
			flush = timer.C
		}
		changed, due := f.more()
		var err error
		select {
		case <-ctx.Done():
			err = context.Cause(ctx)
		case <-changed:
			if wait := s.nap(f.wait); wait > 0 {
				f.linger = time.NewTimer(wait) // one wake-up for all that comes until then
			} else {
				err = s.read(ctx, f)
			}
		case <-due:
			err = s.read(ctx, f)
		case b := <-f.full:
			if err = s.send(ctx, b); err == nil {
				f.empty <- b
				err = s.sent(ctx, len(f.full) == 0)
			}
		case <-flush:
			err = s.flush(ctx, false)
		case err = <-s.committing:
			err = s.committed(err)
		case <-wake:
			err = s.redeliverWanted(ctx)
		case <-look:
			err = s.redeliverWanted(ctx)
		case err = <-f.ended:
			err = s.pumped(ctx, f, err)
		}
		if err != nil {
			return err
		}
	}
}

// read sends what there is to read now. Where that is much, a pump reads on.
func (s *sender) read(ctx context.Context, f *feed) error {
	b, err := f.take(ctx)
	if err != nil {
		return s.last(ctx, err)
	}
	if b.Last > s.at {
		if err := s.send(ctx, b); err != nil {
			return err
		}
	}
	b.Reset()
	more := f.filled // the pump's own from its start on
	if more {
		f.start(ctx)
	} else {
		b.Trim(restingBatch)
	}
	return s.sent(ctx, !more)
}

// pumped takes note of a pump's end.
func (s *sender) pumped(ctx context.Context, f *feed, why error) error {
	// What was read before goes out first.
	select {
	case b := <-f.full:
		if err := s.send(ctx, b); err != nil {
			f.rest()
			return s.last(ctx, err)
		}
	default:
	}
	f.rest()
	if errors.Is(why, errAtEnd) {
		return s.sent(ctx, true)
	}
	return s.last(ctx, why)
}

// last makes durable what was sent before an error ends the delivery.
func (s *sender) last(ctx context.Context, why error) error {
	if err := s.flush(ctx, true); err != nil {
		return err
	}
	return why
}

// previewFlusher is a writer that can show what was sent before it is durable.
type previewFlusher interface{ Show() error }

// flushLater says when it is time to flush again. What each flush costs is shared out
// where many outlets deliver, and all flush at the same moments: each moment wakes the
// process once, and their offsets are committed together.
func (s *sender) flushLater() {
	every := s.Budget.stretch(flushEvery)
	if s.pace.slow() {
		every = max(every, lateFlushEvery)
	}
	s.flushAt = s.Budget.moment(time.Now(), every)
}

// nap is how long what has come waits for more; wait is how long it does so anyway.
func (s *sender) nap(wait time.Duration) time.Duration {
	every := s.pace.nap(s.wants)
	if every == 0 || s.Limits.Every > 0 {
		return wait
	}
	now := time.Now()
	return s.Budget.moment(now, every).Sub(now)
}

// sent decides whether it is time to flush.
func (s *sender) sent(ctx context.Context, idle bool) error {
	if s.unflushed >= s.pace.most() || !time.Now().Before(s.flushAt) {
		return s.flush(ctx, false)
	}
	if show, can := s.writer.(previewFlusher); can && idle {
		return show.Show()
	}
	return nil
}

// unsettled reports whether there is something to flush or to commit. A destination may be behind
// what is committed: it notes seldom what was only passed over, or was put back to a former state.
func (s *sender) unsettled() bool {
	return s.at > min(s.durable, max(s.offset.Committed, s.committingAt))
}

// flush makes durable what was sent, and has it committed after that. last waits for
// the commit.
func (s *sender) flush(ctx context.Context, last bool) error {
	defer s.flushLater()
	if s.unsettled() {
		began := time.Now()
		s.pace.begin(began, s.unflushed)
		s.unflushed = 0
		durable, err := s.writer.Flush(ctx, last)
		s.mu.Lock()
		s.flows.now(began).Committing += time.Since(began)
		s.mu.Unlock()
		if err != nil {
			return err
		}
		if late := durable < s.at; late != s.late || durable > s.offset.Committed && s.late {
			// What is not in its place is not delivered yet.
			s.late = true
			s.set(func(st *Status) { st.Delay = time.Since(s.newest) })
		}
		if s.durable = durable; durable <= s.offset.Committed {
			s.set(func(st *Status) { st.Committed = durable }) // there is nothing to commit
		}
		if s.committing != nil && last {
			if err := s.awaitCommit(ctx); err != nil {
				return err
			}
		}
		s.pace.end(durable > s.offset.Committed)
		if s.committing == nil && durable > s.offset.Committed {
			s.committing, s.committingAt = s.hold.Commit(s.offset.Run, durable, s.written.upTo(durable), last), durable
		}
	}
	if last {
		return s.awaitCommit(ctx)
	}
	return nil
}

// awaitCommit waits for the commit that is under way, if there is one.
func (s *sender) awaitCommit(ctx context.Context) error {
	if s.committing == nil {
		return nil
	}
	select {
	case err := <-s.committing:
		return s.committed(err)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// committed takes note of a commit's outcome.
func (s *sender) committed(err error) error {
	s.committing = nil
	if err != nil {
		return err
	}
	s.offset.Committed = max(s.offset.Committed, s.committingAt)
	s.set(func(st *Status) { st.Committed = s.offset.Committed })
	return nil
}

// commitDead commits dead letters with the offset that they belong to.
func (s *sender) commitDead(ctx context.Context, durable int64, letters []catalog.DeadLetter) error {
	if err := s.awaitCommit(ctx); err != nil {
		return err
	}
	durable = max(durable, s.offset.Committed)
	if err := s.hold.StoreDeadLetters(ctx, s.offset.Run, durable, s.written.upTo(durable), letters); err != nil {
		return err
	}
	s.offset.Committed = durable
	s.committingAt = s.offset.Committed
	s.set(func(st *Status) { st.Committed = s.offset.Committed })
	return nil
}

func (s *sender) went(messages []encode.Message, gone int64, committed time.Time, dead []refusal) {
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rates.Add(now, gone)
	s.status.Delivered += gone
	if s.status.Phase != PhaseRunning {
		s.status.Phase, s.status.Error, s.status.Code, s.status.Attempts = PhaseRunning, "", "", 0
	}
	if gone > 0 && s.troubled {
		s.troubled = false
		s.Log("info", "recovered", "delivers again")
	}
	s.counts.add(messages, dead)
	s.newest = committed
	if gone > 0 && !s.late {
		s.status.Delay = change.DelaySince(committed, now)
	}
	s.history.delivered(now, gone, s.status.Delay)
}
