package journal

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
)

// TestFiltersOfKeys: the runs that a key is looked for in hold all of its events, and few
// others.
func TestFiltersOfKeys(t *testing.T) {
	s, pool := store(t, Options{SegmentBytes: 1 << 20, TailBytes: 1})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	random := seeded.Random(t, 3)
	const blocks, each = 60, 1500
	at := make(map[string][]int64) // the offsets of a key's events
	for n := range blocks {
		b := NewBuilder(0)
		b.BeginTransaction()
		tx := &change.OpenTransaction{ID: fmt.Sprint(n), CommitTime: time.Now().Add(-time.Hour).UnixMicro()}
		for i := range each {
			offset := int64(n*each + i + 1)
			key, other := fmt.Sprint(random.IntN(200_000)), fmt.Sprint(random.IntN(200_000))
			row := &change.Row{Operation: change.Insert, Schema: loans, Place: 1, After: []change.Value{change.Of(key), change.Of("x")}}
			at[key] = append(at[key], offset)
			if i%50 == 0 {
				row.Rekeyed = []change.Value{change.Of(other)}
				at[other] = append(at[other], offset)
			}
			b.Add(tx, row)
		}
		b.EndTransaction()
		closed := b.Close(int64(n*each + 1))
		NewCompressor().Compress(closed, true)
		require.NoError(t, w.Append(ctx, []*Block{closed}, nil, nil))
		if n == blocks/2 {
			_, err := s.IndexKeys(ctx, 1, 0)
			require.NoError(t, err)
		}
	}
	runs, err := s.IndexKeys(ctx, 1, 0)
	require.NoError(t, err)
	require.Positive(t, runs)
	runs, err = s.IndexKeys(ctx, 1, 0)
	require.NoError(t, err)
	require.Zero(t, runs, "what has a filter gets no other")
	all := Range{1, blocks * each}
	covered, err := s.indexed(ctx, 1)
	require.NoError(t, err)
	require.Greater(t, covered, all.Last*8/10)
	search := func(table, key string, within Range) []Range {
		ranges, err := s.KeyRanges(ctx, 1, []uint64{KeyHash(table, []change.Value{change.Of(key)})}, within)
		require.NoError(t, err)
		for i, r := range ranges {
			require.LessOrEqual(t, r.First, r.Last)
			require.True(t, i == 0 || ranges[i-1].Last+1 < r.First, "%v", ranges)
		}
		return ranges
	}
	tried := 0
	for key, offsets := range at {
		if tried++; tried > 300 {
			break
		}
		within := Range{1 + random.Int64N(all.Last/2), all.Last/2 + random.Int64N(all.Last/2)}
		ranges := search(loans.Table, key, within)
		for _, offset := range offsets {
			in := false
			for _, r := range ranges {
				require.True(t, r.First >= within.First && r.Last <= within.Last)
				in = in || r.First <= offset && offset <= r.Last
			}
			require.Equal(t, within.First <= offset && offset <= within.Last, in, "%s at %d in %v", key, offset, ranges)
		}
	}
	vain, tests := 0, 0
	for n := range 2000 {
		for _, r := range search("public.loans", fmt.Sprint("none-", n), Range{1, covered}) {
			vain += int(r.Last-r.First) / keyRun
		}
		tests += int(covered) / keyRun
	}
	t.Logf("%d of %d filters said yes in vain", vain, tests)
	require.Less(t, vain*100, tests, "fewer than one in a hundred")
	_, err = pool.Exec(ctx, "UPDATE rillmark.journal_head SET first_offset = $1 WHERE source_id = 1", all.Last/2)
	require.NoError(t, err)
	_, err = s.IndexKeys(ctx, 1, 0)
	require.NoError(t, err)
	var left int64
	require.NoError(t, pool.QueryRow(ctx, "SELECT min(last_offset) FROM rillmark.journal_keys").Scan(&left))
	require.GreaterOrEqual(t, left, all.Last/2, "the filters of what is no longer kept go")
}
