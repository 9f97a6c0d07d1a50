package journal

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// smallBlock is the payload size below which blocks are merged, and mergedBlock
// the size that merging aims at.
const (
	smallBlock  = 64 << 10
	mergedBlock = 512 << 10
	// mergedAtOnce bounds what one pass merges; the next one goes on.
	mergedAtOnce = 256 << 20
	// plannedAtOnce is of how many small blocks, without what is in them, runs are made at once.
	plannedAtOnce = 4096
)

// Upkeep implements [Retention]: small blocks are merged, and blocks that were compressed
// fast are compressed well, and filters of keys are made.
func (s *Store) Upkeep(ctx context.Context, source int64, settle time.Duration, busy bool) error {
	if _, err := s.Merge(ctx, source, settle); err != nil || busy {
		return err
	}
	if _, err := s.Recompress(ctx, source, settle); err != nil {
		return err
	}
	_, err := s.IndexKeys(ctx, source, settle)
	return err
}

// Merge puts runs of small blocks of a journal together, without changing any
// offset, and reports how many blocks it replaced. Blocks whose newest event is
// younger than settle are left alone. One process at a time should merge a
// source; two would do no harm, the later one's transaction fails.
func (s *Store) Merge(ctx context.Context, source int64, settle time.Duration) (replaced int, err error) {
	segments, err := s.dated(ctx, source)
	if err != nil {
		return 0, err
	}
	compressor := NewCompressor()
	left := mergedAtOnce
	for _, segment := range segments {
		for from, more := int64(0), true; more; {
			var runs []smallRun
			if runs, more, err = s.smallRuns(ctx, segment.relation, from, settle); err != nil {
				return replaced, fmt.Errorf("looking for small blocks: %w", err)
			}
			for _, run := range runs {
				if from = run.last + 1; run.blocks == 1 {
					continue
				}
				err := s.mergeRun(ctx, segment.relation, run, compressor)
				if damage := new(Damage); errors.As(err, &damage) {
					from, more = damage.Last+1, true // it stays as it is; readers and verify tell
					break
				}
				switch {
				case err == nil:
					replaced += run.blocks
				case !errors.Is(err, errChanged): // then the next pass looks again
					return replaced, fmt.Errorf("merging small blocks: %w", err)
				}
				if left -= run.bytes; left <= 0 {
					return replaced, nil
				}
			}
		}
	}
	return replaced, nil
}

// errChanged is of a run whose blocks are no longer those that were planned.
var errChanged = errors.New("the blocks changed meanwhile")

// smallRun is a run of adjoining small blocks that become one.
type smallRun struct {
	first, last   int64
	blocks, bytes int
}

// smallRuns are the runs at or after from, by their sizes alone: nothing of what is in a block is read
// but of those that are merged. more says that there may be others, from the last one's end on.
func (s *Store) smallRuns(ctx context.Context, relation string, from int64, settle time.Duration) (runs []smallRun, more bool, err error) {
	rows, _ := s.pool.Query(ctx, "SELECT first_offset, last_offset, payload_bytes FROM "+relation+`
		WHERE last_offset >= $1 AND payload_bytes < $2 AND `+aged+` < now() - $3::interval ORDER BY last_offset LIMIT $4`,
		from, smallBlock, settle, plannedAtOnce)
	var first, last int64
	var bytes, seen int
	_, err = pgx.ForEachRow(rows, []any{&first, &last, &bytes}, func() error {
		seen++
		// A run ends at a gap (a block that is large enough) or at the size.
		if n := len(runs) - 1; n >= 0 && first == runs[n].last+1 && runs[n].bytes+bytes <= mergedBlock {
			runs[n].last, runs[n].blocks, runs[n].bytes = last, runs[n].blocks+1, runs[n].bytes+bytes
			return nil
		}
		runs = append(runs, smallRun{first, last, 1, bytes})
		return nil
	})
	more = seen == plannedAtOnce
	if more && len(runs) > 1 {
		runs = runs[:len(runs)-1] // more of it may follow
	}
	return runs, more, err
}

// mergeRun puts the blocks of a run together.
func (s *Store) mergeRun(ctx context.Context, relation string, run smallRun, c *Compressor) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		rows, _ := tx.Query(ctx, "SELECT first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data FROM "+relation+`
			WHERE last_offset BETWEEN $1 AND $2 ORDER BY last_offset`, run.first, run.last)
		blocks, err := pgx.CollectRows(rows, scanFetched)
		if err != nil {
			return err
		}
		if len(blocks) != run.blocks {
			return errChanged
		}
		merged := Block{First: blocks[0].first, Last: run.last, FirstCommit: blocks[0].firstCommit, LastCommit: blocks[0].lastCommit}
		payload := make([]byte, 0, run.bytes)
		names := make(map[string]bool)
		for _, b := range blocks {
			part, err := b.payload()
			if err != nil {
				return &Damage{b.first, b.last, err}
			}
			payload = append(payload, part...)
			if b.lastCommit.After(merged.LastCommit) {
				merged.LastCommit = b.lastCommit
			}
			if b.firstCommit.Before(merged.FirstCommit) {
				merged.FirstCommit = b.firstCommit
			}
			for _, name := range splitTables(b.tables) {
				if !names[name] {
					names[name] = true
					merged.Tables = append(merged.Tables, name)
				}
			}
		}
		var appended time.Time
		if err := tx.QueryRow(ctx, "SELECT max("+aged+") FROM "+relation+" WHERE last_offset BETWEEN $1 AND $2", merged.First, merged.Last).Scan(&appended); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "DELETE FROM "+relation+" WHERE last_offset BETWEEN $1 AND $2", merged.First, merged.Last)
		if err != nil {
			return err
		}
		if tag.RowsAffected() != int64(run.blocks) {
			return errChanged
		}
		merged.Payload = payload
		c.Compress(&merged, false)
		_, err = tx.Exec(ctx, `INSERT INTO `+relation+` (first_offset, last_offset, first_commit, last_commit, tables, payload_bytes, data, appended_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, merged.First, merged.Last, merged.FirstCommit, merged.LastCommit,
			joinTables(merged.Tables), len(payload), merged.Stored, appended)
		return err
	})
}

// Retain drops the oldest segments of a journal while they are older than age
// or the journal is larger than size bytes; zero sets no limit. The newest
// segment always stays. held may keep a segment back whose next one begins at an
// offset, while the journal has so many bytes. Retain reports the first offset
// that is kept.
func (s *Store) Retain(ctx context.Context, source int64, age time.Duration, size int64, held func(next, bytes int64) bool) (first int64, dropped int, err error) {
	head, err := s.Head(ctx, source)
	if err != nil {
		return 0, 0, err
	}
	segments, err := s.dated(ctx, source)
	if err != nil {
		return 0, 0, err
	}
	sizes := make([]int64, len(segments))
	total := int64(0)
	for i, one := range segments {
		if err := s.pool.QueryRow(ctx, "SELECT pg_total_relation_size($1::text::regclass)", one.relation).Scan(&sizes[i]); err != nil {
			return 0, 0, err
		}
		total += sizes[i]
	}
	first = head.First
	for i := 0; i+1 < len(segments); i++ {
		expired := false
		if age > 0 {
			if err := s.pool.QueryRow(ctx, `SELECT coalesce(max(`+aged+`) < now() - $1::interval, true) FROM `+segments[i].relation, age).Scan(&expired); err != nil {
				return first, dropped, err
			}
		}
		if !expired && (size <= 0 || total <= size) {
			break
		}
		if held != nil && held(segments[i+1].first, total) {
			break
		}
		first = segments[i+1].first
		if err := s.dropSegment(ctx, source, segments[i], first); err != nil {
			return first, dropped, fmt.Errorf("dropping the journal's oldest segment: %w", err)
		}
		total -= sizes[i]
		dropped++
	}
	return first, dropped, nil
}

// BytesFrom is how many bytes on disk the segments take in which an offset and
// those after it lie.
func (s *Store) BytesFrom(ctx context.Context, source, offset int64) (int64, error) {
	segments, err := s.segments(ctx, source)
	if err != nil {
		return 0, err
	}
	total := int64(0)
	for i, one := range segments {
		if i+1 < len(segments) && segments[i+1].first <= offset {
			continue
		}
		var size int64
		if err := s.pool.QueryRow(ctx, "SELECT coalesce(pg_total_relation_size(to_regclass($1)), 0)", one.relation).Scan(&size); err != nil {
			return 0, err
		}
		total += size
	}
	return total, nil
}

// OffsetAt is the first offset whose event was committed at a time or later; the
// next offset where there is none yet.
func (s *Store) OffsetAt(ctx context.Context, source int64, at time.Time) (int64, error) {
	head, err := s.Head(ctx, source)
	if err != nil {
		return 0, err
	}
	segments, err := s.segments(ctx, source)
	if err != nil {
		return 0, err
	}
	var e change.Event
	for _, one := range segments {
		for last := head.First - 1; ; {
			var first int64
			err := s.pool.QueryRow(ctx, "SELECT first_offset, last_offset FROM "+one.relation+" WHERE last_commit >= $1 AND last_offset > $2 ORDER BY last_offset LIMIT 1", at, last).Scan(&first, &last)
			if errors.Is(err, pgx.ErrNoRows) {
				break
			}
			if err != nil {
				return 0, err
			}
			// The block may come in parts, as it was before it was merged; and what made it a
			// candidate may be no longer kept.
			r := s.Reader(source, max(first, head.First), ReaderOptions{For: Everyone})
			for r.Position() <= last {
				batch, err := r.TryNext(ctx)
				if err != nil || batch == nil {
					return max(first, head.First), err
				}
				for batch.Next(&e) {
					if !e.Transaction.CommittedAt.Before(at) {
						return e.Offset, nil
					}
				}
				if err := batch.Err(); err != nil {
					return 0, err
				}
			}
		}
	}
	return head.Next, nil
}

func (s *Store) dropSegment(ctx context.Context, source int64, old segment, first int64) error {
	return pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		for _, step := range []struct {
			sql  string
			args []any
		}{
			{"SET LOCAL lock_timeout = '5s'", nil},
			{"UPDATE rillmark.journal_head SET first_offset = greatest(first_offset, $2) WHERE source_id = $1", []any{source, first}},
			{"DELETE FROM rillmark.journal_segment WHERE source_id = $1 AND first_offset = $2", []any{source, old.first}},
			{"DROP TABLE " + old.relation, nil},
		} {
			if _, err := tx.Exec(ctx, step.sql, step.args...); err != nil {
				return err
			}
		}
		return nil
	})
}
