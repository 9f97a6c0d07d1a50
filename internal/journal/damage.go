package journal

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// Damage is a run of offsets whose events cannot be read: their block is missing, or
// its bytes are not what was written. It is an [ErrCorrupt].
type Damage struct {
	First, Last int64
	Cause       error
}

// Error names the offsets.
func (d *Damage) Error() string {
	return fmt.Sprintf("offsets %d to %d of the journal cannot be read: %v", d.First, d.Last, d.Cause)
}

// Unwrap is the cause.
func (d *Damage) Unwrap() error { return d.Cause }

// Is reports that a damage is an [ErrCorrupt].
func (d *Damage) Is(target error) bool { return target == ErrCorrupt }

// errMissing is the cause where no block holds the offsets.
var errMissing = errors.New("they are in no block")

func scanFetched(row pgx.CollectableRow) (fetched, error) {
	var b fetched
	err := row.Scan(&b.first, &b.last, &b.firstCommit, &b.lastCommit, &b.tables, &b.payloadBytes, &b.stored)
	return b, err
}

// payload checks all of a block that was fetched with its data.
func (b *fetched) payload() ([]byte, error) {
	if b.stored == nil {
		return nil, nil
	}
	if err := b.verify(b.stored); err != nil {
		return nil, err
	}
	return Payload(b.stored)
}

// following is the first offset at or after from that is in a block; end where
// there is none.
func (s *Store) following(ctx context.Context, source, from, end int64) (int64, error) {
	segments, err := s.segments(ctx, source)
	if err != nil {
		return 0, err
	}
	for _, one := range segments {
		var first *int64
		if err := s.pool.QueryRow(ctx, "SELECT min(first_offset) FROM "+one.relation+" WHERE last_offset >= $1", from).Scan(&first); err != nil {
			return 0, err
		}
		if first != nil {
			return max(*first, from+1), nil
		}
	}
	return end, nil
}

// Verified is what [Store.Verify] has found so far.
type Verified struct {
	First  int64 // the oldest offset that is kept
	Next   int64 // the journal ends before this one
	At     int64 // all before it has been read
	Blocks int64
	Events int64 // that were read, those included that are no longer kept
	Bytes  int64 // of stored data
	// Damaged are the offsets that cannot be read, at most [maxDamaged] of them.
	Damaged []*Damage
}

// maxDamaged bounds the list of damages.
const maxDamaged = 1000

// Verify reads a whole journal: checksums, that each block follows the one before,
// that it holds the events that its offsets say, and that each of them and its
// schema version can be read. each is called now and then with how far it is. What is
// appended meanwhile is left out.
func (s *Store) Verify(ctx context.Context, source int64, each func(*Verified)) (*Verified, error) {
	head, err := s.Head(ctx, source)
	if err != nil {
		return nil, err
	}
	v := &Verified{First: head.First, Next: head.Next, At: head.First}
	found := func(d *Damage) {
		if len(v.Damaged) < maxDamaged {
			v.Damaged = append(v.Damaged, d)
		}
		v.At = d.Last + 1
	}
	for v.At < v.Next {
		segments, err := s.segments(ctx, source)
		if err != nil {
			return nil, err
		}
		blocks, err := s.blocksFrom(ctx, segments, v.At)
		if err != nil {
			return nil, err
		}
		if len(blocks) == 0 || blocks[0].first > v.At {
			if head, err = s.Head(ctx, source); err != nil {
				return nil, err
			}
			if head.First > v.At { // retention has gone on since
				v.First, v.At = head.First, head.First
				continue
			}
			end := v.Next
			if len(blocks) > 0 {
				end = min(blocks[0].first, end)
			}
			found(&Damage{v.At, end - 1, errMissing})
			continue
		}
		for i := range blocks {
			if blocks[i].first > v.At {
				break // looked at once more
			}
			v.Blocks++
			v.Bytes += int64(len(blocks[i].stored))
			if err := s.verifyBlock(&blocks[i]); err != nil {
				found(&Damage{max(blocks[i].first, v.At), max(blocks[i].last, v.At), err})
				continue
			}
			v.Events += blocks[i].last + 1 - max(blocks[i].first, v.At)
			v.At = blocks[i].last + 1
		}
		each(v)
	}
	return v, nil
}

// blocksFrom are the next blocks, with their data.
func (s *Store) blocksFrom(ctx context.Context, segments []segment, from int64) ([]fetched, error) {
	for i, one := range segments {
		if i+1 < len(segments) && segments[i+1].first <= from {
			continue
		}
		rows, _ := s.pool.Query(ctx, "SELECT first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data FROM "+one.relation+
			" WHERE last_offset >= $1 ORDER BY last_offset LIMIT $2", from, fetchBlocks)
		blocks, err := pgx.CollectRows(rows, scanFetched)
		if err != nil {
			return nil, fmt.Errorf("reading the journal from offset %d: %w", from, err)
		}
		if len(blocks) > 0 {
			return blocks, nil
		}
	}
	return nil, nil
}

func (s *Store) verifyBlock(b *fetched) error {
	payload, err := b.payload()
	if err != nil {
		return err
	}
	cursor := Cursor{Resolve: s.resolve, For: Everyone}
	cursor.Reset(payload)
	events := int64(0)
	for e := new(change.Event); ; events++ {
		more, err := cursor.Next(e)
		if err != nil {
			return err
		}
		if !more {
			break
		}
	}
	if want := b.last - b.first + 1; events+cursor.Passed != want {
		return fmt.Errorf("%w: it holds %d events, not the %d of its offsets", ErrCorrupt, events+cursor.Passed, want)
	}
	return nil
}
