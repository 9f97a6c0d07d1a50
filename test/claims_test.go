package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/testserver"
)

// moved is a second service with a copy of the first one's state database and the same files; the
// first one does not run meanwhile.
func (i *instance) moved() *instance {
	i.t.Helper()
	two := i.twin()
	two.stateDB = i.stateDB + "_copy"
	run(i.t, connect(i.t, i.state, "postgres"), "CREATE DATABASE "+pgx.Identifier{two.stateDB}.Sanitize()+" TEMPLATE "+pgx.Identifier{i.stateDB}.Sanitize())
	text, err := os.ReadFile(two.config)
	require.NoError(i.t, err)
	require.NoError(i.t, os.WriteFile(two.config, []byte(strings.Replace(string(text), i.state.Address(i.stateDB), i.state.Address(two.stateDB), 1)), 0o600))
	return two
}

// TestAFolderBelongsToOneStateDatabase: of two services on copies of one state database, one goes on
// with the files, and the other is refused, whether they run at once or in turn: none of them cuts
// back what the other has written. Instances on one state database have the same key and files.
func TestAFolderBelongsToOneStateDatabase(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "", []map[string]any{{"match": "public.*"}}, nil, "CREATE TABLE loans (id int PRIMARY KEY)")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]any{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive", "retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}, nil)
	run(t, db, "INSERT INTO loans SELECT generate_series(1, 50)")
	i.reached("circulation", db)
	i.caughtUp("archive")
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil) // the source is followed by one of them alone
	i.stop(syscall.SIGKILL)
	two := i.moved()

	// Both at once: the second one waits, and writes nothing.
	i.start()
	i.outletIs("archive", "goes on", func(o outletStatus) bool { return o.Phase == "running" })
	two.start()
	two.outletIs("archive", "waits for the folder", func(o outletStatus) bool {
		return o.Phase == "waiting" && o.Code == "folder-in-use" || o.Code == "folder-of-another"
	})
	i.stop(syscall.SIGTERM)
	two.stop(syscall.SIGTERM)
	size := func() (all int64) {
		names, err := filepath.Glob(filepath.Join(i.folder, "files", "archive", "*.ndjson*"))
		require.NoError(t, err)
		for _, one := range names {
			info, err := os.Stat(one)
			require.NoError(t, err)
			all += info.Size()
		}
		return all
	}
	before := size()

	// In turn: the first one has gone on since the copy was made, so that the copy is refused.
	two.start()
	o := two.outletIs("archive", "is refused", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "folder-of-another" })
	require.Contains(t, o.Error, "going on here would cut them back")
	two.stop(syscall.SIGTERM)
	require.Equal(t, before, size())
	i.start()
	i.resume()
	run(t, db, "INSERT INTO loans VALUES (100)")
	i.reached("circulation", db)
	i.caughtUp("archive")
	i.stop(syscall.SIGTERM)
	require.Len(t, ofTable(i.files("archive"), "public.loans", "insert"), 51)

	// Another files_root on the same state database.
	i.start()
	three := i.twin()
	text, err := os.ReadFile(three.config)
	require.NoError(t, err)
	port := testserver.FreePort()
	three.address = fmt.Sprintf("http://127.0.0.1:%d", port)
	lines := strings.SplitN(string(text), "\n", 2)
	changed := strings.Replace(lines[1], filepath.Join(i.folder, "files"), filepath.Join(i.folder, "elsewhere"), 1)
	require.NoError(t, os.WriteFile(three.config, []byte(fmt.Sprintf("listen: 127.0.0.1:%d\n", port)+changed), 0o600))
	three.launch()
	i.eventually("it says why", func() bool {
		log, err := os.ReadFile(three.logFile())
		return err == nil && strings.Contains(string(log), "another instance runs on this state database with")
	})
	if r, err := http.Get(three.address + "/healthz"); err == nil {
		r.Body.Close() //nolint:errcheck // it was only looked at
		require.NotEqual(t, http.StatusOK, r.StatusCode)
	}
}
