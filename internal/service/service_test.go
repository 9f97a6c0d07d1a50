package service

import (
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

// TestCloseEndsWhateverRuns closes a service while its records are being looked
// at without a pause: whoever waits for its turn then has to end, too.
func TestCloseEndsWhateverRuns(t *testing.T) {
	folder, err := os.MkdirTemp("", "rillmark-service-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	t.Cleanup(func() { os.RemoveAll(folder) }) //nolint:errcheck // it lies in the temporary folder
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &demo.Cluster{Folder: filepath.Join(folder, "state"), Port: l.Addr().(*net.TCPAddr).Port}
	require.NoError(t, l.Close())
	require.NoError(t, c.Start(t.Context()))
	t.Cleanup(c.Stop)
	config := &Config{StateDatabase: c.Address("postgres"), KeyFile: filepath.Join(folder, "key")}
	require.NoError(t, config.complete())
	for range 20 {
		s, err := Open(t.Context(), config, slog.New(slog.DiscardHandler), time.Minute)
		require.NoError(t, err)
		begun := make(chan struct{}, 3)
		for range 3 {
			s.goes(func() {
				for s.work.Err() == nil {
					s.reconcile(s.work) //nolint:errcheck // it may be cut off by the end
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
