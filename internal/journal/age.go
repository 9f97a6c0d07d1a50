package journal

import (
	"context"
	"fmt"
	"time"
)

// aged is when a block was appended, by the state database's clock. What becomes of a block with
// age goes by that: the commits in it have the source's clock, which may be wrong, or long ago
// where capture had paused. Blocks of earlier versions go by their newest commit, if that is past.
const aged = "coalesce(appended_at, least(last_commit, now()))"

// dated are a journal's segments, of which each has a column for when its blocks were appended:
// those that an earlier version has made get it.
func (s *Store) dated(ctx context.Context, source int64) ([]segment, error) {
	segments, err := s.segments(ctx, source)
	if err != nil {
		return nil, err
	}
	for _, one := range segments {
		s.mu.Lock()
		is := s.hasAge[one.relation]
		s.mu.Unlock()
		if is {
			continue
		}
		// Asked first: the statement would hold up appends for a moment.
		err := s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_attribute WHERE attrelid = $1::text::regclass AND attname = 'appended_at')", one.relation).Scan(&is)
		if err == nil && !is {
			_, err = s.pool.Exec(ctx, "SET LOCAL lock_timeout = '5s'; ALTER TABLE "+one.relation+" ADD COLUMN IF NOT EXISTS appended_at timestamptz, ALTER COLUMN appended_at SET DEFAULT now()")
		}
		if err != nil {
			return nil, fmt.Errorf("looking at when blocks were appended: %w", err)
		}
		s.mu.Lock()
		if s.hasAge == nil || len(s.hasAge) > 10_000 {
			s.hasAge = make(map[string]bool)
		}
		s.hasAge[one.relation] = true
		s.mu.Unlock()
	}
	return segments, nil
}

// settled is the newest offset of the blocks that were appended before settle; 0 for none.
func (s *Store) settled(ctx context.Context, source int64, settle time.Duration) (last int64, err error) {
	segments, err := s.dated(ctx, source)
	if err != nil {
		return 0, err
	}
	for i := len(segments) - 1; i >= 0 && last == 0; i-- {
		err := s.pool.QueryRow(ctx, "SELECT coalesce((SELECT last_offset FROM "+segments[i].relation+" WHERE "+aged+" < now() - $1::interval ORDER BY last_offset DESC LIMIT 1), 0)", settle).Scan(&last)
		if err != nil {
			return 0, fmt.Errorf("looking at when blocks were appended: %w", err)
		}
	}
	return last, nil
}
