package journal

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// A row's history is in few of a journal's blocks. Behind the writer, off its way, a Bloom
// filter of the keys is made for each run of some thousand events; what has none yet is
// read. A filter may say of a key that it is there where it is not, seldom, and never the
// other way round.

const (
	// keyRun is about how many events a filter is for.
	keyRun = 16 << 10
	// bitsOfKey and testsOfKey: one filter in some hundreds says so of a key in vain.
	bitsOfKey  = 12
	testsOfKey = 8
)

// Range is a run of adjoining offsets.
type Range struct{ First, Last int64 }

// KeyHash is a key of a table for the filters.
func KeyHash(table string, key []change.Value) uint64 {
	h := fnv.New64a()
	h.Write([]byte(table))
	h.Write([]byte{0})
	h.Write([]byte(change.RowKey(key)))
	sum := h.Sum64()
	return sum ^ sum>>29 // its low bits alone are weak
}

// keyFilter collects the keys of a run.
type keyFilter struct {
	first, last int64
	events      int
	keys        map[uint64]struct{}
	key         []change.Value
}

func (f *keyFilter) add(e *change.Event) {
	f.events++
	if !e.Operation.IsRow() || e.Schema == nil || len(e.Schema.Key()) == 0 {
		return
	}
	f.key = e.KeyValues(f.key[:0])
	f.keys[KeyHash(e.Table, f.key)] = struct{}{}
	if e.Rekeyed != nil {
		f.keys[KeyHash(e.Table, e.Rekeyed)] = struct{}{}
	}
}

// bits are the filter's, eight to a byte.
func (f *keyFilter) bits() []byte {
	filter := make([]byte, max((len(f.keys)*bitsOfKey+7)/8, 8))
	n := uint64(len(filter)) * 8
	for key := range f.keys {
		for i := range uint64(testsOfKey) {
			at := bitOf(key, i, n)
			filter[at/8] |= 1 << (at % 8)
		}
	}
	return filter
}

// bitOf is the bit of a key's test in a filter of n bits.
func bitOf(key, test, n uint64) uint64 { return (key&0x7fffffff + test*(key>>33|1)) % n }

// IndexKeys makes the filters of a journal's events that are older than settle and have none.
// Of what cannot be read there are none: whoever reads a history comes to the damage.
func (s *Store) IndexKeys(ctx context.Context, source int64, settle time.Duration) (runs int, err error) {
	head, err := s.Head(ctx, source)
	if err != nil {
		return 0, err
	}
	if _, err := s.pool.Exec(ctx, "DELETE FROM rillmark.journal_keys WHERE source_id = $1 AND last_offset < $2", source, head.First); err != nil {
		return 0, fmt.Errorf("letting filters of keys go: %w", err)
	}
	from, err := s.indexed(ctx, source)
	if err != nil {
		return 0, err
	}
	settled, err := s.settled(ctx, source, settle)
	if err != nil {
		return 0, err
	}
	reader := s.Reader(source, max(from+1, head.First), ReaderOptions{For: Everyone})
	run := keyFilter{first: reader.Position(), keys: make(map[uint64]struct{})}
	var e change.Event
	for {
		batch, err := reader.TryNext(ctx)
		var damage *Damage
		if errors.As(err, &damage) || errors.Is(err, ErrExpired) {
			return runs, nil
		}
		if err != nil || batch == nil || batch.Last > settled {
			return runs, err // what is left of a run waits for more
		}
		for batch.Next(&e) {
			run.add(&e)
		}
		if err := batch.Err(); err != nil {
			return runs, nil //nolint:nilerr // readers and verify report it
		}
		if run.last = batch.Last; run.events < keyRun {
			continue
		}
		if _, err := s.pool.Exec(ctx, "INSERT INTO rillmark.journal_keys (source_id, first_offset, last_offset, filter) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", source, run.first, run.last, run.bits()); err != nil {
			return runs, fmt.Errorf("storing a filter of keys: %w", err)
		}
		runs++
		run.first, run.events = run.last+1, 0
		clear(run.keys)
	}
}

// indexed is the newest offset that a filter covers; 0 without one.
func (s *Store) indexed(ctx context.Context, source int64) (last int64, err error) {
	err = s.pool.QueryRow(ctx, "SELECT coalesce(max(last_offset), 0) FROM rillmark.journal_keys WHERE source_id = $1", source).Scan(&last)
	if err != nil {
		err = fmt.Errorf("looking for filters of keys: %w", err)
	}
	return last, err
}

// KeyRanges are the runs between two offsets that may hold one of some keys, in order; what
// no filter covers is among them.
func (s *Store) KeyRanges(ctx context.Context, source int64, keys []uint64, within Range) ([]Range, error) {
	var alternatives []string
	args := []any{source, within.First, within.Last}
	for _, key := range keys {
		var all []string
		for i := range testsOfKey {
			at := fmt.Sprintf("(($%d::bigint + %d * $%d::bigint) %% (8 * octet_length(filter)))", len(args)+1, i, len(args)+2)
			all = append(all, fmt.Sprintf("get_byte(substring(filter FROM (%s / 8)::int + 1 FOR 1), 0) >> (%s %% 8)::int & 1 = 1", at, at))
		}
		alternatives = append(alternatives, "("+strings.Join(all, " AND ")+")")
		args = append(args, int64(key&0x7fffffff), int64(key>>33|1))
	}
	rows, _ := s.pool.Query(ctx, `SELECT first_offset, last_offset, `+strings.Join(alternatives, " OR ")+` FROM rillmark.journal_keys
		WHERE source_id = $1 AND last_offset >= $2 AND first_offset <= $3 ORDER BY last_offset`, args...)
	var ranges []Range
	next := within.First // what comes before is covered
	var one Range
	var may bool
	add := func(r Range) {
		r.First, r.Last = max(r.First, within.First), min(r.Last, within.Last)
		if n := len(ranges); n > 0 && ranges[n-1].Last+1 == r.First {
			ranges[n-1].Last = r.Last
		} else if r.First <= r.Last {
			ranges = append(ranges, r)
		}
	}
	_, err := pgx.ForEachRow(rows, []any{&one.First, &one.Last, &may}, func() error {
		if one.First > next {
			add(Range{next, one.First - 1})
		}
		if may {
			add(one)
		}
		next = one.Last + 1
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("looking a key up in the journal: %w", err)
	}
	if next <= within.Last {
		add(Range{next, within.Last})
	}
	return ranges, nil
}
