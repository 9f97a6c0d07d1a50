package journal

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

// damaged reads from the beginning until an error, which has to be a damage.
func damaged(t *testing.T, s *Store, from int64) (read int64, d *Damage) {
	t.Helper()
	r := s.Reader(1, from, ReaderOptions{})
	for {
		batch, err := r.TryNext(t.Context())
		if err != nil {
			require.ErrorAs(t, err, &d)
			_, again := r.TryNext(t.Context())
			require.Error(t, again, "asked again, it gives the same error, and nothing from behind it")
			return r.Position() - 1, d
		}
		require.NotNil(t, batch, "the journal's end was reached")
	}
}

// TestDamageIsTold takes blocks away and changes each of their columns: a reader
// that comes there gets an error with the offsets that are gone, and a reading of all of them
// lists them. A block of the first stored form is read.
func TestDamageIsTold(t *testing.T) {
	s, pool := store(t, Options{TailBytes: 1})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	for range 12 {
		b := block(w.Next(), loans, 3)
		if w.Next() == 1 {
			b.Stored = NewCompressor().stored(b.Payload, nil, false)
		}
		require.NoError(t, w.Append(ctx, []*Block{b}, nil, nil))
	}
	relation := w.(*Writer).segment.relation
	require.NoError(t, w.FlushCounts(ctx))
	v, err := s.Verify(ctx, 1, func(*Verified) {})
	require.NoError(t, err)
	require.Empty(t, v.Damaged)
	require.Equal(t, []int64{12, 36, 37}, []int64{v.Blocks, v.Events, v.At})
	damage := func(statement string) {
		tag, err := pool.Exec(ctx, statement)
		require.NoError(t, err, statement)
		require.EqualValues(t, 1, tag.RowsAffected(), statement)
	}
	for _, one := range []struct {
		first, last int64
		statement   string
	}{
		{4, 6, "UPDATE " + relation + " SET tables = 'public.holds' WHERE first_offset = 4"},
		{10, 12, "DELETE FROM " + relation + " WHERE first_offset = 10"},
		{16, 18, "UPDATE " + relation + " SET last_commit = last_commit + interval '1 day' WHERE first_offset = 16"},
		{22, 24, "UPDATE " + relation + " SET data = set_byte(data, length(data) - 1, 255 - get_byte(data, length(data) - 1)) WHERE first_offset = 22"},
		{28, 30, "UPDATE " + relation + " SET first_offset = 29 WHERE first_offset = 28"},
		{34, 36, "DELETE FROM " + relation + " WHERE first_offset = 34"},
	} {
		damage(one.statement)
		from := int64(1)
		if one.first > 4 {
			from = one.first - 3
		}
		read, d := damaged(t, s, from)
		require.Equal(t, one.first-1, read, one.statement)
		require.Equal(t, one.first, d.First, one.statement)
		require.LessOrEqual(t, d.Last, one.last, one.statement)
		require.ErrorIs(t, d, ErrCorrupt)
		// Even for readers that would pass the block over unread.
		_, err := s.Reader(1, one.first, ReaderOptions{Tables: "^nothing$"}).TryNext(ctx)
		if one.first != 22 {
			require.ErrorIs(t, err, ErrCorrupt, one.statement)
		}
	}
	v, err = s.Verify(ctx, 1, func(*Verified) {})
	require.NoError(t, err)
	gone := make(map[int64]bool)
	for _, d := range v.Damaged {
		for offset := d.First; offset <= d.Last; offset++ {
			gone[offset] = true
		}
	}
	require.Len(t, gone, 18, "%v", v.Damaged)
	for first := int64(4); first < 37; first += 6 {
		require.True(t, gone[first] && gone[first+2])
	}
	// Capture goes on: what is gone cannot be counted any more.
	_, err = pool.Exec(ctx, "DELETE FROM rillmark.journal_counted")
	require.NoError(t, err)
	w.Close(ctx)
	again, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	require.NoError(t, again.Append(ctx, []*Block{block(37, loans, 1)}, nil, nil))
	_, err = s.Merge(ctx, 1, 0)
	require.NoError(t, err)
	_, err = s.Recompress(ctx, 1, 0)
	require.NoError(t, err)
	require.Equal(t, []int64{37}, readAll(t, s, 37, ReaderOptions{}))
	_, d := damaged(t, s, 1)
	require.EqualValues(t, 4, d.First, "upkeep does not make a damage look whole")
	// An append whose outcome is not known is the writer's last.
	again.(*Writer).conn.Close(ctx) //nolint:errcheck // that is what breaks it
	require.Error(t, again.Append(ctx, []*Block{block(38, loans, 1)}, nil, nil))
	err = again.Append(ctx, []*Block{block(38, loans, 1)}, nil, nil)
	require.ErrorContains(t, err, "outcome is not known")
	require.False(t, errors.Is(err, ErrFenced))
}
