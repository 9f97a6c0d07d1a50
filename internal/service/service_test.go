package service

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/config"
	"rillmark/internal/testserver"
)

// TestCloseEndsWhateverRuns closes a service while its records are being looked
// at without a pause: whoever waits for its turn then has to end, too.
func TestCloseEndsWhateverRuns(t *testing.T) {
	c := testserver.Start(t)
	config := &config.Config{StateDatabase: c.Address("postgres"), KeyFile: filepath.Join(t.TempDir(), "key")}
	require.NoError(t, config.Complete())
	for range 20 {
		s, err := Open(t.Context(), config, slog.New(slog.DiscardHandler), time.Minute)
		require.NoError(t, err)
		begun := make(chan struct{}, 3)
		for range 3 {
			s.Goes(func() {
				for s.Work.Err() == nil {
					s.running.Reconcile() //nolint:errcheck // it may be cut off by the end
					select {
					case begun <- struct{}{}:
					default:
					}
				}
			})
		}
		<-begun // the other two wait for their turn
		closed := make(chan struct{})
		go func() {
			s.Close("a test")
			close(closed)
		}()
		select {
		case <-closed:
		case <-time.After(10 * time.Second):
			t.Fatal("the service does not close within ten seconds")
		}
	}
}
