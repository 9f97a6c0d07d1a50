package thrift

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestBounds: the limit lies above the most that was in use lately, is never less than what a
// service at rest needs, and stays where it is for small changes.
func TestBounds(t *testing.T) {
	var b bounds
	look := func(live int64) (int64, bool) { return b.look(live << 20) }
	limit, changed := look(3)
	require.True(t, changed)
	require.EqualValues(t, leastLimit, limit)
	_, changed = look(4)
	require.False(t, changed)
	limit, changed = look(50)
	require.True(t, changed)
	require.EqualValues(t, 50<<20+spare, limit)
	_, changed = look(53)
	require.False(t, changed, "a little more")
	for range livesKept - 1 {
		_, changed = look(5)
		require.False(t, changed, "less for a moment")
	}
	limit, changed = look(5)
	require.True(t, changed)
	require.EqualValues(t, leastLimit, limit)
}

// TestBound: the runtime's limit is set while it is kept, and put back at its end.
func TestBound(t *testing.T) {
	ctx, end := context.WithCancel(t.Context())
	end() // it still looks once
	limit := int64(1 << 40)
	var all []int64
	keep(ctx, bound(func(to int64) int64 {
		before := limit
		if all = append(all, to); to >= 0 {
			limit = to
		}
		return before
	}))
	require.Len(t, all, 3)
	require.GreaterOrEqual(t, all[1], int64(leastLimit))
	require.EqualValues(t, 1<<40, limit)

	t.Setenv("GOMEMLIMIT", "1GiB")
	keep(t.Context(), bound(nil)) // it returns: whoever set that decides
}
