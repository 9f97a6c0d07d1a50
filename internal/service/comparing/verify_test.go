package comparing

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/capture"
	"rillmark/internal/outlet"
)

// TestFaultsThatLast: a fault that passes is waited for, also where it is tried again in between;
// one that lasts, and what a person has stopped, ends a comparison.
func TestFaultsThatLast(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var f faulty
		during := func(longest time.Duration, phases ...string) bool {
			for began := time.Now(); time.Since(began) < longest; {
				for _, phase := range phases {
					if f.lasts(phase) {
						return true
					}
					<-time.After(lookAgain) // by the clock of this test
				}
			}
			return false
		}
		require.False(t, during(time.Hour, outlet.PhaseRunning))
		require.False(t, during(longestFault*9/10, outlet.PhaseWaiting, capture.PhaseStarting))
		require.False(t, during(time.Second, outlet.PhaseRunning))
		require.False(t, during(longestFault*9/10, outlet.PhaseWaiting))
		require.True(t, during(longestFault*2/10, capture.PhaseStarting, outlet.PhaseWaiting))
		f = faulty{}
		require.False(t, during(longestFault*2, capture.PhaseStarting), "a start may take its time")
		require.True(t, during(longestFault*2, capture.PhaseStandby))
		require.True(t, f.lasts(outlet.PhasePaused))
		require.True(t, f.lasts(capture.PhaseFailed))
	})
}
