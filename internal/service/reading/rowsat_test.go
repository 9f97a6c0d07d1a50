package reading

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// TestTurn: while all places are taken, a request waits, and is refused after a while. Once a place is
// free, the next request gets it.
func TestTurn(t *testing.T) {
	s := NewReading(nil)
	for range rowsAtOnce {
		require.NoError(t, s.turn(t.Context(), time.Hour))
	}
	var busy *engine.Fault
	require.ErrorAs(t, s.turn(t.Context(), 0), &busy)
	require.Equal(t, base.CodeBusy, busy.Code)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, s.turn(gone, time.Hour), context.Canceled)
	<-s.folding
	require.NoError(t, s.turn(t.Context(), time.Hour))
}
