package thrift

import (
	"context"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestKeep: one processor after a quiet while, all of them at the first busy look, and
// neither for a moment in between.
func TestKeep(t *testing.T) {
	var one judge
	looks := func(n int, share float64) bool {
		for range n {
			one.look(share)
		}
		return one.single
	}
	require.False(t, looks(quietLooks-1, 0.02))
	require.True(t, looks(1, 0.02))
	require.True(t, looks(100, 0.2), "a little more to do is no reason")
	require.False(t, looks(1, 0.3))
	require.False(t, looks(quietLooks-1, 0.02))
	require.False(t, looks(1, 0.2))
	require.False(t, looks(quietLooks-1, 0.02), "quiet looks count in a row")
	require.True(t, looks(1, 0))

	before := runtime.GOMAXPROCS(0)
	ctx, end := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		Keep(ctx)
		close(done)
	}()
	require.Positive(t, cpuTime())
	end()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("it does not end")
	}
	require.Equal(t, before, runtime.GOMAXPROCS(0))
}
