package outlet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/shape"
)

// refusal is an event that becomes a dead letter.
type refusal struct {
	offset int64
	table  string
	row    []byte
	err    error // nil for one that only waits behind another
}

// refusalOf makes a refusal of a message, which the batch may then take back.
func refusalOf(m *encode.Message, err error) refusal {
	return refusal{m.Offset, m.Table, append([]byte(nil), m.OrderingKey...), err}
}

// deadLetter stores refused events as dead letters, with the committed offset.
func (s *sender) deadLetter(ctx context.Context, dead []refusal) error {
	letters, err := s.letters(ctx, dead)
	if err != nil {
		return err
	}
	durable, err := s.writer.Flush(ctx, false)
	if err != nil {
		return err
	}
	if err := s.commitDead(ctx, durable, letters); err != nil {
		return err
	}
	return s.stored(ctx, letters)
}

// keep stores dead letters ahead of the committed offset. If they come again,
// they are the same ones.
func (s *sender) keep(ctx context.Context, dead []refusal) error {
	if len(dead) == 0 {
		return nil
	}
	letters, err := s.letters(ctx, dead)
	if err != nil {
		return err
	}
	if err := s.hold.StoreDeadLetters(ctx, s.offset.Run, -1, 0, letters); err != nil {
		return err
	}
	return s.stored(ctx, letters)
}

// keepRefused is for writers that commit an offset of their own.
func (s *sender) keepRefused(ctx context.Context, batch *encode.Batch, all []destination.Refusal) error {
	dead := make([]refusal, 0, len(all))
	for _, r := range all {
		m := &batch.Messages[r.Index]
		dead = append(dead, refusalOf(m, r.Err))
	}
	letters, err := s.letters(ctx, dead)
	if err != nil {
		return err
	}
	if err := s.hold.StoreDeadLetters(ctx, s.offset.Run, -1, 0, letters); err != nil && !errors.Is(err, catalog.ErrVersion) && ctx.Err() == nil {
		// The destination asks for it: its own faults are others.
		return &engine.Fault{Code: "state-database", Message: "cannot put dead letters on record in the state database", Cause: err, Fix: "see to the state database; delivery goes on by itself"}
	} else if err != nil {
		return err
	}
	return nil
}

// letters makes dead letters of refused events, if there is room for them.
func (s *sender) letters(ctx context.Context, dead []refusal) ([]catalog.DeadLetter, error) {
	seen := make(map[int64]int)
	var letters []catalog.DeadLetter
	events, err := s.refusedEvents(ctx, dead)
	if err != nil {
		return nil, err
	}
	for _, one := range dead {
		if at, there := seen[one.offset]; there {
			if one.err != nil {
				letters[at].Error, letters[at].State = one.err.Error(), catalog.LetterDead
			}
			continue // another part of the same event
		}
		letter, there := events[one.offset]
		if !there {
			return nil, fmt.Errorf("offset %d, which was refused, is not in the journal", one.offset)
		}
		letter.Row = one.row
		if one.err != nil {
			letter.State, letter.Error, letter.Attempts = catalog.LetterDead, one.err.Error(), max(s.tries[one.offset], 1)
		}
		seen[one.offset] = len(letters)
		letters = append(letters, letter)
	}
	if s.deadCount+len(letters) > s.Most {
		return nil, &engine.Fault{Code: "too-many-dead-letters", Final: true, Message: fmt.Sprintf("there are %d dead letters already, and %d more would exceed the limit of %d", s.deadCount, len(letters), s.Most),
			Fix: "look at them with `rillmark dead-letter list " + s.Name + "`, retry or discard them, then `rillmark outlet resume " + s.Name + "`"}
	}
	return letters, nil
}

// stored notes letters that are stored, and logs the first of them.
func (s *sender) stored(ctx context.Context, letters []catalog.DeadLetter) error {
	dead := 0
	for _, l := range letters {
		if len(l.Row) > 0 {
			s.rows[string(l.Row)] = true
		}
		if l.State == catalog.LetterDead {
			dead++
			if dead <= 3 {
				s.Log("error", "dead-letter", fmt.Sprintf("%s (%s of %s) is a dead letter: %s", l.EventID, l.Operation, l.Table, l.Error))
			}
		}
	}
	if dead > 3 {
		s.Log("error", "dead-letter", fmt.Sprintf("%d events of this batch are dead letters", dead))
	}
	d, behind, err := s.Catalog.CountDeadLetters(ctx, s.ID)
	s.deadCount = int(d + behind)
	return err
}

// refusedEvents reads refused events once more, to keep them, by their offsets.
func (s *sender) refusedEvents(ctx context.Context, dead []refusal) (map[int64]catalog.DeadLetter, error) {
	wanted := make(map[int64]bool)
	newest := int64(0)
	for _, one := range dead {
		wanted[one.offset] = true
		newest = max(newest, one.offset)
	}
	found := make(map[int64]catalog.DeadLetter)
	keep := func(e *change.Event) error {
		if wanted[e.Offset] {
			found[e.Offset] = catalog.DeadLetter{Offset: e.Offset, State: catalog.LetterBehind, EventID: e.ID(), Table: e.Table, Operation: e.Operation.String(), Event: journal.Single(e)}
		}
		return nil
	}
	if s.Net {
		return found, s.netEvents(ctx, newest, keep)
	}
	offsets := slices.Sorted(maps.Keys(wanted))
	filter := s.Filter()
	var e change.Event
	for len(offsets) > 0 {
		batch, err := s.Store.Reader(s.Origin.SourceID, offsets[0], journal.ReaderOptions{For: s.ID}).TryNext(ctx)
		if err != nil {
			return nil, err
		}
		if batch == nil {
			break // letters says so
		}
		for batch.Next(&e) {
			if !wanted[e.Offset] {
				continue
			}
			s.Origin.Fill(&e)
			// It is kept as it went out: by a condition an update may be an insert or a delete.
			if _, err := filter.Admits(&e); err != nil && s.SchemaChanges != ChangesDeadLetter && !isBeyond(err) {
				return nil, Unfit(s.Name, err)
			}
			keep(&e) //nolint:errcheck // it never fails
		}
		if err := batch.Err(); err != nil {
			return nil, err
		}
		for len(offsets) > 0 && offsets[0] <= batch.Last {
			offsets = offsets[1:]
		}
	}
	return found, nil
}

// netEvents works out once more what the changes of the batch in hand come to, up
// to an offset: the journal has them one by one.
func (s *sender) netEvents(ctx context.Context, until int64, each func(*change.Event) error) error {
	var net shape.Net
	var e change.Event
	filter := s.Filter()
	reader := s.Store.Reader(s.Origin.SourceID, s.from, journal.ReaderOptions{Wants: filter.AdmitsTable, For: s.ID})
	for reader.Position() <= until {
		batch, err := reader.TryNext(ctx)
		if err != nil || batch == nil {
			return err
		}
		for batch.Next(&e) && e.Offset <= until {
			s.Origin.Fill(&e)
			after := e.After
			admitted, err := filter.Admits(&e)
			switch {
			case err != nil && s.SchemaChanges != ChangesDeadLetter && !isBeyond(err):
				return Unfit(s.Name, err)
			case err == nil && !admitted && shape.Joins(&e) && filter.AdmitsTable(e.Table):
				net.KeepBack(&e, after)
			case err == nil && !admitted:
			case err == nil && shape.Joins(&e):
				net.Add(&e)
			default:
				if err := net.Take(each); err != nil {
					return err
				}
				if err := each(&e); err != nil {
					return err
				}
			}
		}
		if err := batch.Err(); err != nil {
			return err
		}
	}
	return net.Take(each)
}
