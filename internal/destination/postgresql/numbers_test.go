package postgresql

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRunsOf: numbers in a row come as their first and last, whatever they are, and as none
// where they do not follow each other for long.
func TestRunsOf(t *testing.T) {
	for _, c := range []struct {
		sorted []int64
		most   int
		runs   [][2]int64
	}{
		{[]int64{7}, 1, [][2]int64{{7, 7}}},
		{[]int64{7}, 0, nil},
		{[]int64{-2, -1, 0, 1, 5, 6, 6}, 2, [][2]int64{{-2, 1}, {5, 6}}},
		{[]int64{-2, -1, 0, 1, 5, 6}, 1, nil},
		{[]int64{1, 3, 5}, 2, nil},
		{[]int64{math.MinInt64, math.MinInt64 + 1, math.MaxInt64 - 1, math.MaxInt64}, 4, [][2]int64{{math.MinInt64, math.MinInt64 + 1}, {math.MaxInt64 - 1, math.MaxInt64}}},
		{[]int64{math.MinInt64, math.MaxInt64}, 2, [][2]int64{{math.MinInt64, math.MinInt64}, {math.MaxInt64, math.MaxInt64}}},
		{[]int64{math.MinInt64, -2}, 2, [][2]int64{{math.MinInt64, math.MinInt64}, {-2, -2}}},
	} {
		require.Equal(t, c.runs, runsOf(c.sorted, c.most), "%v", c.sorted)
	}
}
