package journal

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"sync"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// counter counts a journal's events by table and operation. It lives in memory
// and is stored from time to time with the offset it reaches; on opening, what
// came after that offset is counted again from the blocks.
type counter struct {
	store  *Store
	source int64

	mu      sync.Mutex
	events  map[countKey]int64
	upto    int64 // events below this offset are in
	flushed int64 // touched by flush alone
}

type countKey struct {
	table     string
	operation change.Operation
}

func (s *Store) openCounter(ctx context.Context, source, first, next int64) (*counter, error) {
	c := &counter{store: s, source: source, events: make(map[countKey]int64), upto: 1}
	err := s.pool.QueryRow(ctx, "SELECT upto FROM rillmark.journal_counted WHERE source_id = $1", source).Scan(&c.upto)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return nil, fmt.Errorf("reading the journal's counts: %w", err)
	}
	stored, err := s.StoredCounts(ctx, source)
	if err != nil {
		return nil, err
	}
	for _, one := range stored {
		c.events[countKey{one.Table, one.Operation}] = one.Events
	}
	c.upto = max(c.upto, first) // what retention has dropped cannot be counted any more
	if c.upto < next {
		if err := c.recount(ctx, next); err != nil {
			return nil, err
		}
	}
	c.flushed = -1
	return c, nil
}

func (c *counter) recount(ctx context.Context, next int64) error {
	r := c.store.Reader(c.source, c.upto, ReaderOptions{For: Everyone})
	for c.upto < next {
		batch, err := r.Next(ctx)
		if err == nil {
			var e change.Event
			for batch.Next(&e) {
				c.events[countKey{e.Table, e.Operation}]++
			}
			c.upto = batch.Last + 1
			err = batch.Err()
		}
		var damage *Damage
		if errors.As(err, &damage) {
			// What is gone cannot be counted; capture must not stand still for it.
			c.upto = damage.Last + 1
			r = c.store.Reader(c.source, c.upto, ReaderOptions{For: Everyone})
			continue
		}
		if err != nil {
			return fmt.Errorf("counting the journal's newest events: %w", err)
		}
	}
	return nil
}

func (c *counter) add(blocks []*Block) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, b := range blocks {
		for _, one := range b.Counts {
			c.events[countKey{one.Table, one.Operation}] += one.Events
		}
		c.upto = b.Last + 1
	}
}

// snapshot is the counts of all events below upto.
func (c *counter) snapshot() (counts []Count, upto int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	counts = make([]Count, 0, len(c.events))
	for key, n := range c.events {
		counts = append(counts, Count{key.table, key.operation, n})
	}
	sortCounts(counts)
	return counts, c.upto
}

func sortCounts(counts []Count) {
	sort.Slice(counts, func(i, j int) bool {
		if counts[i].Table != counts[j].Table {
			return counts[i].Table < counts[j].Table
		}
		return counts[i].Operation < counts[j].Operation
	})
}

func (c *counter) flush(ctx context.Context, epoch int64) error {
	counts, upto := c.snapshot()
	if upto == c.flushed {
		return nil
	}
	tables, operations, events := make([]string, len(counts)), make([]string, len(counts)), make([]int64, len(counts))
	for i, one := range counts {
		tables[i], operations[i], events[i] = one.Table, one.Operation.String(), one.Events
	}
	var fenced bool
	err := c.store.pool.QueryRow(ctx, `WITH reached AS (INSERT INTO rillmark.journal_counted (source_id, upto)
			SELECT source_id, $3 FROM rillmark.journal_head WHERE source_id = $1 AND epoch = $2
			ON CONFLICT (source_id) DO UPDATE SET upto = excluded.upto RETURNING source_id),
		counted AS (INSERT INTO rillmark.journal_count (source_id, table_name, operation, events)
			SELECT source_id, c.* FROM reached, unnest($4::text[], $5::text[], $6::bigint[]) AS c
			ON CONFLICT (source_id, table_name, operation) DO UPDATE SET events = excluded.events)
		SELECT NOT EXISTS (SELECT FROM reached)`, c.source, epoch, upto, tables, operations, events).Scan(&fenced)
	if err == nil && fenced {
		err = ErrFenced
	}
	if err != nil {
		return fmt.Errorf("storing the journal's counts: %w", err)
	}
	c.flushed = upto
	return nil
}

// StoredCounts is what was counted when the writer last stored its counts; for
// a source without a writer in this process.
func (s *Store) StoredCounts(ctx context.Context, source int64) ([]Count, error) {
	rows, _ := s.pool.Query(ctx, "SELECT table_name, operation, events FROM rillmark.journal_count WHERE source_id = $1", source)
	counts, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Count, error) {
		var one Count
		var operation string
		if err := row.Scan(&one.Table, &operation, &one.Events); err != nil {
			return one, err
		}
		var err error
		one.Operation, err = change.ParseOperation(operation)
		return one, err
	})
	if err != nil {
		return nil, fmt.Errorf("reading the journal's counts: %w", err)
	}
	sortCounts(counts)
	return counts, nil
}
