package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
	"rillmark/internal/testserver"
)

// twin is a second service on the same state database and the same files.
func (i *instance) twin() *instance {
	i.t.Helper()
	text, err := os.ReadFile(i.config)
	require.NoError(i.t, err)
	port := testserver.FreePort()
	two := &instance{t: i.t, folder: i.folder, state: i.state, stateDB: i.stateDB, address: fmt.Sprintf("http://127.0.0.1:%d", port), config: filepath.Join(i.folder, "twin.yaml")}
	lines := strings.SplitN(string(text), "\n", 2)
	require.NoError(i.t, os.WriteFile(two.config, []byte(fmt.Sprintf("listen: 127.0.0.1:%d\n", port)+lines[1]), 0o600))
	i.t.Cleanup(func() { two.stop(syscall.SIGKILL) })
	return two
}

// phaseOf is how an instance sees a source.
func (i *instance) phaseOf(source string) string {
	for _, s := range i.status().Sources {
		if s.Name == source {
			return s.Phase
		}
	}
	return ""
}

// signal sends the running process a signal and leaves it be.
func (i *instance) signal(s syscall.Signal) {
	i.t.Helper()
	i.mu.Lock()
	defer i.mu.Unlock()
	require.NoError(i.t, i.command.Process.Signal(s))
}

// calmMariaWriter changes the tables some hundred times a second.
func calmMariaWriter(t *testing.T, m *demo.MariaDB, database string, copies int) *writers {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	random := seeded.Random(t, 6)
	db := mariaConnect(t, m, database)
	w.done.Add(1)
	go func() {
		defer w.done.Done()
		for step := 0; ctx.Err() == nil; step++ {
			mariaWriteOne(ctx, db, random, copies, fmt.Sprintf("calm-%d", step)) //nolint:errcheck // two rows may want one key
			db.ExecContext(ctx, "DO sleep(0.004)")                               //nolint:errcheck // it ends with the test
		}
	}()
	t.Cleanup(w.end)
	return w
}

// TestTwoInstances: two services share a state database. One of them captures and the other
// stands by, takes over when the first is killed or frozen, and takes on what is asked of
// it meanwhile; whatever happens, each change is in the journal and with the outlets.
func TestTwoInstances(t *testing.T) {
	t.Parallel()
	t.Run("postgresql", func(t *testing.T) {
		t.Parallel()
		source := sourceServer(t)
		d := drivenPostgres(t, source, stateServer(t), 2000, nil)
		twoInstances(t, d, calmWriter(t, source, d.database, 2000))
	})
	t.Run("mariadb", func(t *testing.T) {
		t.Parallel()
		m := mariaServer(t, nil)
		d := drivenMariaDB(t, m, stateServer(t), 2000, nil)
		twoInstances(t, d, calmMariaWriter(t, m, d.database, 2000))
	})
}

func twoInstances(t *testing.T, of *driven, w *writers) {
	one, two := of.instance, of.twin().start()
	one.must(http.MethodPost, "/v1/sources/"+of.source+"/resume", nil, nil)
	var captures, standsBy *instance
	settle := func(what string) {
		t.Helper()
		one.eventually(what, func() bool {
			captures, standsBy = one, two
			if two.phaseOf(of.source) == "running" {
				captures, standsBy = two, one
			}
			return captures.phaseOf(of.source) == "running" && standsBy.phaseOf(of.source) == "standby"
		})
	}
	loaded := func() int64 {
		for _, source := range captures.status().Sources {
			for _, table := range source.Tables {
				if table.Name == of.tables[0] {
					return table.Counts["loaded"]
				}
			}
		}
		return 0
	}
	settle("one of them captures, the other stands by")
	captures.eventually("the table is loaded", func() bool { return loaded() > 0 })

	// Asked of the one that does not capture.
	before := loaded()
	out, errs, code := standsBy.cli("source", "reload", of.source, of.tables[0])
	require.Zero(t, code, out+errs)
	captures.eventually("the reload is done by the one that captures", func() bool { return loaded() == before+1 })
	require.Equal(t, "running", captures.phaseOf(of.source), "nothing was stopped for it")
	standsBy.must(http.MethodPost, "/v1/outlets/archive/pause", nil, nil)
	captures.eventually("the outlet pauses wherever it runs", func() bool {
		for _, o := range captures.status().Outlets {
			if o.Name == "archive" {
				return o.Phase == "paused"
			}
		}
		return false
	})
	standsBy.must(http.MethodPost, "/v1/outlets/archive/resume", nil, nil)

	// Killed: the other one goes on. Started again, it stands by.
	killed := captures
	killed.stop(syscall.SIGKILL)
	standsBy.eventually("the other one captures", func() bool { return standsBy.phaseOf(of.source) == "running" })
	killed.start()
	settle("the one that was killed stands by")

	// Frozen, in the middle of whatever it does, and thawed when the other one has gone on:
	// it finds that nothing is its own any more.
	frozen, other := captures, standsBy
	frozen.signal(syscall.SIGSTOP)
	var thaw sync.Once
	wake := func() { thaw.Do(func() { frozen.signal(syscall.SIGCONT) }) }
	defer wake()
	next := other.next(of.source)
	other.eventually("the other one captures while the first is frozen", func() bool {
		return other.phaseOf(of.source) == "running" && other.next(of.source) > next
	})
	wake()
	settle("the one that was frozen stands by")
	w.end()
	of.proveAll(captures)
}
