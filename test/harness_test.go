// Package test proves Rillmark through its real interface: the service as a
// process on loopback, called through its API, its client, its files and its
// console, against real PostgreSQL servers that the tests start.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
	"rillmark/internal/testserver"
)

// binary is the rillmark under test, built once.
var binary string

// shortTests are what go test -short runs of all these: an event's way from the log to
// readers and files, and the client.
const shortTests = "^(TestEachChangeIsToldAsItHappened|TestReaders|TestTransactionsOfEveryKind|TestValuesArriveExactly|TestRoutes|TestRulesChangeWhileItRuns|" +
	"TestAFilterIsFollowed|TestWrongInput|TestShapes|TestIdentitiesAndImages|TestPartitionsUnderTheirRoot|TestRandomSchemaChanges|TestClient)$"

// rounds multiplies the work of the tests that draw lots; `make soak` raises it.
func rounds() int {
	if n, err := strconv.Atoi(os.Getenv("RILLMARK_ROUNDS")); err == nil && n > 0 {
		return n
	}
	return 1
}

// draws are the same in each make test, from a seed that has found something where there
// is one; make soak and RILLMARK_SEED draw others.
func draws(t *testing.T, round int, seed uint64) *rand.Rand {
	if rounds() > 1 || os.Getenv("RILLMARK_SEED") != "" {
		return seeded.Random(t, uint64(round))
	}
	return rand.New(rand.NewPCG(seed, uint64(round)))
}

// inRounds runs a test in as many rounds as are asked for, numbered from 1, each
// with a service of its own, so that many rounds need no more memory than one.
func inRounds(t *testing.T, f func(t *testing.T, round int)) {
	for round := 1; round <= rounds(); round++ {
		t.Run(fmt.Sprint("round ", round), func(t *testing.T) { f(t, round) })
		if t.Failed() {
			return
		}
	}
}

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "rillmark-test-")
	if err != nil {
		panic(err)
	}
	os.Chmod(folder, 0o755) //nolint:errcheck // the next step tells
	binary = filepath.Join(folder, "rillmark")
	build := exec.Command("go", "build", "-o", binary, "../cmd/rillmark")
	if os.Getenv("RILLMARK_RACE") != "" {
		build.Args = append(build.Args[:2:2], append([]string{"-race"}, build.Args[2:]...)...)
		os.Setenv("GORACE", "halt_on_error=1") //nolint:errcheck // a name that can be set
	}
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		fmt.Fprintln(os.Stderr, "building rillmark:", err)
		os.Exit(1)
	}
	shared.folder, shared.used = folder, make(map[string]*demo.Cluster)
	flag.Parse()
	if chosen := flag.Lookup("test.run"); testing.Short() && chosen.Value.String() == "" {
		chosen.Value.Set(shortTests)                //nolint:errcheck // a pattern that can be read
		flag.Lookup("test.parallel").Value.Set("1") //nolint:errcheck // a number: one server does
	}
	code := m.Run()
	for _, c := range shared.clusters {
		c.Stop()
	}
	if len(failed.names) > 0 { // at the end, where whoever sees only that looks
		fmt.Println("failed:", strings.Join(failed.names, ", "))
	}
	os.RemoveAll(folder) //nolint:errcheck // it lies in the temporary folder
	os.Exit(code)
}

// failed are the names of tests with a service that failed.
var failed struct {
	mu    sync.Mutex
	names []string
}

// shared are the servers that tests share; each test has databases of its own.
var shared struct {
	mu       sync.Mutex
	folder   string
	clusters map[string]*demo.Cluster
	// idle are the source servers that no test has; used are the others, by test.
	idle []*demo.Cluster
	used map[string]*demo.Cluster
	// started counts source servers.
	started int
}

var sourceSettings = map[string]string{"wal_level": "logical", "max_replication_slots": "40", "max_wal_senders": "40", "max_connections": "120", "fsync": "off", "max_prepared_transactions": "10"}

// server is a shared server, started at its first use.
func server(t *testing.T, name string, settings map[string]string) *demo.Cluster {
	t.Helper()
	shared.mu.Lock()
	defer shared.mu.Unlock()
	return startServer(t, name, settings)
}

// startServer is server with the lock held.
func startServer(t *testing.T, name string, settings map[string]string) *demo.Cluster {
	t.Helper()
	if c := shared.clusters[name]; c != nil {
		return c
	}
	c := &demo.Cluster{Folder: filepath.Join(shared.folder, name), Port: testserver.FreePort(), Settings: settings}
	if version := versionOf(t); strings.HasPrefix(name, "source-") && version != "" {
		c.Programs = programs(t, version)
	}
	require.NoError(t, os.MkdirAll(c.Folder, 0o755))
	require.NoError(t, c.Start(context.Background()))
	if shared.clusters == nil {
		shared.clusters = make(map[string]*demo.Cluster)
	}
	shared.clusters[name] = c
	return c
}

// sourceServer is a source server that the test has for itself until it ends: slots and
// open transactions concern a whole server. There are as many as tests run in parallel.
func sourceServer(t *testing.T) *demo.Cluster {
	t.Helper()
	test, _, _ := strings.Cut(t.Name(), "/")
	shared.mu.Lock()
	defer shared.mu.Unlock()
	if c := shared.used[test]; c != nil {
		return c
	}
	var c *demo.Cluster
	version := versionOf(t)
	if at := slices.IndexFunc(shared.idle, func(c *demo.Cluster) bool { return versionIn(c.Folder) == version }); at >= 0 {
		c = shared.idle[at]
		shared.idle = slices.Delete(shared.idle, at, at+1)
	} else {
		shared.started++
		c = startServer(t, fmt.Sprint("source-", shared.started, "-", version), sourceSettings)
	}
	shared.used[test] = c
	t.Cleanup(func() {
		shared.mu.Lock()
		defer shared.mu.Unlock()
		delete(shared.used, test)
		shared.idle = append(shared.idle, c)
	})
	return c
}

// The state server keeps fsync on: what is acknowledged has to survive a kill.
func stateServer(t *testing.T) *demo.Cluster {
	if testing.Short() {
		return sourceServer(t)
	}
	return server(t, "state", map[string]string{"max_connections": "200"})
}

var databases atomic.Int64

// database makes a new database, and names it.
func database(t *testing.T, c *demo.Cluster, owner string) string {
	t.Helper()
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), databases.Add(1))
	_, err := c.Database(t.Context(), name, owner)
	require.NoError(t, err)
	return name
}

func connect(t *testing.T, c *demo.Cluster, database string) *pgx.Conn {
	t.Helper()
	conn, err := c.Connect(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) }) //nolint:errcheck // nothing is open on it
	return conn
}

func run(t *testing.T, conn *pgx.Conn, statements ...string) {
	t.Helper()
	for _, sql := range statements {
		_, err := conn.Exec(t.Context(), sql)
		require.NoError(t, err, sql)
	}
}

// instance is a service of the test's own.
type instance struct {
	t       *testing.T
	folder  string
	config  string
	address string
	token   string
	flags   []string // of serve, besides the configuration
	stateDB string
	state   *demo.Cluster

	mu      sync.Mutex
	command *exec.Cmd
	ended   chan struct{}
}

// newInstance configures a service with a new state database; extra is more
// configuration. It is not started.
func newInstance(t *testing.T, state *demo.Cluster, extra string) *instance {
	t.Helper()
	i := &instance{t: t, folder: t.TempDir(), state: state, stateDB: database(t, state, "postgres")}
	i.configure(extra)
	t.Cleanup(func() {
		i.stop(syscall.SIGKILL)
		if t.Failed() {
			failed.mu.Lock()
			failed.names = append(failed.names, t.Name())
			failed.mu.Unlock()
			log, _ := os.ReadFile(i.logFile())
			from := max(0, len(log)-6000)
			if at := bytes.LastIndex(log, []byte("SIGQUIT: quit")); at >= 0 {
				from = max(0, at-3000) // it did not answer: where it was is what matters
			}
			t.Logf("the service's log:\n%s", log[from:])
		}
	})
	return i
}

func (i *instance) configure(extra string) {
	port := testserver.FreePort()
	i.address = fmt.Sprintf("http://127.0.0.1:%d", port)
	i.config = filepath.Join(i.folder, "rillmark.yaml")
	if !strings.Contains(extra, "network:") {
		extra += "\nnetwork: {local: [all]}\n" // all servers of a test are on this machine
	}
	text := fmt.Sprintf("listen: 127.0.0.1:%d\nstate_database: \"%s\"\nfiles_root: %s\nsecrets: {folders: [%s]}\n%s", port, i.state.Address(i.stateDB), filepath.Join(i.folder, "files"), os.TempDir(), extra)
	require.NoError(i.t, os.WriteFile(i.config, []byte(text), 0o600))
}

func (i *instance) logFile() string { return filepath.Join(i.folder, "service.log") }

// launch starts the process without waiting for it to answer.
func (i *instance) launch() {
	i.t.Helper()
	log, err := os.OpenFile(i.logFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(i.t, err)
	defer log.Close() //nolint:errcheck // the process has its own copy
	command := exec.Command(binary, append([]string{"serve", "--config", i.config}, i.flags...)...)
	command.Stdout, command.Stderr = log, log
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(i.t, command.Start())
	ended := make(chan struct{})
	go func() {
		command.Wait() //nolint:errcheck // tests ask how it ended where they care
		close(ended)
	}()
	i.mu.Lock()
	i.command, i.ended = command, ended
	i.mu.Unlock()
}

// start launches the service and waits until it is ready.
func (i *instance) start() *instance {
	i.t.Helper()
	i.launch()
	i.eventually("the service is ready", func() bool {
		r, err := http.Get(i.address + "/healthz")
		if err != nil {
			return false
		}
		r.Body.Close() //nolint:errcheck // it was only looked at
		return r.StatusCode == http.StatusOK
	})
	return i
}

// stop ends the process and waits for its end.
func (i *instance) stop(signal syscall.Signal) *os.ProcessState {
	i.mu.Lock()
	command, ended := i.command, i.ended
	i.command = nil
	i.mu.Unlock()
	if command == nil {
		return nil
	}
	command.Process.Signal(signal) //nolint:errcheck // it may have gone
	hangs := time.AfterFunc(patience, func() {
		i.t.Errorf("the service has not ended %s after %s", patience, signal)
		command.Process.Signal(syscall.SIGQUIT) //nolint:errcheck // it may have gone just now
	})
	<-ended
	hangs.Stop()
	return command.ProcessState
}

// patience is how long tests wait for what has to come: it may be slow to, on a busy machine.
const patience = 5 * time.Minute

// eventually waits for a condition; what it is stands in the failure.
func (i *instance) eventually(what string, is func() bool, why ...func() string) {
	i.t.Helper()
	// Some tests have more rows the more rounds there are.
	if !assert.Eventually(i.t, is, patience+time.Duration(min(rounds(), 10))*time.Minute, 15*time.Millisecond, what) {
		for _, one := range why {
			i.t.Log(one())
		}
		i.t.FailNow()
	}
}

// sourceDefinition captures all tables of a database as its superuser.
func sourceDefinition(c *demo.Cluster, database string) map[string]any {
	return map[string]any{"tables": []map[string]any{{"match": "public.*", "after_rewrite": "stale"}}, "connection": map[string]any{"host": "127.0.0.1", "port": c.Port,
		"database": database, "user": "postgres", "tls": "disable", "password": "${file:" + c.PasswordFile() + "}"}}
}

// status is what tests want of /v1/status.
type status struct {
	At      time.Time
	Sources []struct {
		Name, Phase, Doing, Error, Code string
		Journal                         struct {
			First, Next, Events int64
			Generation          int
		}
		Tables []struct {
			Name, State, Cause, Note string
			RowsDone                 int64 `json:"rows_done"`
			Partitions               []string
			Counts                   map[string]int64
		}
		Since       time.Time
		RetainedLog struct{ Bytes, Spilled int64 } `json:"retained_log"`
	}
	Outlets []outletStatus
}

// outletStatus is what tests want of an outlet.
type outletStatus struct {
	Name, Phase, Error, Code string
	Committed, Delivered     int64
	Until                    int64
	HeldAt                   int64 `json:"held_at"`
	Behind                   int64 `json:"behind_events"`
	Dead                     int64 `json:"dead_letters"`
	Attempts                 int
	Reported                 *int64
	Loads                    []any
	Incomplete               []struct {
		Table, Code, Why, Fix string
		Offset                int64
	}
	Retention *struct {
		Used  float64
		Level string
	}
}

func (i *instance) status() status {
	var st status
	_, raw, err := i.call(http.MethodGet, "/v1/status", nil)
	if err == nil {
		json.Unmarshal(raw, &st) //nolint:errcheck // an empty one is waited over
	}
	return st
}

// statusFromNow is a status that was made after the call: another may be half a second old.
func (i *instance) statusFromNow() (st status) {
	i.t.Helper()
	from := time.Now()
	i.eventually("there is a new status", func() bool {
		st = i.status()
		return st.At.After(from)
	})
	return st
}

// settled waits until a source follows, all its tables are loaded, and it has
// journaled what the source has committed so far.
func (i *instance) settled(source string, db *pgx.Conn) {
	i.t.Helper()
	i.eventually("the source "+source+" follows with all tables loaded", func() bool {
		for _, s := range i.status().Sources {
			if s.Name != source || s.Phase != "running" || len(s.Tables) == 0 {
				continue
			}
			for _, t := range s.Tables {
				if t.State == "new" || t.State == "to-load" || t.State == "loading" {
					return false
				}
			}
			return true
		}
		return false
	})
	i.reached(source, db)
}

// reached waits until a message that is written into the source's log now has
// come through, and so all that was committed before it.
func (i *instance) reached(source string, db *pgx.Conn) {
	i.t.Helper()
	mark := fmt.Sprintf("reached-%d", databases.Add(1))
	from := i.next(source)
	run(i.t, db, "SELECT pg_logical_emit_message(true, 'test', '"+mark+"')")
	i.eventually("the journal reaches the source's present", func() bool {
		status, raw, err := i.call(http.MethodGet, fmt.Sprintf("/v1/sources/%s/events?operation=message&from=%d&limit=1000", source, max(from, 1)), nil)
		if status >= 400 {
			from = i.first() // retention has gone on since
		}
		return err == nil && bytes.Contains(raw, []byte(mark))
	})
}

func (i *instance) next(source string) int64 {
	for _, s := range i.status().Sources {
		if s.Name == source {
			return s.Journal.Next
		}
	}
	return 0
}

// event is an event as tests look at it.
type event struct {
	ID           string
	Source       string
	Type         string
	Sequence     string
	PartitionKey *string
	DataSchema   string
	Time         string
	Data         eventData
	raw          json.RawMessage
}

// eventData is an event's data.
type eventData struct {
	Operation   string
	Database    string
	Table       string
	Key         map[string]json.RawMessage
	Rekeyed     map[string]json.RawMessage
	Before      map[string]json.RawMessage
	After       map[string]json.RawMessage
	Changed     []string
	Omitted     []string
	JSONNull    map[string][]string `json:"json_null"`
	Message     json.RawMessage
	Schema      json.RawMessage
	Transaction struct {
		ID     string
		Origin string
		Index  int64
		Last   bool
	}
	Log struct{ Position string }
}

func (e *event) offset() int64 {
	n, _ := strconv.ParseInt(e.Sequence, 10, 64)
	return n
}

func parseEvent(t *testing.T, raw []byte) *event {
	t.Helper()
	e := new(event)
	require.NoError(t, json.Unmarshal(raw, e), "%s", raw)
	e.raw = raw
	return e
}

// journal reads all of a source's events.
func (i *instance) journal(source string) []*event {
	i.t.Helper()
	var all []*event
	for from := int64(0); ; {
		var page struct {
			Events []json.RawMessage
			Passed int64
		}
		i.must(http.MethodGet, fmt.Sprintf("/v1/sources/%s/events?from=%d&limit=5000", source, from), nil, &page)
		for _, raw := range page.Events {
			all = append(all, parseEvent(i.t, raw))
		}
		if len(page.Events) == 0 {
			return all
		}
		from = page.Passed + 1
	}
}

// files reads all lines that a file outlet has delivered.
func (i *instance) files(directory string) []*event {
	i.t.Helper()
	names, err := filepath.Glob(filepath.Join(i.folder, "files", directory, "*.ndjson*")) // the one that grows, too
	require.NoError(i.t, err)
	var all []*event
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			return i.files(directory) // it has grown enough meanwhile, and has its own name
		}
		require.NoError(i.t, err)
		require.True(i.t, len(raw) == 0 || raw[len(raw)-1] == '\n', "%s ends in a torn line", name)
		for _, line := range bytes.Split(bytes.TrimSuffix(raw, []byte("\n")), []byte("\n")) {
			if len(line) > 0 {
				all = append(all, parseEvent(i.t, line))
			}
		}
	}
	return all
}

func mkdir(folder string) error { return os.MkdirAll(folder, 0o755) }

// dropSlotAtEnd takes the slot away once the test's service has been stopped:
// slots belong to the whole server, and tests share one.
func dropSlotAtEnd(t *testing.T, c *demo.Cluster) {
	t.Cleanup(func() {
		ctx := context.Background()
		for deadline := time.Now().Add(patience); time.Now().Before(deadline); {
			conn, err := c.Connect(ctx, "postgres")
			if err != nil {
				return // the server was the test's own and is gone
			}
			_, err = conn.Exec(ctx, "SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE active_pid IS NOT NULL AND slot_name = 'rillmark_circulation'")
			if err == nil {
				_, err = conn.Exec(ctx, "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'")
			}
			conn.Close(ctx) //nolint:errcheck // nothing is open on it
			if err == nil {
				return
			}
		}
		t.Error("the replication slot could not be dropped")
	})
}
