package journal

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// expireBlocks are rewritten in one step.
const expireBlocks = 8

// Expire takes the events of some tables out of a journal's blocks whose newest
// event is older than age and whose last offset is at most upto, and reports how
// many it took. Their offsets stay theirs: readers pass over them. Only a block as
// a whole comes of age, so that an event may be kept a little longer than asked.
func (s *Store) Expire(ctx context.Context, source int64, tables []string, age time.Duration, upto int64) (events int64, err error) {
	segments, err := s.dated(ctx, source)
	if err != nil {
		return 0, err
	}
	compressor := NewCompressor()
	for _, segment := range segments {
		from := int64(0)
		for segment.first <= upto {
			n, last, err := s.expire(ctx, segment.relation, tables, age, from, upto, compressor)
			if n > 0 {
				s.tail(source).forget(last)
			}
			if err != nil {
				return events, fmt.Errorf("taking events out of the journal: %w", err)
			}
			if events += n; last == 0 {
				break
			}
			from = last
		}
	}
	return events, nil
}

// expire rewrites some blocks behind an offset; last is the newest that it looked
// at, 0 at the end.
func (s *Store) expire(ctx context.Context, relation string, tables []string, age time.Duration, from, upto int64, c *Compressor) (events, last int64, err error) {
	rows, _ := s.pool.Query(ctx, `SELECT first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data FROM `+relation+` WHERE last_offset > $1 AND last_offset <= $2 AND `+aged+` < now() - $3::interval
		AND string_to_array(tables, E'\n') && $4 ORDER BY last_offset LIMIT $5`, from, upto, age, tables, expireBlocks)
	blocks, err := pgx.CollectRows(rows, scanFetched)
	if err != nil {
		return 0, 0, err
	}
	for _, b := range blocks {
		last = b.last
		payload, err := b.payload()
		if err != nil {
			continue // it stays as it is; readers and verify tell
		}
		kept, names, n, err := without(payload, func(name string) bool { return slices.Contains(tables, name) })
		if err != nil {
			return events, last, fmt.Errorf("the block that ends at offset %d: %w", b.last, err)
		}
		changed := b.columns
		changed.tables, changed.payloadBytes = joinTables(names), int64(len(kept))
		// A block that was merged meanwhile has gone, and is none of ours.
		tag, err := s.pool.Exec(ctx, "UPDATE "+relation+" SET data = $2, tables = $3, payload_bytes = $4 WHERE last_offset = $1 AND data = $5",
			b.last, c.stored(kept, &changed, false), changed.tables, len(kept), b.stored)
		if err != nil {
			return events, last, err
		}
		if tag.RowsAffected() == 1 {
			events += n
		}
	}
	return events, last, nil
}

// without is a payload without the events of some tables, of which only the number
// stays; names are the tables of the others.
func without(payload []byte, drop func(table string) bool) (kept []byte, names []string, dropped int64, err error) {
	type entry struct {
		Table
		drop, noted bool
	}
	var tables []entry
	var gone uint64 // events in a row that are left out, and how far their places go
	var places int64
	c := Cursor{rest: payload, Resolve: func(change.Fingerprint) (*change.Schema, error) { return nil, nil }}
	flush := func() {
		if gone == 0 {
			return
		}
		kept = append(kept, tagExpired)
		kept = binary.AppendUvarint(kept, gone)
		kept = binary.AppendVarint(kept, places)
		gone, places = 0, 0
	}
	kept = make([]byte, 0, len(payload))
	for len(c.rest) > 0 {
		start := c.rest
		tag := start[0]
		c.rest = c.rest[1:]
		keep := true
		switch tag {
		case tagSection:
			tables = tables[:0]
		case tagTable, tagTableFor:
			t, err := c.tableEntry(tag)
			if err != nil {
				return nil, nil, 0, err
			}
			tables = append(tables, entry{Table: t, drop: drop(t.Name)})
		case tagTransaction:
			err = c.transaction()
		case tagOrigin:
			_, err = c.bytes()
		case tagExpired:
			n, delta, err := c.expired()
			if err != nil {
				return nil, nil, 0, err
			}
			gone, places, keep = gone+n, places+delta, false
		case tagEvent:
			at, flags, delta, err := c.eventHead(len(tables))
			if err != nil {
				return nil, nil, 0, err
			}
			if err := c.pass(flags, tables[at].Columns); err != nil {
				return nil, nil, 0, err
			}
			if tables[at].drop {
				gone, places, dropped, keep = gone+1, places+delta, dropped+1, false
			} else if !tables[at].noted {
				tables[at].noted = true
				if !slices.Contains(names, tables[at].Name) {
					names = append(names, tables[at].Name)
				}
			}
		default:
			err = fmt.Errorf("%w: unknown entry %d", ErrCorrupt, tag)
		}
		if err != nil {
			return nil, nil, 0, err
		}
		if keep {
			flush()
			kept = append(kept, start[:len(start)-len(c.rest)]...)
		}
	}
	flush()
	return kept, names, dropped, nil
}
