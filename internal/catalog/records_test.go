package catalog

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"rillmark/internal/definition"
	"rillmark/internal/demo"
	"rillmark/internal/seeded"
	"rillmark/internal/state"
	"rillmark/internal/testserver"
)

var databases atomic.Int64

// TestRecords runs what follows on one server.
func TestRecords(t *testing.T) {
	server := testserver.Start(t)
	for name, test := range map[string]func(*testing.T, *Catalog, []int64){
		"leases": testLeases, "holds": testHolds, "dead letters": testDeadLettersOfARow, "rewinds": testRewinds, "the log of the run": testTheLogOfTheRun, "deliveries": testDeliveries,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, outlets := stage(t, server, 20)
			test(t, c, outlets)
		})
	}
}

// stage is a catalog with one source and n outlets of pull, in a database of its own. It
// gives the outlets' numbers.
func stage(t *testing.T, server *demo.Cluster, n int) (*Catalog, []int64) {
	t.Helper()
	database := "records_" + strconv.FormatInt(databases.Add(1), 10)
	main, err := pgx.Connect(t.Context(), server.Address("postgres"))
	require.NoError(t, err)
	_, err = main.Exec(t.Context(), "CREATE DATABASE "+database)
	require.NoError(t, err)
	require.NoError(t, main.Close(t.Context()))
	pool, err := pgxpool.New(t.Context(), server.Address(database))
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	require.NoError(t, state.Migrate(t.Context(), pool))
	keeper, err := NewKeeper(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	c := New(pool, keeper)
	require.NoError(t, c.AddSource(t.Context(), "circulation", definition.Source{}))
	source, err := c.Source(t.Context(), "circulation")
	require.NoError(t, err)
	var ids []int64
	for i := range n {
		name := fmt.Sprintf("desk-%d", i)
		require.NoError(t, c.AddOutlet(t.Context(), name, definition.Outlet{Source: "circulation"}, source.ID, nil, 0, true))
		outlet, err := c.Outlet(t.Context(), name)
		require.NoError(t, err)
		ids = append(ids, outlet.ID)
	}
	return c, ids
}

// testLeases has several readers take, end, lose and give back leases at random, beside a
// model: no offset is ever with two of them, and what is committed is what was dealt with
// without a gap.
func testLeases(t *testing.T, c *Catalog, ids []int64) {
	outlet, ctx, random := ids[0], t.Context(), seeded.Random(t, 21)
	type lent struct {
		*Lease
		gone bool
	}
	var out []*lent
	done := make(map[int64]bool)
	committed := func() int64 {
		at := int64(0)
		for done[at+1] {
			at++
		}
		return at
	}
	for n := range 300 {
		switch random.IntN(5) {
		case 0, 1:
			from, most, err := c.Free(ctx, outlet)
			require.NoError(t, err)
			lease, err := c.Lend(ctx, outlet, fmt.Sprint("reader-", n%3), time.Hour, from, min(most, from+int64(random.IntN(10))))
			require.NoError(t, err)
			require.NotNil(t, lease)
			for _, other := range out {
				require.True(t, lease.First > other.Last || lease.Last < other.First, "%d to %d is with another reader", lease.First, lease.Last)
			}
			for offset := lease.First; offset <= lease.Last; offset++ {
				require.False(t, done[offset], "offset %d was dealt with", offset)
			}
			again, err := c.Lend(ctx, outlet, "late", time.Hour, lease.First, lease.Last)
			require.NoError(t, err)
			require.Nil(t, again, "somebody has them since")
			out = append(out, &lent{Lease: lease})
		case 2: // its time is over: others may have it, and its end comes too late
			if len(out) == 0 {
				continue
			}
			one := out[random.IntN(len(out))]
			_, err := c.ExtendLease(ctx, outlet, one.Token, -time.Second)
			require.NoError(t, err)
			_, err = c.ExtendLease(ctx, outlet, one.Token, time.Hour)
			require.ErrorIs(t, err, ErrVersion)
			_, err = c.EndLease(ctx, outlet, one.Token, 1)
			require.ErrorIs(t, err, ErrVersion)
			one.gone = true
		case 3:
			if len(out) == 0 {
				continue
			}
			one := out[random.IntN(len(out))]
			require.NoError(t, c.GiveBackLease(ctx, outlet, one.Token))
			one.gone = true
			require.ErrorIs(t, c.GiveBackLease(ctx, outlet, one.Token), ErrVersion)
		case 4:
			for _, one := range out {
				if random.IntN(2) == 0 {
					continue
				}
				for offset := one.First; offset <= one.Last; offset++ {
					done[offset] = true
				}
				got, err := c.EndLease(ctx, outlet, one.Token, one.Last-one.First+1)
				require.NoError(t, err)
				require.Equal(t, committed(), got)
				one.gone = true
			}
		}
		out = slices.DeleteFunc(out, func(one *lent) bool { return one.gone })
	}
	at, err := c.Offset(ctx, outlet)
	require.NoError(t, err)
	require.Equal(t, committed(), at.Committed)
	require.EqualValues(t, len(done), at.Delivered)
	_, _, err = c.Free(ctx, outlet+1000)
	require.ErrorIs(t, err, ErrNotFound)
	_, err = c.EndLease(ctx, outlet+1000, "x", 1)
	require.ErrorIs(t, err, ErrNotFound)
}

// testHolds: an outlet is one instance's at a time, who lost it commits nothing, and the
// offsets of many are committed together, each with its own answer.
func testHolds(t *testing.T, c *Catalog, ids []int64) {
	ctx := t.Context()
	first, second := c.NewInstance(), c.NewInstance()
	require.False(t, first.Valid(), "nothing is owned before the first renewal")
	require.NoError(t, first.Renew(ctx))
	require.NoError(t, second.Renew(ctx))
	working, stop := context.WithCancel(ctx)
	var work sync.WaitGroup
	for _, one := range []*Instance{first, second} {
		work.Go(func() { one.KeepCommitting(working) })
	}
	t.Cleanup(func() { stop(); work.Wait() })
	holds := make([]*Hold, len(ids))
	for i, outlet := range ids {
		var err error
		holds[i], err = first.HoldOutlet(ctx, outlet)
		require.NoError(t, err)
		require.True(t, holds[i].Valid())
		_, err = second.HoldOutlet(ctx, outlet)
		require.ErrorIs(t, err, ErrHeld)
	}
	holds[0].Release()
	taken, err := second.HoldOutlet(ctx, ids[0])
	require.NoError(t, err)
	holds[0].Release() // not its own any more
	_, err = first.HoldOutlet(ctx, ids[0])
	require.ErrorIs(t, err, ErrHeld)

	answers := make([]<-chan error, len(ids))
	for i := range ids {
		answers[i] = holds[i].Commit(1, int64(100+i), 10, i == len(ids)-1)
	}
	wrongRun := holds[5].Commit(2, 900, 1, true)
	for i := range ids {
		if i == 0 {
			require.ErrorIs(t, <-answers[i], ErrVersion, "another instance has it")
		} else {
			require.NoError(t, <-answers[i])
		}
	}
	require.ErrorIs(t, <-wrongRun, ErrVersion, "another run is on")
	more := []<-chan error{taken.Commit(1, 5, 5, false), taken.Commit(1, 7, 2, true)}
	require.NoError(t, <-more[0])
	require.NoError(t, <-more[1], "two of one outlet at once both count")
	require.NoError(t, <-holds[1].Commit(1, 3, 1, true), "an older offset changes the count alone")
	all, err := c.Offsets(ctx)
	require.NoError(t, err)
	require.EqualValues(t, []int64{7, 7, 101, 11, 105, 10},
		[]int64{all[ids[0]].Committed, all[ids[0]].Delivered, all[ids[1]].Committed, all[ids[1]].Delivered, all[ids[5]].Committed, all[ids[5]].Delivered})

	// Dead letters go the same way: all of them with their offset, or nothing.
	letters := []DeadLetter{{Offset: 8, Row: []byte("a"), State: LetterDead, Error: "refused"}, {Offset: 9, Row: []byte("a"), State: LetterBehind}}
	require.ErrorIs(t, holds[0].StoreDeadLetters(ctx, 1, 9, 0, letters), ErrVersion)
	dead, behind, err := c.CountDeadLetters(ctx, ids[0])
	require.NoError(t, err)
	require.Zero(t, dead+behind)

	require.NoError(t, first.Leave(ctx))
	_, err = second.HoldOutlet(ctx, ids[1])
	require.NoError(t, err, "what a stopped instance had is free at once")
	require.ErrorIs(t, <-holds[1].Commit(1, 500, 1, true), ErrVersion)
	stop()
	work.Wait()
}

// testDeadLettersOfARow: those behind one of the same row wait for it, are tried again with
// it or after it has gone, and a filter reaches what it names.
func testDeadLettersOfARow(t *testing.T, c *Catalog, ids []int64) {
	ctx, outlet := t.Context(), ids[0]
	instance := c.NewInstance()
	require.NoError(t, instance.Renew(ctx))
	hold, err := instance.HoldOutlet(ctx, outlet)
	require.NoError(t, err)
	store := func(committed int64, letters ...DeadLetter) {
		require.NoError(t, hold.StoreDeadLetters(ctx, 1, committed, 1, letters))
	}
	letter := func(offset int64, row, state, message string) DeadLetter {
		return DeadLetter{Offset: offset, Row: []byte(row), State: state, EventID: fmt.Sprint("circulation/1/", offset), Table: "public.loans", Operation: "update", Error: message, Attempts: 1, Event: []byte{1}}
	}
	store(12, letter(10, "a", LetterDead, "409: the Branch is closed"), letter(11, "a", LetterBehind, ""), letter(12, "b", LetterDead, "400: \x00 and \xff"))
	store(20, letter(20, "a", LetterBehind, ""), letter(19, "", LetterDead, "no row"))
	list := func(f LetterFilter) (offsets []int64) {
		found, err := c.DeadLetters(ctx, outlet, f)
		require.NoError(t, err)
		for _, l := range found {
			require.Equal(t, f.WithEvents, len(l.Event) > 0)
			offsets = append(offsets, l.Offset)
		}
		return offsets
	}
	require.Equal(t, []int64{10, 11, 12, 19, 20}, list(LetterFilter{}))
	require.Equal(t, []int64{11, 12}, list(LetterFilter{After: 10, Limit: 2, WithEvents: true}))
	require.Equal(t, []int64{10}, list(LetterFilter{Error: "branch IS"}))
	require.Equal(t, []int64{11, 20}, list(LetterFilter{State: LetterBehind}))
	require.Empty(t, list(LetterFilter{Table: "public.holds"}))
	rows, total, err := c.DeadRows(ctx, outlet)
	require.NoError(t, err)
	require.Equal(t, map[string]bool{"a": true, "b": true}, rows)
	require.Equal(t, 5, total)
	counts, err := c.CountAllDeadLetters(ctx)
	require.NoError(t, err)
	require.Equal(t, map[int64][2]int64{outlet: {3, 2}}, counts)

	n, err := c.RetryDeadLetters(ctx, outlet, LetterFilter{Error: "409"})
	require.NoError(t, err)
	require.EqualValues(t, 3, n, "with those behind it")
	require.Equal(t, []int64{10, 11, 20}, list(LetterFilter{Retrying: true}))
	head, err := c.DeadLetters(ctx, outlet, LetterFilter{Limit: 1})
	require.NoError(t, err)
	require.NoError(t, c.FailedAgain(ctx, outlet, head[0].ID, "409 once more"))
	require.Empty(t, list(LetterFilter{Retrying: true}), "those behind wait on")
	fate, err := c.LetterAt(ctx, outlet, 10)
	require.NoError(t, err)
	require.Equal(t, []any{"409 once more", 2}, []any{fate.Error, fate.Attempts})

	require.NoError(t, c.Redelivered(ctx, outlet, head[0].ID))
	require.NoError(t, c.Redelivered(ctx, outlet, head[0].ID), "a second time counts nothing")
	freed, err := c.FreeBehind(ctx, outlet)
	require.NoError(t, err)
	require.EqualValues(t, 2, freed)
	at, err := c.Offset(ctx, outlet)
	require.NoError(t, err)
	require.Equal(t, []int64{20, 3}, []int64{at.Committed, at.Delivered})

	store(21, letter(21, "b", LetterBehind, ""))
	gone, err := c.DiscardDeadLetters(ctx, outlet, LetterFilter{IDs: []int64{}, Error: "400"})
	require.NoError(t, err)
	require.EqualValues(t, 1, gone)
	require.Equal(t, []int64{11, 20, 21}, list(LetterFilter{Retrying: true}), "what waited for the discarded one is tried")
}

// testRewinds: a replay with an end comes back to where the outlet was, one without stays,
// and an end survives what is asked of the outlet meanwhile.
func testRewinds(t *testing.T, c *Catalog, ids []int64) {
	ctx, outlet := t.Context(), ids[0]
	offset := func() Offset {
		o, err := c.Offset(ctx, outlet)
		require.NoError(t, err)
		return o
	}
	require.NoError(t, c.Commit(ctx, outlet, 1, 50, 50))
	rewind := func(to int64, part Replay) Rewound {
		done, err := c.Rewind(ctx, outlet, to, part, "replays")
		require.NoError(t, err)
		return done
	}
	back := int64(50)
	require.Equal(t, Rewound{From: 50, ReturnTo: &back}, rewind(10, Replay{Until: 20, Return: true}), "it ran")
	require.ErrorIs(t, c.Commit(ctx, outlet, 1, 60, 1), ErrVersion, "the run before the rewind is over")
	require.NoError(t, c.SetUntil(ctx, outlet, 0), "a replay keeps its end")
	require.Equal(t, []int64{10, 20}, []int64{offset().Committed, offset().Until})
	require.NoError(t, c.Commit(ctx, outlet, 2, 20, 10))
	for _, late := range [][2]int64{{1, 20}, {2, 19}} {
		_, err := c.EndRun(ctx, outlet, int(late[0]), late[1], "late")
		require.ErrorIs(t, err, ErrNotFound, "another run, or another end")
	}
	end, err := c.EndRun(ctx, outlet, 2, 20, "replayed")
	require.NoError(t, err)
	require.Equal(t, []any{int64(20), int64(50), true}, []any{end.Until, *end.ReturnTo, end.RunsOn})
	require.Equal(t, []any{int64(50), int64(0), 3}, []any{offset().Committed, offset().Until, offset().Run})
	_, err = c.EndRun(ctx, outlet, 2, 20, "again")
	require.ErrorIs(t, err, ErrNotFound, "it has ended")

	require.NoError(t, c.SetUntil(ctx, outlet, 70))
	rewind(30, Replay{})
	require.EqualValues(t, 70, offset().Until, "one that runs once still ends there")
	_, err = c.EndRun(ctx, outlet, 4, 70, "caught up")
	require.NoError(t, err)
	record, err := c.Outlet(ctx, "desk-0")
	require.NoError(t, err)
	require.Equal(t, []any{false, "caught up"}, []any{record.Running, record.Reason})
	require.Equal(t, Rewound{From: 30, Resumed: true}, rewind(20, Replay{Until: 25}), "it was paused: it runs for the replay's sake")
	first := int64(20)
	require.Equal(t, Rewound{From: 20, ReturnTo: &first}, rewind(5, Replay{Until: 9, Return: true}))
	require.Equal(t, Rewound{From: 5, ReturnTo: &first}, rewind(6, Replay{Until: 9, Return: true}), "where it was before both")
	end, err = c.EndRun(ctx, outlet, 7, 9, "replayed")
	require.NoError(t, err)
	require.Equal(t, End{Until: 9, ReturnTo: &first, RunsOn: true}, end)
	require.NoError(t, c.SetOutletRunning(ctx, "desk-0", false, "night"))
	require.True(t, rewind(5, Replay{Until: 9, Return: true}).Resumed)
	require.False(t, rewind(6, Replay{Until: 9, Return: true}).Resumed, "it runs for the first one's sake")
	end, err = c.EndRun(ctx, outlet, 10, 9, "replayed")
	require.NoError(t, err)
	require.Equal(t, End{Until: 9, ReturnTo: &first}, end, "it was paused before both")

	require.NoError(t, c.Report(ctx, outlet, 90))
	reported := offset()
	require.EqualValues(t, 90, reported.Reached())
	require.NoError(t, c.NoteLost(ctx, outlet, Lost{First: 31, Last: 40}))
	all, err := c.Offsets(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 10, all[outlet].Lost)
	require.ErrorIs(t, c.Report(ctx, outlet+1000, 1), ErrNotFound)
	_, err = c.Rewind(ctx, outlet+1000, 1, Replay{}, "")
	require.ErrorIs(t, err, ErrNotFound)
}

// testTheLogOfTheRun: it is read newest last, by subject and time, and trimmed by age and number.
func testTheLogOfTheRun(t *testing.T, c *Catalog, _ []int64) {
	ctx, now := t.Context(), time.Now().Truncate(time.Millisecond)
	var entries []LogEntry
	for n := range 30 {
		entries = append(entries, LogEntry{At: now.Add(time.Duration(n-30) * time.Minute), Subject: fmt.Sprint("outlet/", n%2), Level: "info", Event: "said", Message: fmt.Sprint(n)})
	}
	entries[0].Message = "a server said \x00 and \xff"
	require.NoError(t, c.AppendLog(ctx, entries))
	require.NoError(t, c.AppendLog(ctx, nil))
	said := func(subject string, since time.Time, limit int) (messages []string) {
		found, err := c.Log(ctx, subject, since, limit)
		require.NoError(t, err)
		for _, e := range found {
			messages = append(messages, e.Message)
		}
		return messages
	}
	require.ElementsMatch(t, []string{"25", "27", "29"}, said("outlet/1", now.Add(-6*time.Minute), 100))
	require.Len(t, said("", time.Time{}, 7), 7)
	require.NoError(t, c.TrimLog(ctx, 20*time.Minute+30*time.Second, 100))
	require.Len(t, said("", time.Time{}, 100), 20)
	require.NoError(t, c.TrimLog(ctx, time.Hour, 5))
	require.ElementsMatch(t, []string{"25", "26", "27", "28", "29"}, said("", time.Time{}, 100))
}
