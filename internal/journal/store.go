package journal

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"rillmark/internal/change"
)

// Store keeps journals in PostgreSQL. It is safe for several goroutines.
type Store struct {
	pool    *pgxpool.Pool
	resolve func(change.Fingerprint) (*change.Schema, error)
	options Options

	mu     sync.Mutex
	tails  map[int64]*tail
	dense  map[string]int64 // up to where a segment's blocks are known to be compressed well
	hasAge map[string]bool  // segments whose blocks have the time of their append
}

// Options are a store's limits; a zero field takes its default.
type Options struct {
	// SegmentBytes of stored blocks close a segment. Default 256 MiB.
	SegmentBytes int64
	// TailBytes of payload, for each source, are kept in memory for readers at
	// the journal's end. Default 8 MiB.
	TailBytes int
}

// NewStore keeps journals in the database behind pool, whose schema package
// state has migrated. resolve finds schema versions; it is called often and
// should keep what it found.
func NewStore(pool *pgxpool.Pool, resolve func(change.Fingerprint) (*change.Schema, error), options Options) *Store {
	if options.SegmentBytes <= 0 {
		options.SegmentBytes = 256 << 20
	}
	if options.TailBytes <= 0 {
		options.TailBytes = 8 << 20
	}
	return &Store{pool: pool, resolve: resolve, options: options, tails: make(map[int64]*tail)}
}

// Head is where a journal stands.
type Head struct {
	Generation int
	Epoch      int64
	// First is the oldest offset that is still kept, Next the one that the next
	// event gets. They are equal while the journal is empty.
	First, Next int64
	// Checkpoint is the source's position in the engine's own form; nil before
	// the first append.
	Checkpoint []byte
	// Former is the instance that wrote the journal before a take-over; else empty.
	Former string
}

// Head reads a journal's head.
func (s *Store) Head(ctx context.Context, source int64) (Head, error) {
	var h Head
	err := s.pool.QueryRow(ctx, `SELECT generation, epoch, first_offset, next_offset, checkpoint FROM rillmark.journal_head WHERE source_id = $1`, source).
		Scan(&h.Generation, &h.Epoch, &h.First, &h.Next, &h.Checkpoint)
	if errors.Is(err, pgx.ErrNoRows) {
		return Head{Generation: 1, First: 1, Next: 1}, nil
	}
	if err != nil {
		return h, fmt.Errorf("reading the journal's head: %w", err)
	}
	return h, nil
}

// GenerationStart is where a generation of a journal begins.
type GenerationStart struct {
	Generation int
	First      int64 // the generation's first offset
	At         time.Time
	Reason     string // why it had to be begun, in a person's words
}

// GenerationStarts lists where a journal's generations begin, oldest first. The first one is
// there without having been started.
func (s *Store) GenerationStarts(ctx context.Context, source int64) ([]GenerationStart, error) {
	rows, _ := s.pool.Query(ctx, "SELECT generation, first_offset, at, reason FROM rillmark.journal_cut WHERE source_id = $1 ORDER BY first_offset, generation", source)
	cuts, err := pgx.CollectRows(rows, pgx.RowToStructByPos[GenerationStart])
	if err != nil {
		return nil, fmt.Errorf("listing the journal's cuts: %w", err)
	}
	return cuts, nil
}

// StartGeneration implements [Journals].
func (s *Store) StartGeneration(ctx context.Context, source int64, least int, reason string) (GenerationStart, error) {
	var start GenerationStart
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		var first int
		err := tx.QueryRow(ctx, "SELECT generation FROM rillmark.journal_head WHERE source_id = $1 FOR UPDATE", source).Scan(&first)
		if err != nil {
			return err
		}
		err = tx.QueryRow(ctx, `UPDATE rillmark.journal_head SET generation = greatest(generation + 1, $2), epoch = epoch + 1, checkpoint = NULL
			WHERE source_id = $1 RETURNING generation, next_offset`, source, least).Scan(&start.Generation, &start.First)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO rillmark.journal_cut (source_id, generation, first_offset, reason)
			SELECT $1, $2, 1, '' WHERE NOT EXISTS (SELECT FROM rillmark.journal_cut WHERE source_id = $1)`, source, first)
		if err != nil {
			return err
		}
		err = tx.QueryRow(ctx, "INSERT INTO rillmark.journal_cut (source_id, generation, first_offset, reason) VALUES ($1, $2, $3, $4) RETURNING at, reason",
			source, start.Generation, start.First, reason).Scan(&start.At, &start.Reason)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `UPDATE rillmark.source_table SET state = 'new', note = '', load = NULL, rows_done = 0, updated_at = now()
			WHERE source_id = $1 AND state NOT IN ('gone', 'left-out')`, source)
		if err != nil {
			return err
		}
		// A source that is added under this name later must not give the same ids again.
		_, err = tx.Exec(ctx, "UPDATE rillmark.source_generation g SET generation = $2 FROM rillmark.source s WHERE s.id = $1 AND g.name = s.name", source, start.Generation)
		return err
	})
	return start, err
}

// Remove drops a source's journal with all its segments.
func (s *Store) Remove(ctx context.Context, source int64) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, _ := tx.Query(ctx, "SELECT relation FROM rillmark.journal_segment WHERE source_id = $1", source)
		relations, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		for _, relation := range relations {
			if _, err := tx.Exec(ctx, "DROP TABLE IF EXISTS rillmark."+pgx.Identifier{relation}.Sanitize()); err != nil {
				return err
			}
		}
		for _, table := range []string{"journal_segment", "journal_head", "journal_count", "journal_counted", "journal_cut"} {
			if _, err := tx.Exec(ctx, "DELETE FROM rillmark."+table+" WHERE source_id = $1", source); err != nil {
				return err
			}
		}
		return nil
	})
}

// Size is what a source's journal takes on disk, in bytes.
func (s *Store) Size(ctx context.Context, source int64) (int64, error) {
	var size int64
	err := s.pool.QueryRow(ctx, `SELECT coalesce(sum(pg_total_relation_size(to_regclass('rillmark.' || quote_ident(relation)))), 0)::bigint
		FROM rillmark.journal_segment WHERE source_id = $1`, source).Scan(&size)
	return size, err
}

// segment is one table of blocks, from First on.
type segment struct {
	first    int64
	relation string // quoted, with its schema
}

func segmentRelation(source int64, generation int, first int64) string {
	return fmt.Sprintf("journal_%d_%d_%020d", source, generation, first)
}

// segments are those of all generations: offsets go on through a cut.
func (s *Store) segments(ctx context.Context, source int64) ([]segment, error) {
	rows, _ := s.pool.Query(ctx, `SELECT first_offset, relation FROM rillmark.journal_segment
		WHERE source_id = $1 ORDER BY first_offset, generation`, source)
	segments, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (segment, error) {
		var one segment
		err := row.Scan(&one.first, &one.relation)
		one.relation = "rillmark." + pgx.Identifier{one.relation}.Sanitize()
		return one, err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the journal's segments: %w", err)
	}
	return segments, nil
}
