package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/testserver"
)

// Small chunks make a load long enough to be cut; frequent heartbeats move the
// slot between the kills.
const killConfig = "source:\n  chunk_bytes: 16384\n  heartbeat_every: 300ms\njournal:\n  segment_bytes: 2097152\n"

// pullReader reads a pull outlet and commits, through every interruption, as a
// consumer at home would.
type pullReader struct {
	stop context.CancelFunc
	done sync.WaitGroup
	seen []int64 // offsets in the order in which they came
}

func startPullReader(t *testing.T, i *instance, outlet string) *pullReader {
	ctx, cancel := context.WithCancel(context.Background())
	p := &pullReader{stop: cancel}
	p.done.Add(1)
	go func() {
		defer p.done.Done()
		for committed := int64(0); ctx.Err() == nil; {
			var page struct {
				Events    []json.RawMessage
				Passed    int64
				Committed int64
			}
			code, raw, err := i.call(http.MethodGet, "/v1/outlets/"+outlet+"/events?limit=500&wait=1", nil)
			if err != nil || code != http.StatusOK || json.Unmarshal(raw, &page) != nil {
				continue
			}
			if page.Committed < committed {
				t.Errorf("the committed offset went back from %d to %d", committed, page.Committed)
				return
			}
			if len(page.Events) == 0 {
				continue
			}
			code, _, err = i.call(http.MethodPost, "/v1/outlets/"+outlet+"/commit", map[string]int64{"committed": page.Passed})
			if err != nil || code != http.StatusOK {
				continue // not known whether it was taken: read again, and see
			}
			committed = page.Passed
			for _, raw := range page.Events {
				p.seen = append(p.seen, parseEvent(t, raw).offset())
			}
		}
	}()
	t.Cleanup(p.end)
	return p
}

func (p *pullReader) end() {
	p.stop()
	p.done.Wait()
}

// prove holds that the reader went through the journal in order. Where a commit
// was taken and its answer lost, the reader did not count that page.
func (p *pullReader) prove(t *testing.T) {
	t.Helper()
	require.NotEmpty(t, p.seen)
	for n := 1; n < len(p.seen); n++ {
		require.Greater(t, p.seen[n], p.seen[n-1], "the pull reader never goes back")
	}
}

// TestKill kills the service at random moments under load, with load and
// following at work.
func TestKill(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		underKills(t, drivenPostgres(t, sourceServer(t), stateServer(t), 6000, nil))
	})
}

// TestMariaDBKill is the same on the other engine.
func TestMariaDBKill(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		underKills(t, drivenMariaDB(t, mariaServer(t, nil), stateServer(t), 6000, nil))
	})
}

// ownServer is a server that a test may kill.
func ownServer(t *testing.T, settings map[string]string) *demo.Cluster {
	t.Helper()
	c := &demo.Cluster{Folder: filepath.Join(shared.folder, fmt.Sprintf("own-%d", databases.Add(1))), Port: testserver.FreePort(), Settings: settings}
	if version := versionOf(t); version != "" && settings["wal_level"] != "" {
		shared.mu.Lock()
		c.Programs = programs(t, version)
		shared.mu.Unlock()
	}
	require.NoError(t, mkdir(c.Folder))
	t.Cleanup(func() { os.RemoveAll(c.Folder) }) //nolint:errcheck // a hundred of them would fill a disk
	require.NoError(t, c.Start(context.Background()))
	t.Cleanup(c.Stop)
	return c
}

// durable is what a server that is killed needs: fsync is about a machine that
// loses power, which a kill is not, but the order of its writes must hold.
func durable(settings map[string]string) map[string]string {
	kept := map[string]string{}
	for name, value := range settings {
		kept[name] = value
	}
	delete(kept, "fsync")
	return kept
}

// TestKillSource kills the source's server under load.
func TestKillSource(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		d := drivenPostgres(t, ownServer(t, durable(sourceSettings)), stateServer(t), 3000, nil)
		underServerKills(t, d, "", d.stopServer, d.startServer)
	})
}

// TestMariaDBKillSource is the same on the other engine.
func TestMariaDBKillSource(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		d := drivenMariaDB(t, mariaServer(t, map[string]string{"innodb-flush-log-at-trx-commit": "1", "sync-binlog": "1"}), stateServer(t), 2000, nil)
		underServerKills(t, d, "", d.stopServer, d.startServer)
	})
}

// TestKillState kills the state database's server under load.
func TestKillState(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		state := ownServer(t, map[string]string{"max_connections": "100"})
		underServerKills(t, drivenPostgres(t, sourceServer(t), state, 3000, nil), "state-database", state.Kill, state.Start)
	})
}

// TestMariaDBKillState is the same on the other engine.
func TestMariaDBKillState(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, _ int) {
		state := ownServer(t, map[string]string{"max_connections": "100"})
		underServerKills(t, drivenMariaDB(t, mariaServer(t, nil), state, 2000, nil), "state-database", state.Kill, state.Start)
	})
}
