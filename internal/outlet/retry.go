package outlet

import (
	"context"
	"fmt"
	"slices"
	"time"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
)

// send delivers one batch: what is refused is a dead letter, what fails for now is
// tried again, in its order, until it goes or has failed often enough.
func (s *sender) send(ctx context.Context, b *encode.Batch) error {
	all := len(b.Messages)
	last, committed := b.Last, b.Committed
	s.from = s.at + 1
	var dead []refusal
	if b.EncodeErrors > 0 || s.Wait && len(s.rows) > 0 {
		b.Messages, dead = s.held(b.Messages, dead)
	}
	messages := b.Messages
	passed, sending := last-s.at, time.Duration(0)
	// A destination that keeps its own record of how far it is could otherwise be
	// past them.
	if err := s.keep(ctx, dead); err != nil {
		return err
	}
	kept := len(dead)
	wait := s.FirstWait
	for {
		var refused []destination.Refusal
		if len(b.Messages) > 0 || last > s.at {
			if !s.hold.Valid() {
				return errNotRenewed
			}
			began := time.Now()
			var err error
			refused, err = s.writer.Send(ctx, b)
			if sending += time.Since(began); err != nil {
				return err
			}
		}
		left, temporary := s.judge(b, refused, &dead)
		if len(left) == 0 {
			break
		}
		b.Messages, b.Last = left, last
		if temporary == nil {
			continue // they only waited behind one that is a dead letter now
		}
		pause := jittered(wait)
		s.mu.Lock()
		s.troubled = true
		s.mu.Unlock()
		s.Log("warn", "event-failed", fmt.Sprintf("offset %d, try %d: %v", left[0].Offset, s.tries[left[0].Offset], temporary))
		s.set(func(st *Status) {
			st.Phase, st.Error, st.Code, st.Retry, st.Attempts = PhaseWaiting, temporary.Error(), "event-failed", time.Now().Add(pause), s.tries[left[0].Offset]
		})
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pause):
		}
		wait = min(wait*2, s.LongestWait)
	}
	s.at = last
	s.unflushed += int64(all - len(dead))
	s.written.add(messages, dead)
	// What was sent before, and comes again after a fault, is not counted once more.
	messages, dead, passed = s.counting(messages, dead, last, passed)
	s.went(messages, int64(len(messages)-countedIn(messages, dead)), committed, dead)
	s.mu.Lock()
	flow := s.flows.now(time.Now())
	flow.sent(&b.Tally, passed, messages, dead)
	flow.Sending += sending
	s.mu.Unlock()
	var err error
	if len(dead) > kept {
		err = s.deadLetter(ctx, dead[kept:])
	}
	clear(s.tries)
	return err
}

// counting leaves out what was counted before, and notes how far is counted now.
func (s *sender) counting(messages []encode.Message, dead []refusal, last, passed int64) ([]encode.Message, []refusal, int64) {
	if first := last - passed; s.repeated > first {
		passed = max(last-s.repeated, 0)
		messages = slices.DeleteFunc(slices.Clone(messages), func(m encode.Message) bool { return m.Offset <= s.repeated })
		dead = slices.DeleteFunc(slices.Clone(dead), func(d refusal) bool { return d.offset <= s.repeated })
	}
	s.mu.Lock()
	s.counted = max(s.counted, last)
	s.mu.Unlock()
	return messages, dead, passed
}

// countedIn is how many of some messages are dead letters.
func countedIn(messages []encode.Message, dead []refusal) (n int) {
	gone := make(map[int64]bool, len(dead))
	for _, one := range dead {
		gone[one.offset] = true
	}
	for i := range messages {
		if gone[messages[i].Offset] {
			n++
		}
	}
	return n
}

// held takes out what is bad, and what has to wait behind dead letters.
func (s *sender) held(messages []encode.Message, dead []refusal) ([]encode.Message, []refusal) {
	kept := messages[:0]
	var bad map[string]bool
	for i := range messages {
		m := messages[i]
		switch {
		case m.EncodeError != nil:
			dead = append(dead, refusalOf(&m, m.EncodeError))
			if s.Wait && len(m.OrderingKey) > 0 {
				if bad == nil {
					bad = make(map[string]bool)
				}
				bad[string(m.OrderingKey)] = true
			}
		case s.Wait && !m.Barrier && len(m.OrderingKey) > 0 && (s.rows[string(m.OrderingKey)] || bad[string(m.OrderingKey)]):
			dead = append(dead, refusalOf(&m, nil))
		default:
			kept = append(kept, m)
		}
	}
	return kept, dead
}

// judge sorts what was refused: into dead letters, and what is left to be
// tried again.
func (s *sender) judge(b *encode.Batch, refused []destination.Refusal, dead *[]refusal) (left []encode.Message, temporary error) {
	again := make(map[string]bool) // rows that are tried again
	for _, r := range refused {
		m := &b.Messages[r.Index]
		row := string(m.OrderingKey)
		switch {
		case r.Err == nil && (again[row] || !s.Wait):
			left = append(left, *m)
		case r.Err == nil:
			*dead = append(*dead, refusalOf(m, nil))
		case r.Temporary && !s.tooOften(m.Offset):
			again[row] = true
			left = append(left, *m)
			if temporary == nil {
				temporary = r.Err
			}
		default:
			*dead = append(*dead, refusalOf(m, r.Err))
		}
	}
	return left, temporary
}

// tooOften counts a try, and reports whether it was the last.
func (s *sender) tooOften(offset int64) bool {
	s.tries[offset]++
	return s.Attempts > 0 && s.tries[offset] >= s.Attempts
}
