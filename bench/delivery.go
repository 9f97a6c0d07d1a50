package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/twmb/franz-go/pkg/kgo"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/journal"
	"rillmark/internal/outlet"
	"rillmark/internal/shape"
)

// delivered is one way of delivering the journal.
type delivered struct {
	name        string
	destination map[string]any
	outlet      map[string]any
	oneCore     bool
}

// standIn starts one of Rillmark's stand-ins as a process of its own.
func (b *bed) standIn(ctx context.Context, kind string, port int, more ...string) (address string, stop func(), err error) {
	address = fmt.Sprintf("127.0.0.1:%d", port)
	command := exec.CommandContext(ctx, b.binary, append([]string{"stand-in", kind, "--listen", address}, more...)...)
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := command.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		command.Process.Kill() //nolint:errcheck // it may have gone
		command.Wait()         //nolint:errcheck // it was killed
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", address)
		if err == nil {
			return address, stop, c.Close()
		}
		if time.Now().After(deadline) {
			stop()
			return "", nil, err
		}
	}
}

// deliveries measures outlets of each kind on one journal of many rows.
func (b *bed) deliveries(ctx context.Context) (string, error) {
	fmt.Printf("filling a journal with %d rows …\n", b.large)
	i, err := b.filled(ctx, "delivery", b.large)
	if err != nil {
		return "", err
	}
	defer func() { i.stop() }()
	broker, stop, err := b.standIn(ctx, "broker", b.port+3, "--forget")
	if err != nil {
		return "", err
	}
	defer stop()
	keeper, stop, err := b.standIn(ctx, "broker", b.port+4)
	if err != nil {
		return "", err
	}
	defer stop()
	function := newSink()
	defer function.Close() //nolint:errcheck // the run ends
	files := func(folder string) map[string]any {
		return map[string]any{"kind": "file", "file": map[string]any{"directory": folder}}
	}
	computed := func(is string) []map[string]any {
		return []map[string]any{{"match": "bench_loans", "new": []map[string]any{{"name": "computed", "is": is}}}}
	}
	topics := func(broker string) map[string]any {
		return map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker}, "create_topics": map[string]any{"partitions": 3}}}
	}
	works := []delivered{
		{name: "files, lines of CloudEvents, on one core", destination: files("lines"), oneCore: true},
		{name: "files, lines of their data, on one core", destination: files("data"), outlet: map[string]any{"format": "data"}, oneCore: true},
		{name: "files, lines of their data, where two columns are compared, on one core", destination: files("where"), outlet: map[string]any{"format": "data", "where": map[string]string{"bench_loans": "copy_id != patron_id"}}, oneCore: true},
		{name: "files, lines of their data, where one in ten is chosen, on one core", destination: files("tenth"), outlet: map[string]any{"format": "data", "where": map[string]string{"bench_loans": "patron_id < 300"}}, oneCore: true},
		{name: "files, lines of their data, where the interpreter is needed, on one core", destination: files("slow"), outlet: map[string]any{"format": "data", "where": map[string]string{"bench_loans": "copy_id % 2 != 3"}}, oneCore: true},
		{name: "files, lines of their data, with a computed column, on one core", destination: files("computed"), outlet: map[string]any{"format": "data", "rows": computed("patron_id * 2 + copy_id")}, oneCore: true},
		{name: "files, lines of their data, with a computed text, on one core", destination: files("text"), outlet: map[string]any{"format": "data", "rows": computed("string(patron_id) + '-' + string(copy_id)")}, oneCore: true},
		{name: "files, lines of rows, on one core", destination: files("rows"), outlet: map[string]any{"format": "row"}, oneCore: true},
		{name: "files, Avro", destination: files("avro"), outlet: map[string]any{"format": "avro"}},
		{name: "files, Parquet", destination: files("parquet"), outlet: map[string]any{"format": "parquet"}},
		{name: "kafka, CloudEvents, to a broker that keeps nothing", destination: topics(broker)},
		{name: "kafka, CloudEvents, to one that keeps them in memory", destination: topics(keeper)},
		{name: "kafka, rows in Avro, to one that keeps nothing", destination: topics(broker), outlet: map[string]any{"format": "avro", "topic": "avro"}},
		{name: "http, 500 events a request, 4 in flight", destination: map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + function.Addr().String()}}, outlet: map[string]any{"http": map[string]any{"events": 500}}},
	}
	report := "| journal → | events/s | of encoding alone | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|\n"
	var encoding []float64
	for range b.rounds {
		rate, err := b.encodeAlone(ctx)
		if err != nil {
			return "", err
		}
		encoding = append(encoding, rate)
	}
	report += fmt.Sprintf("| CloudEvents, encoded and thrown away | %.0f | 1.00 | 1.00 | |\n", median(encoding))
	for _, w := range works {
		if !strings.Contains(w.name, b.match) {
			continue
		}
		var rates, cpus, peaks []float64
		for range b.rounds {
			m, err := b.deliver(ctx, &i, w)
			if err != nil {
				return "", fmt.Errorf("%s: %w", w.name, err)
			}
			rates, cpus, peaks = append(rates, float64(b.large)/m.took.Seconds()), append(cpus, m.cpu), append(peaks, m.peak)
		}
		fmt.Printf("  %s: %.0f events/s, %.2f cores, %.0f MiB\n", w.name, median(rates), median(cpus), median(peaks))
		report += fmt.Sprintf("| %s | %.0f | %.2f | %.2f | %.0f MiB |\n", w.name, median(rates), median(rates)/median(encoding), median(cpus), median(peaks))
	}
	return report, nil
}

// filled is a service with a journal of so many rows, that a load has read.
func (b *bed) filled(ctx context.Context, name string, rows int) (*instance, error) {
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	for _, sql := range []string{"SET synchronous_commit = off", "TRUNCATE bench_loans", fmt.Sprintf(benchRow, 1, rows), "VACUUM ANALYZE bench_loans", "CHECKPOINT"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	definition := map[string]any{"mode": "load-only", "tables": []map[string]string{{"match": "public.bench_loans"}},
		"connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": "circulation", "user": "postgres", "tls": "disable",
			"password": "${file:" + b.source.PasswordFile() + "}"}}
	if err := i.post(ctx, "/v1/sources/circulation", definition); err != nil {
		return nil, err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		var done bool
		err := i.state.QueryRow(ctx, "SELECT coalesce(bool_and(state = 'loaded'), false) FROM rillmark.source_table").Scan(&done)
		if err != nil {
			return nil, err
		}
		if done {
			return i, nil
		}
		if time.Now().After(deadline) {
			return nil, errors.New("the journal is not filled: " + i.log.String())
		}
	}
}

// encodeAlone reads the journal, makes messages as for a broker, and throws them
// away, on one core of this process.
func (b *bed) encodeAlone(ctx context.Context) (float64, error) {
	pool, err := pgxpool.New(ctx, b.state.Address("state_delivery"))
	if err != nil {
		return 0, err
	}
	defer pool.Close()
	c := catalog.New(pool, nil)
	store := journal.NewStore(pool, c.ResolveSchema, journal.Options{})
	topic, err := shape.ParseTemplate("{source}.{table}")
	if err != nil {
		return 0, err
	}
	m := encode.NewMaker(encode.Shape{Address: "http://127.0.0.1:7450", Format: "cloudevents", Topic: topic}, encode.Capabilities{Key: true, Order: true, Headers: true, Topic: true})
	origin := outlet.Origin{Source: "circulation", Database: "circulation", Engine: change.PostgreSQL, Generation: 1}
	var source int64
	if err := pool.QueryRow(ctx, "SELECT id FROM rillmark.source").Scan(&source); err != nil {
		return 0, err
	}
	reader := store.Reader(source, 1, journal.ReaderOptions{})
	var batch encode.Batch
	var e change.Event
	began, n := time.Now(), 0
	for {
		read, err := reader.TryNext(ctx)
		if err != nil {
			return 0, err
		}
		if read == nil {
			return float64(n) / time.Since(began).Seconds(), nil
		}
		for read.Next(&e) {
			origin.Fill(&e)
			if err := m.Append(&batch, &e, true); err != nil {
				return 0, err
			}
			if n++; batch.Bytes() > 2<<20 {
				batch.Reset()
			}
		}
		if err := read.Err(); err != nil {
			return 0, err
		}
	}
}

// deliver measures one outlet from its first event to its last; the service is
// started anew for it.
func (b *bed) deliver(ctx context.Context, i **instance, w delivered) (*measured, error) {
	name := fmt.Sprintf("w%d", time.Now().UnixNano())
	if err := (*i).post(ctx, "/v1/destinations/"+name, w.destination); err != nil {
		return nil, err
	}
	definition := map[string]any{"source": "circulation", "destination": name}
	for key, value := range w.outlet {
		definition[key] = value
	}
	if err := (*i).post(ctx, "/v1/outlets/"+name, definition); err != nil {
		return nil, err
	}
	if err := (*i).post(ctx, "/v1/outlets/"+name+"/pause", map[string]string{}); err != nil {
		return nil, err
	}
	if err := (*i).post(ctx, "/v1/outlets/"+name+"/rewind", map[string]string{"to": "beginning"}); err != nil {
		return nil, err
	}
	if err := b.again(ctx, i, "delivery", w.oneCore); err != nil {
		return nil, err
	}
	before, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := (*i).post(ctx, "/v1/outlets/"+name+"/run", nil); err != nil {
		return nil, err
	}
	for {
		var committed int64
		if err := (*i).state.QueryRow(ctx, "SELECT committed FROM rillmark.outlet_offset o JOIN rillmark.outlet l ON l.id = o.outlet_id WHERE name = $1", name).Scan(&committed); err != nil {
			return nil, err
		}
		if committed >= int64(b.large) {
			break
		}
		if time.Since(began) > 5*time.Minute {
			return nil, fmt.Errorf("only %d events went out: %s", committed, (*i).log)
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(began)
	after, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	os.RemoveAll(filepath.Join(b.folder, "files")) //nolint:errcheck // room for the next
	return &measured{took: took, cpu: (after - before).Seconds() / took.Seconds(), peak: (*i).peak()}, nil
}

// again starts the service of the filled journal anew.
func (b *bed) again(ctx context.Context, i **instance, name string, oneCore bool) error {
	(*i).stop()
	b.core = ""
	if oneCore {
		b.core = "1"
	}
	started, err := b.start(ctx, name)
	b.core = ""
	if err == nil {
		*i = started
	}
	return err
}

// stalled measures the memory of an outlet whose destination takes nothing while
// the whole journal waits.
func (b *bed) stalled(ctx context.Context) (string, error) {
	fmt.Printf("filling a journal with %d rows …\n", b.huge)
	i, err := b.filled(ctx, "stalled", b.huge)
	if err != nil {
		return "", err
	}
	defer func() { i.stop() }()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer listener.Close() //nolint:errcheck // the run ends
	go func() {
		for {
			c, err := listener.Accept() // and never answered
			if err != nil {
				return
			}
			defer c.Close() //nolint:errcheck // the run ends
		}
	}()
	if err := i.post(ctx, "/v1/destinations/stalled", map[string]any{"kind": "http", "http": map[string]any{"url": "http://" + listener.Addr().String(), "timeout": "2s"}}); err != nil {
		return "", err
	}
	if err := b.again(ctx, &i, "stalled", false); err != nil {
		return "", err
	}
	if err := i.post(ctx, "/v1/outlets/stalled", map[string]any{"source": "circulation", "destination": "stalled", "http": map[string]any{"events": 500}}); err != nil {
		return "", err
	}
	time.Sleep(30 * time.Second)
	return fmt.Sprintf("With %d events waiting for a destination that never answers, the service's largest resident size after 30 s is %.0f MiB.\n", b.huge, i.peak()), nil
}

// newSink is a function that takes everything.
func newSink() net.Listener {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { //nolint:errcheck,gosec // it ends with the run
		buf := make([]byte, 64<<10)
		for {
			if _, err := r.Body.Read(buf); err != nil {
				break
			}
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	return listener
}

// readTopic reads the delays of a topic's messages.
func readTopic(ctx context.Context, broker, topic string) ([]time.Duration, error) {
	client, err := kgo.NewClient(kgo.SeedBrokers(broker), kgo.ConsumeTopics(topic), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()), kgo.FetchMaxWait(50*time.Millisecond), kgo.MetadataMinAge(200*time.Millisecond))
	if err != nil {
		return nil, err
	}
	defer client.Close()
	var delays []time.Duration
	for ctx.Err() == nil {
		fetched := client.PollFetches(ctx)
		now := time.Now()
		fetched.EachRecord(func(r *kgo.Record) { delays = append(delays, now.Sub(r.Timestamp)) })
	}
	return delays, nil
}
