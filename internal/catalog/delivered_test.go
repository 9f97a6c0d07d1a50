package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// testDeliveries: of each event it is known between which moments it was delivered, in each of
// the outlet's runs.
func testDeliveries(t *testing.T, c *Catalog, ids []int64) {
	outlet, other, ctx := ids[0], ids[1], t.Context()
	moment := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	note := func(run int, committed int64) {
		t.Helper()
		moment = moment.Add(time.Minute)
		_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET run = $2, committed = $3, committed_at = $4 WHERE outlet_id = $1", outlet, run, committed, moment)
		require.NoError(t, err)
		for range 2 { // it may be noted again, by another instance
			require.NoError(t, c.NoteDelivered(ctx))
		}
	}
	note(1, 10)
	note(1, 10) // nothing has moved
	note(1, 30)
	note(2, 5)
	note(2, 50)
	at := func(minute int) time.Time { return time.Date(2026, 11, 26, 9, minute, 0, 0, time.UTC) }
	says := func(offset int64) (said [][2]time.Time) {
		t.Helper()
		found, err := c.Deliveries(ctx, outlet, offset)
		require.NoError(t, err)
		for _, d := range found {
			var after time.Time
			if d.After != nil {
				after = d.After.UTC()
			}
			said = append(said, [2]time.Time{after, d.By.UTC()})
		}
		return said
	}
	require.Equal(t, [][2]time.Time{{{}, at(1)}, {{}, at(4)}}, says(3), "in both runs")
	require.Equal(t, [][2]time.Time{{at(1), at(3)}, {at(4), at(5)}}, says(20))
	require.Equal(t, [][2]time.Time{{at(4), at(5)}}, says(40))
	require.Empty(t, says(51))
	found, err := c.Deliveries(ctx, other, 1)
	require.NoError(t, err)
	require.Empty(t, found)
	require.NoError(t, c.ForgetDelivered(ctx, time.Since(at(4))-time.Second))
	require.Equal(t, [][2]time.Time{{{}, at(5)}}, says(20))
}
