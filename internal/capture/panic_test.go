package capture

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/engine"
)

// TestAPanicStopsItsSourceAlone: a source whose engine panics is failed, with the
// stack in the log, and its loop lives to be paused and resumed.
func TestAPanicStopsItsSourceAlone(t *testing.T) {
	logged := make(map[string]string)
	var empty []int
	s := &Source{Name: "circulation", Stats: new(Stats), Log: func(_, event, message string) { logged[event] = message }}
	s.Engine = func() (engine.Engine, error) { _ = empty[3]; return nil, nil }
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		s.Run(ctx)
		close(ended)
	}()
	require.Eventually(t, func() bool { return s.Status().Phase == PhaseFailed }, time.Minute, time.Millisecond)
	require.Equal(t, "internal-error", s.Status().Code)
	require.Contains(t, s.Status().Error, "index out of range")
	cancel()
	<-ended
	require.Equal(t, PhasePaused, s.Status().Phase)
	require.Contains(t, logged["panic"], "panic_test.go", "the stack is in the log")
}
