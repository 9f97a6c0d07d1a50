package upkeep

import (
	"context"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"
)

// TestPasses: a long pass of one source keeps no other waiting, none has two at once, and all of
// them get their turn, however many there are.
func TestPasses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, end := context.WithCancel(t.Context())
		p := newPasses(2)
		long, ran := make(chan struct{}), make(map[int64]int)
		tick := func() {
			for source := range int64(10) {
				p.begin(ctx, source, func() {
					p.mu.Lock()
					ran[source]++
					p.mu.Unlock()
					if source == 3 {
						<-long
					}
				})
			}
			synctest.Wait()
		}
		tick()
		tick()
		for source := range int64(10) {
			want := 2
			if source == 3 {
				want = 1
			}
			require.Equal(t, want, ran[source], "source %d", source)
		}
		close(long)
		synctest.Wait()
		tick()
		require.Equal(t, 2, ran[3])
		// What waits when the service ends does not begin.
		for range cap(p.room) {
			p.room <- struct{}{}
		}
		p.begin(ctx, 20, func() { ran[20]++ })
		end()
		p.Wait()
		require.Zero(t, ran[20])
	})
}
