package journal

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestMergingReadsWhatItMerges counts what comes over the connection while blocks of nearly the
// small size are merged: once what they hold, and for each of them no more than its sizes.
func TestMergingReadsWhatItMerges(t *testing.T) {
	s, pool := store(t, Options{})
	ctx := t.Context()
	w, _, err := s.TakeOver(ctx, 1, "")
	require.NoError(t, err)
	random := rand.NewChaCha8([32]byte{1})
	noise, total := make([]byte, smallBlock/4), 0
	for range 200 {
		random.Read(noise) //nolint:errcheck // it never fails
		b := NewBuilder(0)
		tx := &change.OpenTransaction{ID: fmt.Sprint(w.Next()), CommitTime: time.Now().Add(-time.Hour).UnixMicro()}
		b.BeginTransaction()
		row := &change.Row{Operation: change.Insert, Schema: loans}
		row.After = append(row.After, change.Of(fmt.Sprint(w.Next()))) // readAll wants it
		for range loans.Columns[1:] {
			row.After = append(row.After, change.Of(fmt.Sprintf("%x", noise[:len(noise)/len(loans.Columns)])))
		}
		b.Add(tx, row)
		b.EndTransaction()
		closed := b.Close(w.Next())
		require.Less(t, len(closed.Payload), smallBlock)
		NewCompressor().Compress(closed, true)
		total += len(closed.Stored)
		require.NoError(t, w.Append(ctx, []*Block{closed}, nil, nil))
	}
	all := readAll(t, s, 1, ReaderOptions{})
	grow(t, s, pool)
	config := pool.Config()
	var came atomic.Int64
	config.ConnConfig.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := new(net.Dialer).DialContext(ctx, network, address)
		return &counted{conn, &came}, err
	}
	counting, err := pgxpool.NewWithConfig(ctx, config)
	require.NoError(t, err)
	t.Cleanup(counting.Close)
	replaced, err := NewStore(counting, resolve, Options{}).Merge(ctx, 1, time.Minute)
	require.NoError(t, err)
	require.Greater(t, replaced, 190)
	require.Less(t, int(came.Load()), 2*total)
	require.Equal(t, all, readAll(t, s, 1, ReaderOptions{}))
}

// counted adds up what is read of a connection.
type counted struct {
	net.Conn
	bytes *atomic.Int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.bytes.Add(int64(n))
	return n, err
}
