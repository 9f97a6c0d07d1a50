package outlet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/encode"
)

// TestPace: flushes are further apart in a steady trickle and while files stay open. Much at
// once, or a first event after a rest, brings the haste back.
func TestPace(t *testing.T) {
	var p pace
	now := time.Now()
	flush := func(n int, apart time.Duration, messages int64, durable bool) bool {
		for range n {
			now = now.Add(apart)
			p.begin(now, messages)
			p.end(durable)
		}
		return p.slow()
	}
	require.False(t, flush(calmFlushes, flushEvery, 6, true), "not steady yet")
	require.True(t, flush(2, flushEvery, 6, true))
	require.True(t, flush(20, lateFlushEvery, 18, true), "it stays so at its own pace")
	require.EqualValues(t, calmMessages, p.most(), "what comes at once does not wait for it")
	require.Zero(t, p.nap(encode.Capabilities{}))
	require.Equal(t, lateFlushEvery/4, p.nap(encode.Capabilities{Followed: true}), "a file that grows")
	require.Equal(t, lateFlushEvery, p.nap(encode.Capabilities{Followed: true, Late: true}), "a file that shows when it is closed")
	require.False(t, flush(1, lateFlushEvery, calmMessages, true), "much at once")
	require.EqualValues(t, flushEvents, p.most())
	require.Zero(t, p.nap(encode.Capabilities{Followed: true, Late: true}))
	require.True(t, flush(calmFlushes+1, flushEvery, 6, true))
	require.False(t, flush(1, time.Minute, 1, true), "the first event after a rest")

	require.False(t, flush(idleFlushes, flushEvery, 5000, false))
	require.True(t, flush(1, flushEvery, 5000, false), "nothing becomes durable: a file is open")
	require.False(t, flush(1, flushEvery, 5000, true))
}
