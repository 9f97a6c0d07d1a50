// Package testserver starts a PostgreSQL server for the tests of one package, and finds ports
// for servers.
package testserver

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

var given struct {
	sync.Mutex
	ports map[int]bool
}

// FreePort is a port that nobody has, and that this process was not given before.
func FreePort() int {
	given.Lock()
	defer given.Unlock()
	// A process that is started meanwhile would have the probe's socket until it runs.
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	if given.ports == nil {
		given.ports = make(map[int]bool)
	}
	for {
		// Below the ports that clients get: one that tries a server that is away could get
		// the server's own, and keep it.
		port := 15000 + rand.IntN(15000)
		if given.ports[port] {
			continue // it is not even tried: its owner may be about to
		}
		given.ports[port] = true
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil && l.Close() == nil {
			return port
		}
	}
}

// Start starts a server on loopback that is stopped, and its folder removed, when the
// test ends. With -short the test is skipped.
func Start(tb testing.TB) *demo.Cluster {
	tb.Helper()
	if testing.Short() {
		tb.Skip("it needs a server of its own")
	}
	folder, err := os.MkdirTemp("", "rillmark-server-")
	require.NoError(tb, err)
	tb.Cleanup(func() { os.RemoveAll(folder) })  //nolint:errcheck // it lies in the temporary folder
	require.NoError(tb, os.Chmod(folder, 0o755)) // the user that PostgreSQL runs as must enter it
	c := &demo.Cluster{Folder: filepath.Join(folder, "postgresql"), Port: FreePort()}
	require.NoError(tb, os.MkdirAll(c.Folder, 0o755))
	require.NoError(tb, c.Start(tb.Context()))
	tb.Cleanup(c.Stop)
	return c
}
