package outlet

import (
	"context"
	"fmt"
	"strings"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/expression"
)

// redeliverWanted delivers the dead letters that are to be tried again, in the
// order of their offsets. One that is refused again keeps those of its row back.
func (s *sender) redeliverWanted(ctx context.Context) error {
	if w, may := s.writer.(interface{ MidTransaction() bool }); may && w.MidTransaction() {
		return nil // it would be committed with the rest only; there is another look soon
	}
	if s.deadCount == 0 {
		if _, n, err := s.Catalog.DeadRows(ctx, s.ID); err != nil || n == 0 {
			return err
		}
	}
	again := make(map[string]bool)
	after := int64(0)
	for {
		letters, err := s.Catalog.DeadLetters(ctx, s.ID, catalog.LetterFilter{Retrying: true, WithEvents: true, After: after, Limit: 100})
		if err != nil {
			return err
		}
		if len(letters) == 0 {
			freed, err := s.Catalog.FreeBehind(ctx, s.ID)
			if err != nil {
				return err
			}
			if freed == 0 {
				break
			}
			after = 0
			continue
		}
		for i := range letters {
			l := &letters[i]
			after = l.Offset
			if len(l.Row) > 0 && again[string(l.Row)] {
				continue
			}
			refused, err := s.redeliver(ctx, l)
			if err != nil {
				return err
			}
			if refused != nil {
				again[string(l.Row)] = true
				if err := s.Catalog.FailedAgain(ctx, s.ID, l.ID, refused.Error()); err != nil {
					return err
				}
				s.Log("error", "dead-letter", fmt.Sprintf("%s was refused again: %v", l.EventID, refused))
				continue
			}
			if err := s.Catalog.Redelivered(ctx, s.ID, l.ID); err != nil {
				return err
			}
			s.mu.Lock()
			s.flows.now(time.Now()).of(l.Table).redelivered(l.Operation)
			s.mu.Unlock()
			s.Log("info", "dead-letter", l.EventID+catalog.Redelivered)
		}
	}
	var err error
	s.rows, s.deadCount, err = s.Catalog.DeadRows(ctx, s.ID)
	return err
}

func (s *sender) redeliver(ctx context.Context, l *catalog.DeadLetter) (refused, err error) {
	if s.again == nil {
		s.again = s.maker(ctx, s.wants)
	}
	var e change.Event
	if err := s.Store.OpenSingle(l.Event, &e); err != nil {
		return err, nil //nolint:nilerr // the letter itself is damaged: it stays, and says so
	}
	e.Offset = l.Offset
	s.Origin.Fill(&e)
	filter := s.Filter()
	if probe := e; s.SchemaChanges != ChangesDeadLetter {
		if _, err := filter.Admits(&probe); isBeyond(err) {
			return unfitLetter(s.Name, Unfit(s.Name, err)), nil
		}
	}
	if s.SchemaChanges == ChangesDeadLetter || strings.Contains(l.Error, expression.TooMuch) {
		// Where the condition did not fit, nothing was known of whether it chooses the event.
		admitted, err := filter.Admits(&e)
		if err != nil {
			return unfitLetter(s.Name, Unfit(s.Name, err)), nil
		}
		if !admitted {
			s.Log("info", "dead-letter", l.EventID+" is not chosen by the outlet: it does not go out")
			return nil, nil
		}
	}
	b := new(encode.Batch)
	if err := s.again.Append(b, &e, true); err != nil {
		if err = Shaped(s.Name, err); s.SchemaChanges == ChangesDeadLetter && isUnfit(err) {
			return unfitLetter(s.Name, err), nil
		}
		return nil, err
	}
	// The closing event of its transaction has gone out before.
	kept := b.Messages[:0]
	for _, m := range b.Messages {
		if m.EncodeError != nil {
			return m.EncodeError, nil
		}
		if m.Operation == change.Delete {
			m.Rekeyed = nil // the row is under its new key already: there is nothing to move
		}
		if m.Type != encode.TransactionEnd {
			kept = append(kept, m)
		}
	}
	b.Messages, b.Last, b.Whole = kept, s.at, s.at
	found, err := s.writer.Send(ctx, b)
	if err != nil {
		return nil, err
	}
	for _, r := range found {
		if r.Err != nil {
			return r.Err, nil
		}
	}
	if _, err := s.writer.Flush(ctx, true); err != nil {
		return nil, err
	}
	return nil, nil
}
