package destination

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/encode"
	"rillmark/internal/seeded"
)

// TestSplitOnError sends lists in which some messages are bad for good or for now, as they
// fall: each that is not to blame and does not have to wait gets there, those of one row
// in their order, and of a bad one's row nothing goes before it.
func TestSplitOnError(t *testing.T) {
	random := seeded.Random(t, 0)
	bad, later, away := fmt.Errorf("bad: %w", ErrRefused), errors.New("later"), errors.New("away")
	for round := range 500 {
		messages := make([]encode.Message, 1+random.IntN(40))
		verdict := make([]error, len(messages))
		part := make([]int, len(messages))
		for i := range messages {
			part[i] = i
			if random.IntN(8) > 0 {
				messages[i].OrderingKey = []byte{byte('a' + random.IntN(5))}
			}
			switch random.IntN(12) {
			case 0:
				verdict[i] = bad
			case 1:
				verdict[i] = later
			}
		}
		wait := round%2 == 0
		behind := NewBehind(wait)
		taken := make(map[int]bool)
		var order []int
		send := func(part []int) error {
			for _, i := range part {
				if verdict[i] != nil {
					return verdict[i] // a list is taken as a whole, or not
				}
			}
			for _, i := range part {
				require.False(t, taken[i], "what a list brought does not come again")
				taken[i] = true
				order = append(order, i)
			}
			return nil
		}
		refused, err := SplitOnError(messages, part, behind, send, func(err error) Blame {
			if errors.Is(err, ErrRefused) {
				return BlameOne
			}
			return BlameOneForNow
		})
		require.NoError(t, err)
		told := make(map[int]Refusal)
		for _, r := range refused {
			told[r.Index] = r
		}
		blocked := make(map[string]bool)
		for i := range messages {
			row := string(messages[i].OrderingKey)
			waits := row != "" && blocked[row]
			r, isTold := told[i]
			require.NotEqual(t, taken[i], isTold, "message %d is taken or told", i)
			switch {
			case waits:
				require.True(t, isTold && r.Err == nil, "%d waits behind one of its row", i)
			case verdict[i] != nil:
				require.True(t, isTold && errors.Is(r.Err, verdict[i]) && r.Temporary == (verdict[i] == later), "%d is to blame", i)
				blocked[row] = row != "" && (wait || verdict[i] == later)
			default:
				require.True(t, taken[i], "%d has no reason to stay", i)
			}
		}
		require.True(t, slices.IsSortedFunc(order, func(a, b int) int {
			if string(messages[a].OrderingKey) != string(messages[b].OrderingKey) {
				return 0
			}
			return a - b
		}))
	}
	_, err := SplitOnError(make([]encode.Message, 4), []int{0, 1, 2, 3}, NewBehind(true), func([]int) error { return away }, func(error) Blame { return BlameNone })
	require.ErrorIs(t, err, away, "what is nobody's fault ends it at once")
}
