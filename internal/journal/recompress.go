package journal

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// recompressBlocks are looked at in one step; together they are a few MiB.
const recompressBlocks = 8

// Recompress compresses blocks again that were compressed fast, without changing
// what is in them, and reports how many. Blocks whose newest event is younger than
// settle are left alone.
func (s *Store) Recompress(ctx context.Context, source int64, settle time.Duration) (recompressed int, err error) {
	segments, err := s.dated(ctx, source)
	if err != nil {
		return 0, err
	}
	compressor := NewCompressor()
	for _, segment := range segments {
		for {
			n, more, err := s.recompress(ctx, segment.relation, settle, compressor)
			if err != nil {
				return recompressed, fmt.Errorf("compressing blocks again: %w", err)
			}
			if recompressed += n; !more {
				break
			}
		}
	}
	return recompressed, nil
}

func (s *Store) recompress(ctx context.Context, relation string, settle time.Duration, c *Compressor) (recompressed int, more bool, err error) {
	s.mu.Lock()
	from := s.dense[relation]
	s.mu.Unlock()
	rows, _ := s.pool.Query(ctx, `SELECT first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, CASE WHEN substring(data FROM 2 FOR 1) = '\x02' THEN data END FROM `+relation+`
		WHERE last_offset > $1 AND `+aged+` < now() - $2::interval ORDER BY last_offset LIMIT $3`, from, settle, recompressBlocks)
	blocks, err := pgx.CollectRows(rows, scanFetched)
	if err != nil || len(blocks) == 0 {
		return 0, false, err
	}
	for _, b := range blocks {
		payload, err := b.payload()
		if b.stored != nil && err == nil { // a damaged one stays as it is
			// A block that was merged meanwhile has gone, and is none of ours.
			if _, err := s.pool.Exec(ctx, "UPDATE "+relation+" SET data = $2 WHERE last_offset = $1 AND data = $3", b.last, c.stored(payload, &b.columns, false), b.stored); err != nil {
				return recompressed, false, err
			}
			recompressed++
		}
		from = b.last
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dense == nil || len(s.dense) > 10_000 {
		s.dense = make(map[string]int64)
	}
	s.dense[relation] = from
	return recompressed, len(blocks) == recompressBlocks, nil
}
