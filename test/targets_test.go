package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"rillmark/internal/testserver"

	"github.com/klauspost/compress/gzip"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"
)

// process is a server of the test's own: the real one, or a stand-in that ships
// with Rillmark.
type process struct {
	t       *testing.T
	args    []string
	address string
	mu      sync.Mutex
	command *exec.Cmd
	ended   chan struct{}
}

// launch starts a process that answers on a port of its own; each $ADDR, $PORT
// and $DIR in its arguments is filled in.
func launch(t *testing.T, args ...string) *process {
	t.Helper()
	port, folder := testserver.FreePort(), t.TempDir()
	p := &process{t: t, address: fmt.Sprintf("127.0.0.1:%d", port)}
	for _, a := range args {
		p.args = append(p.args, strings.NewReplacer("$ADDR", p.address, "$PORT", strconv.Itoa(port), "$DIR", folder).Replace(a))
	}
	p.start()
	t.Cleanup(p.stop)
	return p
}

func (p *process) start() {
	p.t.Helper()
	command := exec.Command(p.args[0], p.args[1:]...)
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var said bytes.Buffer
	command.Stderr = &said
	require.NoError(p.t, command.Start())
	ended := make(chan struct{})
	go func() {
		command.Wait() //nolint:errcheck // it is killed
		close(ended)
	}()
	p.mu.Lock()
	p.command, p.ended = command, ended
	p.mu.Unlock()
	require.Eventually(p.t, func() bool {
		c, err := net.Dial("tcp", p.address)
		if err == nil {
			c.Close() //nolint:errcheck // it was only opened to be closed
		}
		return err == nil
	}, patience, 10*time.Millisecond, "%v answers: %s", p.args, &said)
}

func (p *process) stop() { p.signal(syscall.SIGKILL) }

// leave ends it in order.
func (p *process) leave() { p.signal(syscall.SIGTERM) }

func (p *process) signal(s syscall.Signal) {
	p.mu.Lock()
	command, ended := p.command, p.ended
	p.command = nil
	p.mu.Unlock()
	if command == nil {
		return
	}
	command.Process.Signal(s) //nolint:errcheck // it may have gone
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		command.Process.Kill() //nolint:errcheck // it may have gone
		<-ended
	}
}

// arrival is a message as it lies at its destination.
type arrival struct {
	id     string
	offset int64
	row    string // table and key: what order is kept for
}

// target is a kind of destination with a server, and a way of reading back what
// arrived that is not ours.
type target struct {
	name        string
	destination map[string]any
	outlet      map[string]any
	folder      string // where an object storage keeps its buckets
	exact       bool   // no message may arrive twice
	away, back  func()
	read        func() []arrival
}

// arrivalOf reads an arrival out of an event in CloudEvents' JSON.
func arrivalOf(t *testing.T, raw []byte) arrival {
	e := parseEvent(t, raw)
	a := arrival{id: e.ID, offset: e.offset(), row: e.Data.Table}
	if e.PartitionKey != nil {
		a.row += "\x00" + *e.PartitionKey
	}
	return a
}

// fromID is an arrival of which the id and a row's name are known.
func fromID(id, row string) arrival {
	offset, _ := strconv.ParseInt(id[strings.LastIndexByte(id, '/')+1:], 10, 64)
	return arrival{id: id, offset: offset, row: row}
}

// kcat is a client of the Kafka protocol that we did not write.
func kcat(t *testing.T, args ...string) []byte {
	t.Helper()
	var errs bytes.Buffer
	command := exec.Command("kcat", args...)
	command.Stderr = &errs
	out, err := command.Output()
	require.NoError(t, err, "kcat %v: %s", args, &errs)
	return out
}

// record is a message as kcat shows it.
type record struct {
	Topic     string
	Partition int
	Headers   []string
	Key       *string
	Payload   *string
}

func (r *record) header(name string) string {
	for n := 0; n+1 < len(r.Headers); n += 2 {
		if r.Headers[n] == name {
			return r.Headers[n+1]
		}
	}
	return ""
}

// records reads all messages of the topics whose names begin with prefix.
func records(t *testing.T, broker, prefix string) []record {
	t.Helper()
	var meta struct{ Topics []struct{ Topic string } }
	require.NoError(t, json.Unmarshal(kcat(t, "-b", broker, "-L", "-J"), &meta))
	var all []record
	for _, topic := range meta.Topics {
		if !strings.HasPrefix(topic.Topic, prefix) {
			continue
		}
		in := bufio.NewScanner(bytes.NewReader(kcat(t, "-b", broker, "-C", "-t", topic.Topic, "-o", "beginning", "-e", "-q", "-J", "-X", "fetch.wait.max.ms=20")))
		in.Buffer(nil, 64<<20)
		for in.Scan() {
			var r record
			require.NoError(t, json.Unmarshal(in.Bytes(), &r), "%s", in.Bytes())
			all = append(all, r)
		}
	}
	return all
}

func kafkaTarget(t *testing.T) target {
	p := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--folder", "$DIR")
	return target{name: "kafka", away: p.stop, back: p.start,
		destination: map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{p.address}, "create_topics": map[string]any{"partitions": 3}}},
		outlet:      map[string]any{"topic": "plain.{table|other}", "kafka": map[string]any{"compression": "zstd"}},
		read: func() []arrival {
			var all []arrival
			for _, r := range records(t, p.address, "plain.") {
				require.NotNil(t, r.Payload)
				all = append(all, arrivalOf(t, []byte(*r.Payload)))
			}
			return all
		}}
}

func exactTarget(t *testing.T) target {
	p := launch(t, binary, "stand-in", "broker", "--listen", "$ADDR", "--folder", "$DIR")
	// The stand-in, killed, forgets a transaction that is open, and its topics then
	// hold back what is committed after it; a real broker ends it by its timeout.
	return target{name: "exact", exact: true, away: p.leave, back: p.start,
		destination: map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{p.address}, "create_topics": map[string]any{"partitions": 3}}},
		outlet:      map[string]any{"topic": "exact.{table|other}", "format": "cloudevents-binary", "kafka": map[string]any{"exactly_once": true}},
		read: func() []arrival {
			var all []arrival
			for _, r := range records(t, p.address, "exact.") {
				require.Equal(t, "1.0", r.header("ce_specversion"))
				all = append(all, fromID(r.header("ce_id"), r.header("ce_subject")+"\x00"+r.header("ce_partitionkey")))
			}
			return all
		}}
}

func natsTarget(t *testing.T) target {
	p := launch(t, "nats-server", "-a", "127.0.0.1", "-p", "$PORT", "-js", "-sd", "$DIR")
	return target{name: "nats", away: p.stop, back: p.start,
		destination: map[string]any{"kind": "nats", "nats": map[string]any{"servers": []string{"nats://" + p.address}, "stream": "library", "create_stream": true}},
		outlet:      map[string]any{"topic": "library.{source}.{table|other}", "format": "data"},
		read: func() []arrival {
			var all []arrival
			for _, m := range natsMessages(t, p.address, "library") {
				var data struct {
					Table string
					Key   json.RawMessage
				}
				require.NoError(t, json.Unmarshal(m.Data(), &data), "%s", m.Data())
				all = append(all, fromID(m.Headers()["rillmark-id"][0], data.Table+"\x00"+string(data.Key)))
			}
			return all
		}}
}

func natsMessages(t *testing.T, address, stream string) []jetstream.Msg {
	t.Helper()
	conn, err := nats.Connect("nats://" + address)
	require.NoError(t, err)
	defer conn.Close()
	js, err := jetstream.New(conn)
	require.NoError(t, err)
	c, err := js.OrderedConsumer(t.Context(), stream, jetstream.OrderedConsumerConfig{})
	require.NoError(t, err)
	s, err := js.Stream(t.Context(), stream)
	require.NoError(t, err)
	var all []jetstream.Msg
	for left := s.CachedInfo().State.Msgs; left > 0; {
		batch, err := c.Fetch(int(min(left, 500)), jetstream.FetchMaxWait(5*time.Second))
		require.NoError(t, err)
		for m := range batch.Messages() {
			all = append(all, m)
			left--
		}
		require.NoError(t, batch.Error())
	}
	return all
}

func redisTarget(t *testing.T) target {
	p := launch(t, "redis-server", "--bind", "127.0.0.1", "--port", "$PORT", "--dir", "$DIR", "--appendonly", "yes", "--appendfsync", "always", "--save", "")
	return target{name: "redis", away: p.stop, back: p.start,
		destination: map[string]any{"kind": "redis", "redis": map[string]any{"address": p.address}},
		outlet:      map[string]any{"topic": "all", "format": "row", "metadata": []string{"id", "operation", "table"}},
		read: func() []arrival {
			_, port, _ := net.SplitHostPort(p.address)
			out, err := exec.Command("redis-cli", "-p", port, "--json", "XRANGE", "all", "-", "+").Output()
			require.NoError(t, err)
			var raw [][]json.RawMessage
			require.NoError(t, json.Unmarshal(out, &raw), "%.300s", out)
			var all []arrival
			for _, one := range raw {
				var list []string
				require.NoError(t, json.Unmarshal(one[1], &list))
				fields := map[string]string{}
				for n := 0; n+1 < len(list); n += 2 {
					fields[list[n]] = list[n+1]
				}
				all = append(all, fromID(fields["id"], fields["rillmark-table"]+"\x00"+fields["key"]))
			}
			return all
		}}
}

// function is an HTTP function of the test's own: what it answers can be
// changed.
type function struct {
	server  *http.Server
	address string
	mu      sync.Mutex
	answer  func(r *http.Request, body []byte) int
	taken   []taken
	wait    string      // Retry-After with each refusal
	came    []time.Time // each request
}

type taken struct {
	headers http.Header
	body    []byte
}

func newFunction(t *testing.T) *function {
	f := &function{address: fmt.Sprintf("127.0.0.1:%d", testserver.FreePort())}
	f.start(t)
	t.Cleanup(f.stop)
	return f
}

func (f *function) start(t *testing.T) {
	listener, err := net.Listen("tcp", f.address)
	require.NoError(t, err)
	f.server = &http.Server{Handler: f}
	go f.server.Serve(listener) //nolint:errcheck // it is closed
}

func (f *function) stop() { f.server.Close() } //nolint:errcheck // the test ends

func (f *function) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.came = append(f.came, time.Now())
	status := http.StatusNoContent
	if f.answer != nil {
		status = f.answer(r, body)
	}
	if status < 300 && r.Method == http.MethodPost {
		f.taken = append(f.taken, taken{r.Header.Clone(), body})
	}
	if status >= 400 && f.wait != "" {
		w.Header().Set("Retry-After", f.wait)
	}
	w.WriteHeader(status)
}

// set changes what the function answers.
func (f *function) set(answer func(r *http.Request, body []byte) int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.answer = answer
}

func (f *function) all() []taken {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]taken(nil), f.taken...)
}

func httpTarget(t *testing.T) target {
	f := newFunction(t)
	return target{name: "http", away: f.stop, back: func() { f.start(t) },
		destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + f.address + "/events", "timeout": "2s"}},
		outlet:      map[string]any{"http": map[string]any{"events": 20, "in_flight": 3}},
		read: func() []arrival {
			var all []arrival
			for _, one := range f.all() {
				require.Equal(t, "application/cloudevents-batch+json", one.headers.Get("Content-Type"))
				var events []json.RawMessage
				require.NoError(t, json.Unmarshal(one.body, &events))
				for _, raw := range events {
					all = append(all, arrivalOf(t, raw))
				}
			}
			return all
		}}
}

// manifest reads which files an outlet has in their places, in order.
func manifest(t *testing.T, folder, outlet string) []string {
	t.Helper()
	parts, err := filepath.Glob(filepath.Join(folder, outlet+".manifest", "*.ndjson"))
	require.NoError(t, err)
	sort.Strings(parts)
	var files []string
	last := int64(0)
	for _, part := range parts {
		raw, err := os.ReadFile(part)
		require.NoError(t, err)
		for line := range bytes.Lines(raw) {
			var e struct {
				File     string
				From, To int64
				Bytes    int64
			}
			require.NoError(t, json.Unmarshal(line, &e))
			require.True(t, last == 0 || e.From == last+1 || e.To == last, "the manifest leaves no offset out: %s after %d", line, last)
			last = e.To
			info, err := os.Stat(filepath.Join(folder, e.File))
			require.NoError(t, err, "a listed file is there")
			require.Equal(t, e.Bytes, info.Size())
			files = append(files, filepath.Join(folder, e.File))
		}
	}
	return files
}

func bucketTarget(t *testing.T) target {
	folder := t.TempDir()
	bucket := filepath.Join(folder, "lake")
	require.NoError(t, mkdir(bucket))
	p := launch(t, binary, "stand-in", "objects", "--listen", "$ADDR", "--folder", folder)
	return target{name: "bucket", folder: folder, exact: true, away: p.stop, back: p.start,
		destination: map[string]any{"kind": "file", "file": map[string]any{"bucket": map[string]any{"name": "lake", "endpoint": "http://" + p.address, "access_key": "demo", "secret_key": "only-for-the-test", "prefix": "events"}}},
		outlet:      map[string]any{"file": map[string]any{"compression": "gzip", "rotate_every": "1s", "name": "{date}/{outlet}.{run}.{first}"}},
		read: func() []arrival {
			var all []arrival
			for _, name := range manifest(t, filepath.Join(bucket, "events"), "bucket") {
				f, err := os.Open(name)
				require.NoError(t, err)
				unpacked, err := gzip.NewReader(f)
				require.NoError(t, err)
				in := bufio.NewScanner(unpacked)
				in.Buffer(nil, 64<<20)
				for in.Scan() {
					all = append(all, arrivalOf(t, in.Bytes()))
				}
				require.NoError(t, in.Err())
				f.Close() //nolint:errcheck // it was only read
			}
			return all
		}}
}

// npmReader reads a file with a reader from the npm registry and gives its rows.
func npmReader(t *testing.T, kind string, files []string) []map[string]any {
	t.Helper()
	command := exec.Command("node", append([]string{"readers/read.mjs", kind}, files...)...)
	var errs bytes.Buffer
	command.Stderr = &errs
	out, err := command.Output()
	require.NoError(t, err, "%s", &errs)
	var rows []map[string]any
	d := json.NewDecoder(bytes.NewReader(out))
	d.UseNumber()
	for {
		var row map[string]any
		if err := d.Decode(&row); err == io.EOF {
			return rows
		} else {
			require.NoError(t, err)
		}
		rows = append(rows, row)
	}
}

func columnarTarget(t *testing.T, i *instance, format string) target {
	return target{name: format, exact: true, away: func() {}, back: func() {},
		destination: map[string]any{"kind": "file", "file": map[string]any{"directory": format}},
		outlet:      map[string]any{"format": format, "metadata": []string{"id", "operation", "table"}, "operations": []string{"existing", "insert", "update", "delete", "truncate"}, "file": map[string]any{"rotate_every": "1s"}},
		read: func() []arrival {
			var all []arrival
			files := manifest(t, filepath.Join(i.folder, "files", format), format)
			if len(files) == 0 {
				return nil
			}
			for _, row := range npmReader(t, format, files) {
				all = append(all, fromID(row["_id"].(string), fmt.Sprint(row["_table"], "\x00", row["copy_id"], "/", row["patron_id"], "/", row["mark"])))
			}
			return all
		}}
}

func fileTarget(t *testing.T, i *instance) target {
	return target{name: "archive", exact: true, away: func() {}, back: func() {},
		destination: map[string]any{"kind": "file", "file": map[string]any{"directory": "archive"}},
		outlet:      map[string]any{"file": map[string]any{"rotate_bytes": 300_000}},
		read: func() []arrival {
			var all []arrival
			for _, e := range i.files("archive") {
				all = append(all, arrivalOf(t, e.raw))
			}
			return all
		}}
}
