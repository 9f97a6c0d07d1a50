package capture

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
)

// TestStoreWhole: a block that another goroutine wants stored is not closed inside a
// transaction unless more of that transaction follows in the next block, so that the last
// event of a transaction always says so.
func TestStoreWhole(t *testing.T) {
	var clock time.Time
	s := &sink{builder: journal.NewBuilder(4 << 10), next: 1, wake: make(chan struct{}, 1), report: func(engine.Report) {},
		now: func() time.Time { clock = clock.Add(minGap); return clock }} // the gap between two appends is always over
	s.space.L = &s.mu
	s.Checkpoint(func() engine.Checkpoint { return engine.Checkpoint{} })
	message := &change.Row{Operation: change.Message, Body: []byte(`{}`)}
	stored := make(chan error, 1)
	ask := func() {
		go func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			stored <- s.StoreWhole(context.Background())
		}()
		require.Eventually(t, func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			return s.wanted
		}, time.Minute, time.Millisecond)
	}
	// take is what compressor and writer do with a parcel that is closed.
	take := func() *journal.Block {
		p, there, _ := s.poll()
		require.True(t, there)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.stores++
		s.space.Broadcast()
		return p.block
	}
	unit := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		require.NoError(t, s.Reserve())
		if !s.inTx {
			s.Begin("7", "", 0, 0)
		}
		s.Add(message)
	}

	unit()
	ask()
	_, there, _ := s.poll()
	require.False(t, there, "the transaction may end with its next message")
	unit()
	require.Equal(t, int64(1), take().Events(), "more of it has followed")
	require.NoError(t, <-stored)

	ask()
	_, there, _ = s.poll()
	require.False(t, there)
	s.mu.Lock()
	s.Commit()
	s.mu.Unlock()
	require.Equal(t, int64(1), take().Events(), "it has ended")
	require.NoError(t, <-stored)

	go func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		stored <- s.StoreWhole(context.Background())
	}()
	require.Eventually(t, func() bool {
		_, there, _ := s.poll()
		return there
	}, time.Minute, time.Millisecond, "outside of a transaction it is stored at once")
	s.end(context.Canceled)
	require.ErrorIs(t, <-stored, context.Canceled)
}

// TestReached: a place that the run has come to, with nothing captured before it, is noted once
// somebody asks for it, and not again at once; without a run nothing is.
func TestReached(t *testing.T) {
	source := &Source{Stats: new(Stats)}
	require.False(t, source.Reached(7))
	s := &sink{builder: journal.NewBuilder(4 << 10), next: 1, wake: make(chan struct{}, 1), report: func(engine.Report) {}, now: time.Now}
	s.space.L = &s.mu
	source.sink = s
	require.False(t, source.Reached(7))
	_, there, _ := s.poll()
	require.False(t, there, "its engine has not come to any place")
	s.Checkpoint(func() engine.Checkpoint { return engine.Checkpoint{Place: 7} })
	source.asked = time.Time{}
	require.False(t, source.Reached(7))
	p, there, _ := s.poll()
	require.True(t, there)
	require.Nil(t, p.block)
	require.EqualValues(t, 7, p.checkpoint.Place)
	source.asked = time.Now().Add(time.Hour)
	require.False(t, source.Reached(7), "it is not stored yet")
	_, there, _ = s.poll()
	require.False(t, there, "it was asked a moment ago")
	source.Stats.place.Store(p.checkpoint.Place) // as its append does
	require.True(t, source.Reached(7))
	require.False(t, source.Reached(8))
}
