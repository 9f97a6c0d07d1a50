package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestManyReadersWithLeases: forty readers lease from one outlet at the same time,
// more than the service has sessions with its state database. Each event is handed
// out once, and nobody waits without end.
func TestManyReadersWithLeases(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/outlets/shared", map[string]any{"source": "circulation", "from": "now", "operations": []string{"insert"}}, nil)
	run(t, db, "INSERT INTO desk SELECT n, 'x' FROM generate_series(1, 2000) n")
	i.reached("circulation", db)
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	var mu sync.Mutex
	handed := make(map[string]int)
	var readers sync.WaitGroup
	for n := range 40 {
		readers.Go(func() {
			for ctx.Err() == nil {
				r, _ := http.NewRequestWithContext(ctx, http.MethodPost, i.address+"/v1/outlets/shared/leases", strings.NewReader(fmt.Sprintf(`{"reader": "r%d", "limit": 7}`, n)))
				r.Header.Set("Content-Type", "application/json")
				response, err := http.DefaultClient.Do(r)
				if err != nil {
					return
				}
				var page struct {
					Events []event
					Lease  string
				}
				err = json.NewDecoder(response.Body).Decode(&page)
				response.Body.Close() //nolint:errcheck // it was only read
				if err != nil || page.Lease == "" {
					return
				}
				mu.Lock()
				for _, e := range page.Events {
					handed[e.ID]++
				}
				mu.Unlock()
				i.call(http.MethodPost, "/v1/outlets/shared/leases/"+page.Lease+"/done", map[string]int{"events": len(page.Events)}) //nolint:errcheck // a lease that is not ended shows below
			}
		})
	}
	readers.Wait()
	require.NoError(t, ctx.Err(), "no reader hangs")
	require.Len(t, handed, 2000)
	for id, n := range handed {
		require.Equal(t, 1, n, id)
	}
	i.outletIs("shared", "is at the end", func(o outletStatus) bool { return o.Behind == 0 })
}

// TestOneWrongRecordStopsNoOther: the file of an authority that a destination names
// vanishes. Its outlet says so, also after a restart, and every other one delivers;
// with the file back it goes on by itself.
func TestOneWrongRecordStopsNoOther(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	certificate, key := selfSigned(t, "127.0.0.1")
	broker := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--certificate", certificate, "--key", key)
	root := filepath.Join(t.TempDir(), "root.pem")
	pem, err := os.ReadFile(certificate)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(root, pem, 0o600))
	i.add(target{name: "hub", destination: map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker.address}, "tls": map[string]any{"root": root}, "create_topics": map[string]any{}}}})
	i.add(fileTarget(t, i))
	i.resume()
	i.settled("circulation", db)
	i.caughtUp("hub", "archive")
	require.NoError(t, os.Remove(root))
	i.stop(syscall.SIGTERM)
	i.start()
	run(t, db, "INSERT INTO desk VALUES (1, 'x')")
	i.reached("circulation", db)
	i.caughtUp("archive")
	i.outletIs("hub", "says what is missing", func(o outletStatus) bool {
		return (o.Phase == "waiting" || o.Phase == "failed") && strings.Contains(o.Error, root)
	})
	var st struct {
		StateDatabase struct{ OK bool } `json:"state_database"`
	}
	i.must(http.MethodGet, "/v1/status", nil, &st)
	require.True(t, st.StateDatabase.OK, "a missing file is not taken for a lost state database")
	// A stored definition that makes no sense is that record's own matter, too.
	state := connect(t, stateServer(t), i.stateDB)
	run(t, state, `UPDATE rillmark.outlet SET definition = definition || '{"format": "pigeon"}', updated_at = now() WHERE name = 'hub'`)
	i.outletIs("hub", "names the definition", func(o outletStatus) bool { return o.Phase == "failed" && strings.Contains(o.Error, "pigeon") })
	run(t, db, "INSERT INTO desk VALUES (2, 'x')")
	i.reached("circulation", db)
	i.caughtUp("archive")
	run(t, state, `UPDATE rillmark.outlet SET definition = definition || '{"format": "cloudevents"}', updated_at = now() WHERE name = 'hub'`)
	require.NoError(t, os.WriteFile(root, pem, 0o600))
	i.caughtUp("hub")
}

// TestStartPaused: with --paused nothing runs until somebody resumes it.
func TestStartPaused(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.add(fileTarget(t, i))
	i.resume()
	i.settled("circulation", db)
	i.stop(syscall.SIGTERM)
	i.flags = []string{"--paused"}
	i.start()
	run(t, db, "INSERT INTO desk VALUES (1, 'x')")
	st := i.status()
	require.Equal(t, "paused", st.Sources[0].Phase)
	require.Equal(t, "paused", st.Outlets[0].Phase)
	out, _, _ := i.cli("status")
	require.Contains(t, out, "started with --paused")
	for _, args := range [][]string{{"source", "resume", "circulation"}, {"outlet", "resume", "archive"}} {
		_, errs, code := i.cli(args...)
		require.Zero(t, code, errs)
	}
	i.reached("circulation", db)
	i.caughtUp("archive")
}

// TestAStopLetsRequestsEnd: a stop ends live streams and waiting reads at once, in
// order, and does not cut an answer off that is on its way.
func TestAStopLetsRequestsEnd(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "from": "now"}, nil)
	stream, err := http.Get(i.address + "/v1/sources/circulation/stream?from=now")
	require.NoError(t, err)
	defer stream.Body.Close() //nolint:errcheck // it was only read
	ended := make(chan error, 1)
	go func() {
		_, err := io.Copy(io.Discard, bufio.NewReader(stream.Body))
		ended <- err
	}()
	waiting := make(chan string, 1)
	asked := make(chan struct{})
	go func() {
		r, _ := http.NewRequest(http.MethodGet, i.address+"/v1/outlets/desk/events?wait=60", nil)
		close(asked)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			waiting <- err.Error()
			return
		}
		defer response.Body.Close() //nolint:errcheck // it was only read
		raw, _ := io.ReadAll(response.Body)
		waiting <- fmt.Sprint(response.StatusCode, " ", string(raw))
	}()
	<-asked
	state := connect(t, stateServer(t), i.stateDB)
	i.eventually("the read waits", func() bool { // it has asked for its outlet by then
		var n int
		err := state.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND query LIKE '%outlet_offset%'").Scan(&n)
		return err == nil && n > 0
	})
	began := time.Now()
	require.True(t, i.stop(syscall.SIGTERM).Success())
	require.NoError(t, <-ended, "the stream ends, and is not torn")
	answer := <-waiting
	require.True(t, strings.HasPrefix(answer, "200 ") && strings.Contains(answer, `"events":[]`), answer)
	require.Less(t, time.Since(began), 10*time.Second, "a stop takes less than is promised")
}
