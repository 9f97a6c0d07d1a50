package reading

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// TestTurn: where all places are taken, one who asks is told so in the end, and gets the next place
// that is free.
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
