// Package testserver starts a PostgreSQL server for the tests of one package.
package testserver

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

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
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(tb, err)
	c := &demo.Cluster{Folder: filepath.Join(folder, "postgresql"), Port: l.Addr().(*net.TCPAddr).Port}
	require.NoError(tb, l.Close())
	require.NoError(tb, os.MkdirAll(c.Folder, 0o755))
	require.NoError(tb, c.Start(tb.Context()))
	tb.Cleanup(c.Stop)
	return c
}
