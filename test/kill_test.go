package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
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

// stage is a source under load with a service on it.
func killStage(t *testing.T, source, state *demo.Cluster, copies int) (*instance, string) {
	t.Helper()
	name := database(t, source, "postgres")
	fillWorkload(t, connect(t, source, name), copies)
	dropSlotAtEnd(t, source)
	i := newInstance(t, state, killConfig).start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive", "file": map[string]any{"rotate_bytes": 4 << 20}}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation"}, nil)
	return i, name
}

// TestKill kills the service at random moments under load, with load and
// following at work.
func TestKill(t *testing.T) {
	t.Parallel()
	inRounds(t, kill)
}

func kill(t *testing.T, _ int) {
	source, copies := sourceServer(t), 6000
	i, name := killStage(t, source, stateServer(t), copies)
	db := connect(t, source, name)
	w := startWriters(t, source, name, 3, copies)
	reader := startPullReader(t, i, "desk")
	i.must(http.MethodPost, "/v1/sources/circulation/resume", nil, nil)
	random := seeded.Random(t, 7)
	loadsCut := 0
	for kill := range 30 {
		// From the first instants of a start to well into its work.
		moment := time.Duration(random.IntN(40)) * time.Millisecond
		if kill%3 > 0 {
			moment = time.Duration(100+random.IntN(700)) * time.Millisecond
		}
		if kill%6 == 5 { // and into a load that is under way again
			i.call(http.MethodPost, "/v1/sources/circulation/tables/public.copies/reload", nil) //nolint:errcheck // the service may still be starting
		}
		<-time.After(moment)
		for _, s := range i.status().Sources {
			for _, table := range s.Tables {
				if table.State == "loading" || table.State == "to-load" {
					loadsCut++
				}
			}
		}
		i.stop(syscall.SIGKILL)
		i.launch()
		if kill%3 > 0 {
			i.eventually("the service answers again", func() bool {
				code, _, err := i.call(http.MethodGet, "/readyz", nil)
				return err == nil && code == http.StatusOK
			})
		}
	}
	i.eventually("the service answers again", func() bool { return len(i.status().Sources) == 1 })
	w.end()
	events := proveAll(t, i, db, "circulation", "archive")
	reader.end()
	reader.prove(t)
	require.Positive(t, loadsCut, "at least one kill fell into a load")
	t.Logf("%d events, %d pages' offsets read, %d loads cut", len(events), len(reader.seen), loadsCut)
	names, _ := filepath.Glob(filepath.Join(i.folder, "files", "archive", "*"))
	require.Greater(t, len(names), 1, "files were rotated")
}

// ownServer is a server that a test may kill.
func ownServer(t *testing.T, settings map[string]string) *demo.Cluster {
	t.Helper()
	c := &demo.Cluster{Folder: filepath.Join(shared.folder, fmt.Sprintf("own-%d", databases.Add(1))), Port: testserver.FreePort(), Settings: settings}
	require.NoError(t, mkdir(c.Folder))
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
	inRounds(t, killSource)
}

func killSource(t *testing.T, _ int) {
	source, copies := ownServer(t, durable(sourceSettings)), 3000
	i, name := killStage(t, source, stateServer(t), copies)
	w := startWriters(t, source, name, 2, copies)
	i.must(http.MethodPost, "/v1/sources/circulation/resume", nil, nil)
	random := seeded.Random(t, 8)
	for range 4 {
		<-time.After(time.Duration(200+random.IntN(1200)) * time.Millisecond)
		source.Kill()
		i.eventually("the service says that its source is away", func() bool {
			for _, s := range i.status().Sources {
				return s.Phase == "waiting" && s.Error != ""
			}
			return false
		})
		require.NoError(t, source.Start(context.Background()))
		i.eventually("capture goes on by itself", func() bool {
			for _, s := range i.status().Sources {
				return s.Phase == "running" && s.Error == ""
			}
			return false
		})
	}
	w.end()
	proveAll(t, i, connect(t, source, name), "circulation", "archive")
}

// TestKillState kills the state database's server under load.
func TestKillState(t *testing.T) {
	t.Parallel()
	inRounds(t, killState)
}

func killState(t *testing.T, _ int) {
	source, copies := sourceServer(t), 3000
	state := ownServer(t, map[string]string{"max_connections": "100"})
	i, name := killStage(t, source, state, copies)
	w := startWriters(t, source, name, 2, copies)
	i.must(http.MethodPost, "/v1/sources/circulation/resume", nil, nil)
	random := seeded.Random(t, 9)
	for range 4 {
		<-time.After(time.Duration(200+random.IntN(1200)) * time.Millisecond)
		state.Kill()
		i.eventually("the service says that its state database is away", func() bool {
			for _, s := range i.status().Sources {
				return s.Phase == "waiting" && s.Code == "state-database"
			}
			return false
		})
		require.NoError(t, state.Start(context.Background()))
		i.eventually("capture goes on by itself", func() bool {
			for _, s := range i.status().Sources {
				return s.Phase == "running"
			}
			return false
		})
	}
	w.end()
	proveAll(t, i, connect(t, source, name), "circulation", "archive")
}
