package journal

import (
	"context"
	"encoding/hex"
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"
)

// TestOneBlockAtATime: a block alone is stored with all that belongs to it, over segments, and
// where a pooler allows no prepared statements. An append that is stopped, or whose session is
// ended, says so, and is the writer's last.
func TestOneBlockAtATime(t *testing.T) {
	s, pool := store(t, Options{SegmentBytes: 1})
	ctx := t.Context()
	next := int64(1)
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeCacheStatement, pgx.QueryExecModeExec} {
		config := pool.Config()
		config.ConnConfig.DefaultQueryExecMode = mode
		its, err := pgxpool.NewWithConfig(ctx, config)
		require.NoError(t, err)
		w, head, err := NewStore(its, resolve, s.options).TakeOver(ctx, 1, "")
		require.NoError(t, err)
		require.Equal(t, next, head.Next)
		for n := range 3 {
			b := block(next, holds, n+1)
			stored := hex.EncodeToString(b.Stored)
			require.NoError(t, w.Append(ctx, []*Block{b}, []byte{0, byte(n)}, nil))
			var first int64
			var commits []time.Time
			var tables, data string
			var size int
			require.NoError(t, pool.QueryRow(ctx, "SELECT first_offset, ARRAY[first_commit, last_commit], tables, payload_bytes, data::text FROM "+w.(*Writer).segment.relation+
				" WHERE last_offset = $1", b.Last).Scan(&first, &commits, &tables, &size, &data))
			require.Equal(t, next, first)
			require.True(t, commits[0].Equal(b.FirstCommit.Truncate(time.Microsecond)) && commits[1].Equal(b.LastCommit.Truncate(time.Microsecond)))
			require.Equal(t, []string{"public.holds"}, splitTables(tables))
			require.Len(t, b.Payload, size)
			require.Equal(t, `\x`+stored, data)
			var checkpoint []byte
			require.NoError(t, pool.QueryRow(ctx, "SELECT checkpoint FROM rillmark.journal_head").Scan(&checkpoint))
			require.Equal(t, []byte{0, byte(n)}, checkpoint)
			next = b.Last + 1
		}
		w.Close(ctx)
		its.Close()
	}

	// Another session holds the head's row, so that the append waits.
	holding, err := pgx.ConnectConfig(ctx, pool.Config().ConnConfig)
	require.NoError(t, err)
	defer holding.Close(ctx) //nolint:errcheck // the server ends, too
	for _, one := range []struct {
		name string
		end  func(pid uint32, cancel context.CancelFunc) error
		is   func(error) bool
	}{
		{"stopped", func(_ uint32, cancel context.CancelFunc) error { cancel(); return nil },
			func(err error) bool { return errors.Is(err, context.Canceled) }},
		{"ended", func(pid uint32, _ context.CancelFunc) error {
			_, err := pool.Exec(ctx, "SELECT pg_terminate_backend($1)", pid)
			return err
		}, func(err error) bool {
			var told *pgconn.PgError
			return errors.As(err, &told) && told.Code == "57P01"
		}},
	} {
		var w Appender
		var head Head
		require.Eventually(t, func() bool { // the session before may take a moment to end
			w, head, err = s.TakeOver(ctx, 1, "")
			return !errors.Is(err, ErrHeld)
		}, time.Minute, 5*time.Millisecond)
		require.NoError(t, err, one.name)
		require.Equal(t, next, head.Next, "what was stopped is not stored later")
		_, err = holding.Exec(ctx, "BEGIN; SELECT FROM rillmark.journal_head FOR UPDATE")
		require.NoError(t, err)
		w.(*Writer).stored = 0 // no new segment: that would wait, too
		appending, cancel := context.WithCancel(ctx)
		outcome := make(chan error, 1)
		go func() { outcome <- w.Append(appending, []*Block{block(head.Next, holds, 1)}, []byte("late"), nil) }()
		pid := w.(*Writer).conn.PgConn().PID()
		require.Eventually(t, func() bool {
			var waits bool
			return pool.QueryRow(ctx, "SELECT coalesce(wait_event_type = 'Lock', false) FROM pg_stat_activity WHERE pid = $1", pid).Scan(&waits) == nil && waits
		}, time.Minute, 5*time.Millisecond)
		require.NoError(t, one.end(pid, cancel), one.name)
		err = <-outcome
		cancel()
		require.Truef(t, one.is(err), "%s: %v", one.name, err)
		require.ErrorContains(t, w.Append(ctx, []*Block{block(head.Next, holds, 1)}, nil, nil), "outcome is not known", one.name)
		w.Close(ctx)
		_, err = holding.Exec(ctx, "ROLLBACK")
		require.NoError(t, err)
	}
}
