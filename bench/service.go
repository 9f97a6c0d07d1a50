package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// instance is a service of ours with a state database of its own.
type instance struct {
	command *exec.Cmd
	address string
	state   *pgx.Conn
	log     *bytes.Buffer
}

func (b *bed) serve(ctx context.Context, name string) (*instance, error) {
	if _, err := b.state.Database(ctx, stateName(name), "postgres"); err != nil {
		return nil, err
	}
	return b.start(ctx, name)
}

func stateName(name string) string { return "state_" + strings.ReplaceAll(name, "-", "_") }

// start starts a service on a state database that is there.
func (b *bed) start(ctx context.Context, name string) (*instance, error) {
	database := stateName(name)
	config := filepath.Join(b.folder, name+".yaml")
	text := fmt.Sprintf("listen: 127.0.0.1:%d\nstate_database: \"%s\"\nkey_file: %s\nfiles_root: %s\nnetwork: {local: [all]}\nsecrets: {folders: [%s]}\nlog_level: warn\n", b.port, b.state.Address(database), filepath.Join(b.folder, "key"), filepath.Join(b.folder, "files"), b.folder)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		return nil, err
	}
	i := &instance{address: fmt.Sprintf("http://127.0.0.1:%d", b.port), log: new(bytes.Buffer)}
	i.command = exec.CommandContext(ctx, b.binary, "serve", "--config", config)
	if b.core != "" {
		i.command = exec.CommandContext(ctx, "taskset", "--cpu-list", b.core, b.binary, "serve", "--config", config)
	}
	i.command.Stderr = i.log
	i.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := i.command.Start(); err != nil {
		return nil, err
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if r, err := http.Get(i.address + "/readyz"); err == nil {
			r.Body.Close() //nolint:errcheck // it was only looked at
			if r.StatusCode == http.StatusOK {
				break
			}
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("the service does not start: %s", i.log)
		}
	}
	var err error
	i.state, err = b.state.Connect(ctx, database)
	return i, err
}

func (i *instance) stop() {
	i.state.Close(context.Background())       //nolint:errcheck // nothing is open on it
	i.command.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have gone
	i.command.Wait()                          //nolint:errcheck // it was asked to
}

func (i *instance) post(ctx context.Context, path string, body any) error {
	var encoded []byte // none where there is no body
	var err error
	if body != nil {
		if encoded, err = json.Marshal(body); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, i.address+path, bytes.NewReader(encoded))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	if response.StatusCode >= 300 {
		var told bytes.Buffer
		told.ReadFrom(response.Body) //nolint:errcheck // the status says enough
		return fmt.Errorf("POST %s: %s %s", path, response.Status, told.String())
	}
	return nil
}

// phase waits until the source is in a phase.
func (i *instance) phase(ctx context.Context, phase string) error {
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		var status struct {
			Sources []struct{ Phase string }
		}
		response, err := http.Get(i.address + "/v1/status")
		if err != nil {
			return err
		}
		err = json.NewDecoder(response.Body).Decode(&status)
		response.Body.Close() //nolint:errcheck // it was only read
		if err != nil {
			return err
		}
		if len(status.Sources) > 0 && status.Sources[0].Phase == phase {
			return nil
		}
		if time.Now().After(deadline) {
			return errors.New("the source does not come to " + phase + ": " + i.log.String())
		}
	}
}

// add defines the source that follows a slot.
func (b *bed) add(ctx context.Context, i *instance, slot, tables string) error {
	definition := map[string]any{"engine": "postgresql", "mode": "follow-only", "tables": []map[string]string{{"match": tables}},
		"connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": "circulation", "user": "postgres", "tls": "disable",
			"password": "${file:" + b.source.PasswordFile() + "}"}}
	if slot != "" {
		connection := definition["connection"].(map[string]any)
		connection["slot"], connection["publication"] = slot, "bench"
	}
	return i.post(ctx, "/v1/sources/circulation", definition)
}

// cpu is what a process has used so far.
func (i *instance) cpu() (time.Duration, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", i.command.Process.Pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(raw[bytes.LastIndexByte(raw, ')')+1:]))
	user, _ := strconv.ParseInt(fields[11], 10, 64)
	system, _ := strconv.ParseInt(fields[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond, nil // USER_HZ is 100
}

// peak is a process's largest resident size so far, in MiB.
func (i *instance) peak() float64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", i.command.Process.Pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if rest, found := strings.CutPrefix(line, "VmHWM:"); found {
			kib, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kib / 1024
		}
	}
	return 0
}

type measured struct {
	took time.Duration
	cpu  float64 // cores
	peak float64 // MiB
}

// ours follows a slot into a journal until all events are there. A schema event
// comes before a table's rows. outlets, where not nil, adds some before.
func (b *bed) ours(ctx context.Context, slot, tables string, events int, name string, outlets func(*instance) error) (*measured, error) {
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer i.stop()
	if err := b.add(ctx, i, slot, tables); err != nil {
		return nil, err
	}
	if outlets != nil {
		if err := outlets(i); err != nil {
			return nil, err
		}
	}
	before, err := i.cpu()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	for {
		var next int64
		err := i.state.QueryRow(ctx, "SELECT next_offset FROM rillmark.journal_head").Scan(&next)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return nil, err
		}
		if next > int64(events)+1 {
			break
		}
		if time.Since(began) > 5*time.Minute {
			return nil, fmt.Errorf("only %d of %d events came: %s", next-1, events, i.log)
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(began)
	after, err := i.cpu()
	if err != nil {
		return nil, err
	}
	return &measured{took: took, cpu: (after - before).Seconds() / took.Seconds(), peak: i.peak()}, nil
}

// delay measures from commit to a reader of a pull outlet's stream, and to a
// broker's consumer, at a steady rate, beside the bare commits of the same run on
// the state database.
func (b *bed) delay(ctx context.Context) (string, error) {
	fmt.Printf("measuring the delay at %d transactions a second …\n", b.rate)
	i, err := b.serve(ctx, "delay")
	if err != nil {
		return "", err
	}
	defer i.stop()
	broker, stop, err := b.standIn(ctx, "broker", b.port+3)
	if err != nil {
		return "", err
	}
	defer stop()
	if err := b.add(ctx, i, "", "public.bench_loans"); err != nil {
		return "", err
	}
	for _, step := range []struct {
		path string
		body any
	}{
		{"/v1/outlets/desk", map[string]any{"source": "circulation", "operations": []string{"insert"}}},
		{"/v1/destinations/hub", map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{broker}, "create_topics": map[string]any{"partitions": 3}}}},
		{"/v1/outlets/hub", map[string]any{"source": "circulation", "destination": "hub", "topic": "delay", "operations": []string{"insert"}}},
		{"/v1/sources/circulation/resume", map[string]string{}},
	} {
		if err := i.post(ctx, step.path, step.body); err != nil {
			return "", err
		}
	}
	measure, cancel := context.WithTimeout(ctx, b.span+3*time.Second)
	defer cancel()
	failed := make(chan error, writers+2)
	for range writers {
		go func() { failed <- b.writeSteadily(measure) }()
	}
	var bare, topic []time.Duration
	go func() { failed <- b.commitBarely(measure, i, &bare) }()
	go func() {
		var err error
		topic, err = readTopic(measure, broker, "delay")
		failed <- err
	}()
	stream, err := i.readDelays(measure, committedAt)
	for range writers + 2 {
		if err := <-failed; err != nil && measure.Err() == nil {
			return "", err
		}
	}
	if err != nil && measure.Err() == nil {
		return "", err
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }
	report := fmt.Sprintf("| delay from commit to a consumer, %d transactions/s | events | p50 | p99 | largest |\n|---|---:|---:|---:|---:|\n", b.rate)
	for _, one := range []struct {
		name   string
		delays []time.Duration
	}{{"a pull stream's reader", stream}, {"a broker's consumer", topic}} {
		if len(one.delays) < b.rate*3 {
			return "", fmt.Errorf("only %d events came to %s: %s", len(one.delays), one.name, i.log)
		}
		delays := one.delays[b.rate*2:] // the first seconds are the start's
		slices.Sort(delays)
		report += fmt.Sprintf("| %s | %d | %s | %s | %s |\n", one.name, len(delays), ms(quantile(delays, .5)), ms(quantile(delays, .99)), ms(delays[len(delays)-1]))
	}
	slices.Sort(bare)
	return report + fmt.Sprintf("| a bare commit on the state database meanwhile | %d | %s | %s | %s |\n", len(bare), ms(quantile(bare, .5)), ms(quantile(bare, .99)), ms(bare[len(bare)-1])), nil
}

// writers share the rate out: one session could not commit so often.
const writers = 4

func (b *bed) writeSteadily(ctx context.Context) error {
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	ticker := time.NewTicker(writers * time.Second / time.Duration(b.rate))
	defer ticker.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
			if _, err := conn.Exec(ctx, fmt.Sprintf(benchRow, n, n)); err != nil {
				return err
			}
		}
	}
}

func (b *bed) commitBarely(ctx context.Context, i *instance, took *[]time.Duration) error {
	if _, err := i.state.Exec(ctx, "CREATE TABLE bare (n bigint)"); err != nil {
		return err
	}
	for ctx.Err() == nil {
		began := time.Now()
		if _, err := i.state.Exec(ctx, "INSERT INTO bare VALUES (1)"); err != nil {
			return err
		}
		*took = append(*took, time.Since(began))
		time.Sleep(20 * time.Millisecond)
	}
	return nil
}

// readDelays reads a pull outlet's stream: written is when an insert was written.
func (i *instance) readDelays(ctx context.Context, written func(line []byte) (at time.Time, found bool)) ([]time.Duration, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, i.address+"/v1/outlets/desk/stream", nil)
	if err != nil {
		return nil, err
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	var delays []time.Duration
	in := bufio.NewScanner(response.Body)
	in.Buffer(make([]byte, 64<<10), 8<<20)
	for in.Scan() {
		now := time.Now()
		if !bytes.Contains(in.Bytes(), []byte(`"operation":"insert"`)) {
			continue
		}
		if at, found := written(in.Bytes()); found {
			delays = append(delays, now.Sub(at))
		}
	}
	return delays, in.Err()
}

// committedAt is the time that the event's transaction carries.
func committedAt(line []byte) (time.Time, bool) {
	_, rest, found := bytes.Cut(line, []byte(`"time":"`))
	if !found {
		return time.Time{}, false
	}
	at, err := time.Parse(time.RFC3339Nano, string(rest[:27]))
	return at, err == nil
}
