package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
	"rillmark/internal/state"
	"rillmark/internal/testserver"
)

var loans = change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{
	{Name: "loan_id", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1}, {Name: "note", Type: "text", Rule: change.RuleText, Nullable: true}}, nil, false)

var holds = change.NewSchema(change.PostgreSQL, "public.holds", []change.Column{{Name: "hold_id", Type: "integer", Rule: change.RuleInteger, Bits: 32, Key: 1}}, nil, false)

func resolve(f change.Fingerprint) (*change.Schema, error) {
	for _, s := range []*change.Schema{loans, holds} {
		if s.Fingerprint() == f {
			return s, nil
		}
	}
	return nil, errors.New("unknown version")
}

// store is a journal in a new database of a server of its own.
func store(t *testing.T, options Options) (*Store, *pgxpool.Pool) {
	t.Helper()
	c := testserver.Start(t)
	pool, err := pgxpool.New(t.Context(), c.Address("postgres"))
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	require.NoError(t, state.Migrate(t.Context(), pool))
	_, err = pool.Exec(t.Context(), "INSERT INTO rillmark.source (name, definition) VALUES ('circulation', '{}')")
	require.NoError(t, err)
	return NewStore(pool, resolve, options), pool
}

// block closes a block of n rows of a table, each with a note that tells it.
func block(first int64, schema *change.Schema, n int) *Block {
	return blockAt(first, schema, n, time.Now().Add(-time.Hour))
}

// blockAt is a block of a transaction that was committed at a time.
func blockAt(first int64, schema *change.Schema, n int, at time.Time) *Block {
	b := NewBuilder(0)
	tx := &change.OpenTransaction{ID: fmt.Sprint(first), CommitTime: at.UnixMicro()}
	b.BeginTransaction()
	for i := range n {
		row := &change.Row{Operation: change.Insert, Schema: schema, Place: uint64(100 + i)}
		for range schema.Columns {
			row.After = append(row.After, change.Of(fmt.Sprint(first+int64(i))))
		}
		b.Add(tx, row)
	}
	b.EndTransaction()
	closed := b.Close(first)
	NewCompressor().Compress(closed, n%2 == 0)
	return closed
}

// TestAnOldWriterIsFenced has a writer wake up after a take-over.
func TestAnOldWriterIsFenced(t *testing.T) {
	s, _ := store(t, Options{})
	ctx := t.Context()
	first, head, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	require.Equal(t, int64(1), head.Next)
	require.NoError(t, first.Append(ctx, []*Block{block(1, loans, 3)}, []byte("a"), nil))
	_, _, err = s.TakeOver(ctx, 1, "")
	require.ErrorIs(t, err, ErrHeld, "while a writer lives, nobody takes over by chance")

	second, head, err := s.takeOver(ctx, 1, "", true)
	require.NoError(t, err)
	require.Equal(t, int64(4), head.Next)
	require.Equal(t, "a", string(head.Checkpoint))
	require.ErrorIs(t, first.Append(ctx, []*Block{block(4, loans, 1)}, []byte("old"), nil), ErrFenced)
	require.ErrorIs(t, first.Append(ctx, nil, []byte("old"), nil), ErrFenced, "nor can it move the checkpoint")
	require.ErrorIs(t, first.Append(ctx, []*Block{block(4, loans, 1)}, []byte("old"), []change.TableState{{Table: "public.loans", Standing: change.Standing{State: "following", Note: "old"}}}), ErrFenced)
	require.NoError(t, second.Append(ctx, []*Block{block(4, loans, 2)}, []byte("b"), nil))
	require.ErrorIs(t, first.(*Writer).roll(ctx), ErrFenced)
	require.ErrorIs(t, first.FlushCounts(ctx), ErrFenced, "nor store what it has counted")
	head, err = s.Head(ctx, 1)
	require.NoError(t, err)
	require.Equal(t, int64(6), head.Next)
	require.Equal(t, "b", string(head.Checkpoint))
	require.Error(t, second.Append(ctx, []*Block{block(9, loans, 1)}, nil, nil), "a gap is refused")
	first.Close(ctx)
	second.Close(ctx)
}

// readAll reads offsets and notes from an offset on, up to the end.
func readAll(t *testing.T, s *Store, from int64, options ReaderOptions) (offsets []int64) {
	t.Helper()
	r := s.Reader(1, from, options)
	for {
		batch, err := r.TryNext(t.Context())
		require.NoError(t, err)
		if batch == nil {
			return offsets
		}
		var e change.Event
		for batch.Next(&e) {
			require.Equal(t, fmt.Sprint(e.Offset), string(e.After[0].Text), "the event at an offset is the one that was put there")
			offsets = append(offsets, e.Offset)
		}
		require.NoError(t, batch.Err())
	}
}

// TestUpkeepChangesNoOffset reads a journal before and after its blocks are
// merged and its oldest segments dropped.
func TestUpkeepChangesNoOffset(t *testing.T) {
	s, pool := store(t, Options{SegmentBytes: 4000, TailBytes: 1})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	for n := range 200 {
		schema := loans
		if n%50 == 49 {
			schema = holds
		}
		require.NoError(t, w.Append(ctx, []*Block{block(w.Next(), schema, 1+n%7)}, nil, nil))
	}
	all := readAll(t, s, 1, ReaderOptions{})
	require.Len(t, all, int(w.Next()-1))
	segments, err := s.segments(ctx, 1)
	require.NoError(t, err)
	require.Greater(t, len(segments), 2)
	blocks := func() (n int) {
		for _, one := range segments {
			var here int
			require.NoError(t, pool.QueryRow(ctx, "SELECT count(*) FROM "+one.relation).Scan(&here))
			n += here
		}
		return n
	}
	before := blocks()
	replaced, err := s.Merge(ctx, 1, time.Minute)
	require.NoError(t, err)
	require.Zero(t, replaced, "old commits that were appended just now are young")
	grow(t, s, pool)
	replaced, err = s.Merge(ctx, 1, time.Minute)
	require.NoError(t, err)
	require.Positive(t, replaced)
	require.Less(t, blocks(), before/4)
	require.Equal(t, all, readAll(t, s, 1, ReaderOptions{}), "merging changes nothing that is read")
	require.Equal(t, all[99:], readAll(t, s, 100, ReaderOptions{}), "nor where one begins")

	require.NoError(t, w.FlushCounts(ctx))
	counts, err := s.StoredCounts(ctx, 1)
	require.NoError(t, err)
	total := int64(0)
	for _, c := range counts {
		total += c.Events
	}
	require.Equal(t, int64(len(all)), total)

	first, dropped, err := s.Retain(ctx, 1, time.Minute, 0, nil)
	require.NoError(t, err)
	require.Equal(t, len(segments)-1, dropped)
	require.Equal(t, segments[len(segments)-1].first, first)
	require.Equal(t, all[first-1:], readAll(t, s, first, ReaderOptions{}))
	_, err = s.Reader(1, 1, ReaderOptions{}).TryNext(ctx)
	require.ErrorIs(t, err, ErrExpired, "what is gone is said to be gone")
	w.Close(ctx)
}

// grow has a journal's blocks be an hour older; those of every other segment are as an earlier
// version has left them, without the time of their append.
func grow(t *testing.T, s *Store, pool *pgxpool.Pool) {
	t.Helper()
	segments, err := s.dated(t.Context(), 1)
	require.NoError(t, err)
	for n, one := range segments {
		age := "now() - interval '1 hour'"
		if n%2 == 0 {
			age = "NULL"
		}
		_, err := pool.Exec(t.Context(), "UPDATE "+one.relation+" SET appended_at = "+age)
		require.NoError(t, err)
	}
}

// TestOffsetAtATime draws commit times, which may go back, and asks for the first event at each of
// many moments: it is the same one whether blocks are in memory or stored, merged or not. Commits
// of a year that is still to come keep nothing for longer.
func TestOffsetAtATime(t *testing.T) {
	random := seeded.Random(t, 0)
	base := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	for _, options := range []Options{{SegmentBytes: 4000, TailBytes: 1}, {SegmentBytes: 4000}} {
		s, pool := store(t, options)
		ctx := t.Context()
		w, _, err := s.TakeOver(ctx, 1, "")
		require.NoError(t, err)
		var times []time.Time
		for n := range 300 {
			at := base.Add(time.Duration(n+random.IntN(40)) * time.Second)
			if n == 150 {
				at = time.Date(2038, 1, 1, 0, 0, 0, 0, time.UTC)
			}
			b := blockAt(w.Next(), loans, 1+random.IntN(5), at)
			for range b.Last - b.First + 1 {
				times = append(times, at)
			}
			require.NoError(t, w.Append(ctx, []*Block{b}, nil, nil))
		}
		exact := func(what string) {
			t.Helper()
			for range 120 {
				at := base.Add(time.Duration(random.IntN(360_000)) * time.Millisecond)
				want := int64(1 + slices.IndexFunc(times, func(t time.Time) bool { return !t.Before(at) }))
				got, err := s.OffsetAt(ctx, 1, at)
				require.NoError(t, err)
				require.Equal(t, want, got, "%s: %s", what, at)
			}
			got, err := s.OffsetAt(ctx, 1, time.Date(2040, 1, 1, 0, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			require.Equal(t, w.Next(), got)
		}
		exact("as it was appended")
		grow(t, s, pool)
		replaced, err := s.Merge(ctx, 1, time.Minute)
		require.NoError(t, err)
		require.Positive(t, replaced)
		exact("merged")
		segments, err := s.segments(ctx, 1)
		require.NoError(t, err)
		for _, one := range segments {
			_, err := pool.Exec(ctx, "UPDATE "+one.relation+" SET appended_at = now() - interval '1 hour'")
			require.NoError(t, err)
		}
		_, dropped, err := s.Retain(ctx, 1, time.Minute, 0, nil)
		require.NoError(t, err)
		require.Equal(t, len(segments)-1, dropped, "a commit of 2038 keeps nothing")
		w.Close(ctx)
	}
}

// TestUnwantedBlocksAreSkipped damages a block that nobody wants: a reader that
// skips it does not notice.
func TestUnwantedBlocksAreSkipped(t *testing.T) {
	s, pool := store(t, Options{TailBytes: 1})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	for _, b := range []*Block{block(1, loans, 2), block(3, holds, 2), block(5, loans, 2)} {
		require.NoError(t, w.Append(ctx, []*Block{b}, nil, nil))
	}
	_, err = pool.Exec(ctx, "UPDATE "+w.(*Writer).segment.relation+" SET data = set_byte(data, length(data) - 1, 255 - get_byte(data, length(data) - 1)) WHERE first_offset = 3")
	require.NoError(t, err)
	require.Equal(t, []int64{1, 2, 5, 6}, readAll(t, s, 1, ReaderOptions{Tables: `^public\.loans$`}))
	// Messages have no table: whoever chooses tables gets them, and a block of them alone.
	told := NewBuilder(0)
	tx := &change.OpenTransaction{ID: "told"}
	told.BeginTransaction()
	told.Add(tx, &change.Row{Operation: change.Message, Body: []byte("{}")})
	told.EndTransaction()
	alone := told.Close(w.Next())
	NewCompressor().Compress(alone, false)
	require.NoError(t, w.Append(ctx, []*Block{alone, block(8, holds, 1)}, nil, nil))
	batch, err := s.Reader(1, 7, ReaderOptions{Tables: `^public\.loans$`}).TryNext(ctx)
	require.NoError(t, err)
	var e change.Event
	require.True(t, batch.Next(&e))
	require.Equal(t, change.Message, e.Operation)
	r := s.Reader(1, 3, ReaderOptions{})
	_, err = r.TryNext(ctx)
	require.ErrorIs(t, err, ErrCorrupt)
	require.ErrorContains(t, err, "offsets 3 to 4")
	w.Close(ctx)
}

// TestAWaitingReaderIsWoken has a reader wait at the end of the journal.
func TestAWaitingReaderIsWoken(t *testing.T) {
	s, _ := store(t, Options{})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	got := make(chan int64, 1)
	r := s.Reader(1, 1, ReaderOptions{Poll: time.Hour})
	go func() {
		batch, err := r.Next(context.Background())
		if err != nil {
			close(got)
			return
		}
		got <- batch.Last
	}()
	require.NoError(t, w.Append(ctx, []*Block{block(1, loans, 5)}, nil, nil))
	require.Equal(t, int64(5), <-got)
	w.Close(ctx)
}

// rest is what a payload has of other tables than loans.
func rest(payload []byte) (events []string, passed int64, err error) {
	c := Cursor{Resolve: resolve, Wants: func(table string) bool { return table != loans.Table }}
	c.Reset(payload)
	var e change.Event
	for {
		more, err := c.Next(&e)
		if err != nil || !more {
			return events, c.Passed, err
		}
		events = append(events, fmt.Sprint(c.Passed, e.Operation, e.Table, e.Place, e.Transaction, e.Before, e.After, e.Rekeyed, string(e.Body)))
	}
}

// TestEventsOfOneTableExpire takes the events of a table out of a journal, in
// blocks of its own and in such that it shares, step by step and with merging in
// between; all others stay at their offsets.
func TestEventsOfOneTableExpire(t *testing.T) {
	s, pool := store(t, Options{SegmentBytes: 4000, TailBytes: 1})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	var want []int64
	for n := range 200 {
		schema := loans
		if n%3 == 0 {
			schema = holds
		}
		from := w.Next()
		require.NoError(t, w.Append(ctx, []*Block{block(from, schema, 1+n%7)}, nil, nil))
		for offset := from; schema == holds && offset < w.Next(); offset++ {
			want = append(want, offset)
		}
	}
	all := w.Next() - 1
	grow(t, s, pool)
	before, err := s.Expire(ctx, 1, []string{loans.Table}, time.Minute, all/3)
	require.NoError(t, err)
	require.Positive(t, before)
	require.Len(t, readAll(t, s, 1, ReaderOptions{}), int(all-before))
	_, err = s.Merge(ctx, 1, time.Minute)
	require.NoError(t, err)
	after, err := s.Expire(ctx, 1, []string{loans.Table, "public.other"}, time.Minute, all)
	require.NoError(t, err)
	require.Equal(t, all-int64(len(want)), before+after)
	require.Equal(t, want, readAll(t, s, 1, ReaderOptions{}))
	require.Equal(t, want, readAll(t, s, 1, ReaderOptions{Tables: `^public\.holds$`}))
	require.Empty(t, readAll(t, s, 1, ReaderOptions{Tables: `^public\.loans$`, Wants: func(table string) bool { return table == loans.Table }}))
	again, err := s.Expire(ctx, 1, []string{loans.Table}, time.Minute, all)
	require.NoError(t, err)
	require.Zero(t, again)
	young, err := s.Expire(ctx, 1, []string{holds.Table}, 2*time.Hour, all)
	require.NoError(t, err)
	require.Zero(t, young, "an hour old is not two")
	w.Close(ctx)
}

// FuzzCursor holds that no payload makes a reader fail other than by an error, and
// that what is left of one without a table's events reads like the whole where
// that table is not wanted.
func FuzzCursor(f *testing.F) {
	b := block(1, loans, 3)
	f.Add(b.Payload)
	f.Add(append(append([]byte{}, b.Payload...), block(4, holds, 1).Payload...))
	mixed := append(append([]byte{}, block(1, holds, 2).Payload...), block(3, loans, 4).Payload...)
	f.Add(append(append(mixed, tagExpired, 3, 6), block(7, holds, 1).Payload...))
	f.Fuzz(func(t *testing.T, payload []byte) {
		events, passed, wrong := rest(payload)
		if kept, _, _, err := without(payload, func(table string) bool { return table == loans.Table }); wrong == nil && err == nil {
			left, also, err := rest(kept)
			if err != nil || passed != also || !slices.Equal(events, left) {
				t.Fatalf("%d passed and %q, without the table's events %d and %q: %v", passed, events, also, left, err)
			}
		} else if wrong == nil {
			t.Fatalf("what can be read cannot be taken apart: %v", err)
		}
		c := Cursor{Resolve: resolve}
		c.Reset(payload)
		var e change.Event
		for events := int64(0); ; events++ {
			more, err := c.Next(&e)
			if err != nil || !more {
				// Who wants none of it passes over the same events, and fails where this failed.
				passes := Cursor{Resolve: resolve, Wants: func(string) bool { return false }}
				passes.Reset(payload)
				if _, other := passes.Next(&e); (other == nil) != (err == nil) || err == nil && passes.Passed != events+c.Passed {
					t.Fatalf("%d events and %v where read, %d and %v where passed over", events, err, passes.Passed, other)
				}
				return
			}
			if e.After != nil && e.Schema != nil && len(e.After) != len(e.Schema.Columns) {
				t.Fatal("an image that does not fit its version")
			}
		}
	})
}

// TestAllShapesSurviveTheBlock writes and reads every shape of an event.
func TestAllShapesSurviveTheBlock(t *testing.T) {
	null, omitted := change.NullValue(), change.Value{}
	rows := []change.Row{
		{Operation: change.Existing, Schema: loans, Place: 9, After: []change.Value{change.Of("1"), null}},
		{Operation: change.Update, Schema: loans, Place: 5, Before: []change.Value{change.Of("1"), change.Of("")}, After: []change.Value{change.Of("1"), omitted}},
		{Operation: change.Delete, Schema: loans, Place: 1 << 63, Before: []change.Value{change.Of("1"), omitted}, Rekeyed: []change.Value{change.Of("2")}},
		{Operation: change.Truncate, Table: "public.loans", Schema: loans, Body: []byte(`{}`)},
		{Operation: change.Message, Body: []byte(`{"prefix":"p"}`), Place: 77},
		{Operation: change.Insert, Schema: holds, After: []change.Value{change.Of(string(make([]byte, 300)))}},
	}
	b := NewBuilder(0)
	tx := &change.OpenTransaction{ID: "771", CommitTime: -5, Next: 40}
	b.BeginTransaction()
	for i := range rows {
		b.Add(tx, &rows[i])
	}
	b.EndTransaction()
	closed := b.Close(10)
	for _, fast := range []bool{false, true} {
		NewCompressor().Compress(closed, fast)
		payload, err := Payload(closed.Stored)
		require.NoError(t, err)
		require.Equal(t, closed.Payload, payload)
	}
	c := Cursor{Resolve: resolve}
	c.Reset(closed.Payload)
	var e change.Event
	for i := range rows {
		more, err := c.Next(&e)
		require.NoError(t, err)
		require.True(t, more)
		require.Equal(t, rows[i].Operation, e.Operation)
		require.Equal(t, rows[i].Place, e.Place)
		require.Equal(t, rows[i].Schema, e.Schema)
		require.Equal(t, rows[i].Before, e.Before)
		require.Equal(t, rows[i].After, e.After)
		require.Equal(t, rows[i].Rekeyed, e.Rekeyed)
		require.Equal(t, string(rows[i].Body), string(e.Body))
		require.Equal(t, uint64(40+i), e.Transaction.Index)
		require.Equal(t, i == len(rows)-1, e.Transaction.Last)
	}
	allocations := testing.AllocsPerRun(50, func() {
		into := b
		*into = Builder{payload: closed.Payload[:1:cap(closed.Payload)], flagsAt: -1, tables: into.tables[:0]}
		for i := range rows {
			into.Add(tx, &rows[i])
		}
	})
	require.Zero(t, allocations, "adding a row allocates nothing once there is room")
}
