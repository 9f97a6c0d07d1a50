package journal

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestEventsForOneOutlet reads a journal in which some events are for one outlet alone: from
// memory, from the database, and after a table's events have been taken out.
func TestEventsForOneOutlet(t *testing.T) {
	s, _ := store(t, Options{SegmentBytes: 1 << 20})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	b := NewBuilder(0)
	tx := &change.OpenTransaction{ID: "1", CommitTime: 1}
	b.BeginTransaction()
	for i, only := range []int64{0, 7, 7, 0, 8, 0} {
		schema := loans
		if i == 3 {
			schema = holds
		}
		row := &change.Row{Operation: change.Existing, Schema: schema, Place: uint64(10 * i), For: only}
		for range schema.Columns {
			row.After = append(row.After, change.Of(fmt.Sprint(i+1)))
		}
		b.Add(tx, row)
	}
	b.EndTransaction()
	closed := b.Close(1)
	NewCompressor().Compress(closed, true)
	require.NoError(t, w.Append(ctx, []*Block{closed}, nil, nil))
	holds := func() {
		t.Helper()
		require.Equal(t, []int64{1, 4, 6}, readAll(t, s, 1, ReaderOptions{}))
		require.Equal(t, []int64{1, 2, 3, 4, 6}, readAll(t, s, 1, ReaderOptions{For: 7}))
		require.Equal(t, []int64{5, 6}, readAll(t, s, 5, ReaderOptions{For: 8}))
		require.Equal(t, []int64{1, 2, 3, 4, 5, 6}, readAll(t, s, 1, ReaderOptions{For: Everyone}))
		require.Equal(t, []int64{1, 2, 3, 6}, readAll(t, s, 1, ReaderOptions{For: 7, Wants: func(table string) bool { return table == loans.Table }}))
	}
	holds()
	w.Close(ctx)
	s = NewStore(s.pool, resolve, Options{})
	holds()
	kept, names, dropped, err := without(closed.Payload, func(table string) bool { return table == "public.holds" })
	require.NoError(t, err)
	require.Equal(t, []string{loans.Table}, names)
	require.EqualValues(t, 1, dropped)
	c := Cursor{Resolve: resolve, For: 8}
	c.Reset(kept)
	var e change.Event
	var places []uint64
	for {
		more, err := c.Next(&e)
		require.NoError(t, err)
		if !more {
			break
		}
		places = append(places, e.Place)
	}
	require.Equal(t, []uint64{0, 40, 50}, places)
	var single change.Event
	require.NoError(t, s.OpenSingle(Single(&change.Event{Operation: change.Void, Table: loans.Table, Schema: loans, For: 7}), &single))
	require.EqualValues(t, 7, single.For)
}
