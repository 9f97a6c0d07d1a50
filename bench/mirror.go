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
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/demo"
)

// mirrored measures what a person does with a database that is kept equal: tables are loaded
// into it beside a COPY that is piped through psql, compared beside a SELECT of all rows, and
// changed rows are waited for.
func (b *bed) mirrored(ctx context.Context) (string, error) {
	target := &demo.Cluster{Folder: filepath.Join(b.folder, "mirror"), Port: b.port + 5, Settings: map[string]string{"shared_buffers": "512MB", "max_wal_size": "8GB"}}
	if err := target.Start(ctx); err != nil {
		return "", err
	}
	defer target.Stop()
	if _, err := b.source.Database(ctx, "mirror", "postgres"); err != nil {
		return "", err
	}
	source, err := b.source.Connect(ctx, "mirror")
	if err != nil {
		return "", err
	}
	defer source.Close(ctx) //nolint:errcheck // nothing is open on it
	fmt.Printf("a table of %d rows …\n", b.large)
	if err := execute(ctx, source, "SET synchronous_commit = off", databaseTables[0], fmt.Sprintf(wideRow, 1, b.large), "VACUUM ANALYZE bench_rows", "CHECKPOINT"); err != nil {
		return "", err
	}
	var copies, loads, selects, verifies []float64
	var delays []time.Duration
	for round := range b.rounds {
		took, err := b.copyThrough(ctx, target, fmt.Sprintf("copied_%d", round))
		if err != nil {
			return "", fmt.Errorf("COPY: %w", err)
		}
		copies = append(copies, took.Seconds())
		m, err := b.mirror(ctx, source, target, round, round == b.rounds-1)
		if err != nil {
			return "", err
		}
		loads, selects, verifies, delays = append(loads, m.load.Seconds()), append(selects, m.selected.Seconds()), append(verifies, m.verified.Seconds()), append(delays, m.delays...)
		fmt.Printf("  round %d: COPY %.1f s, load %.1f s; SELECT %.1f s, verify %.1f s\n", round+1, copies[round], loads[round], selects[round], verifies[round])
	}
	slices.Sort(delays)
	return fmt.Sprintf("| a table of %d rows, kept in another PostgreSQL | |\n|---|---:|\n| COPY through psql into an empty table | %.2f s |\n| load into an empty table, from the source to its last row there | %.2f s (%.2f of the COPY's rate) |\n| SELECT of all rows by a client | %.2f s |\n| verify, both sides | %.2f s (%.2f times that) |\n| delay from commit to visible there, %d transactions/s, p50, p99 and largest of %d | %.1f, %.1f and %.1f ms |\n",
		b.large, median(copies), median(loads), median(copies)/median(loads), median(selects), median(verifies), median(verifies)/median(selects), b.rate, len(delays), ms(quantile(delays, 0.5)), ms(quantile(delays, 0.99)), ms(quantile(delays, 1))), nil
}

// passwords is a file by which psql logs in to both servers.
func (b *bed) passwords(target *demo.Cluster) (string, error) {
	var lines []string
	for port, from := range map[int]string{b.port + 2: b.source.PasswordFile(), b.port + 5: target.PasswordFile()} {
		password, err := os.ReadFile(from)
		if err != nil {
			return "", err
		}
		lines = append(lines, fmt.Sprintf("127.0.0.1:%d:*:postgres:%s", port, strings.TrimSpace(string(password))))
	}
	file := filepath.Join(b.folder, "pgpass")
	return file, os.WriteFile(file, []byte(strings.Join(lines, "\n")+"\n"), 0o600)
}

// copyThrough copies the table through psql into a new database.
func (b *bed) copyThrough(ctx context.Context, target *demo.Cluster, name string) (time.Duration, error) {
	file, err := b.passwords(target)
	if err != nil {
		return 0, err
	}
	if _, err := target.Database(ctx, name, "postgres"); err != nil {
		return 0, err
	}
	psql := func(port int, database, sql string) *exec.Cmd {
		c := exec.CommandContext(ctx, "psql", "-X", "-q", "-h", "127.0.0.1", "-p", fmt.Sprint(port), "-U", "postgres", "-d", database, "-v", "ON_ERROR_STOP=1", "-c", sql)
		c.Env = append(os.Environ(), "PGPASSFILE="+file)
		return c
	}
	if out, err := psql(b.port+5, name, databaseTables[0]).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	out, in := psql(b.port+2, "mirror", "COPY bench_rows TO STDOUT"), psql(b.port+5, name, "COPY bench_rows FROM STDIN")
	var said bytes.Buffer
	out.Stderr, in.Stderr = &said, &said
	if in.Stdin, err = out.StdoutPipe(); err != nil {
		return 0, err
	}
	began := time.Now()
	if err := errors.Join(out.Start(), in.Start()); err != nil {
		return 0, err
	}
	err = errors.Join(in.Wait(), out.Wait())
	if err != nil {
		err = fmt.Errorf("%w: %s", err, &said)
	}
	return time.Since(began), err
}

// mirroring is one round.
type mirroring struct {
	load, selected, verified time.Duration
	delays                   []time.Duration
}

func (b *bed) mirror(ctx context.Context, source *pgx.Conn, target *demo.Cluster, round int, delayed bool) (*mirroring, error) {
	name := fmt.Sprintf("mirror_%d", round)
	if _, err := target.Database(ctx, name, "postgres"); err != nil {
		return nil, err
	}
	there, err := target.Connect(ctx, name)
	if err != nil {
		return nil, err
	}
	defer there.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer func() {
		i.stop()
		source.Exec(context.WithoutCancel(ctx), "SELECT pg_drop_replication_slot('rillmark_circulation')") //nolint:errcheck // the next one says so
	}()
	for path, definition := range map[string]map[string]any{
		"/v1/sources/circulation": {"engine": "postgresql", "tables": []map[string]string{{"match": "public.bench_rows"}}, "connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": "mirror", "user": "postgres", "tls": "disable", "password": "${file:" + b.source.PasswordFile() + "}"}},
		"/v1/destinations/there":  {"kind": "postgresql", "postgresql": map[string]any{"host": "127.0.0.1", "port": b.port + 5, "database": name, "user": "postgres", "tls": "disable", "password": "${file:" + target.PasswordFile() + "}"}},
	} {
		if err := i.post(ctx, path, definition); err != nil {
			return nil, err
		}
	}
	if err := i.post(ctx, "/v1/outlets/there", map[string]any{"source": "circulation", "destination": "there"}); err != nil {
		return nil, err
	}
	began := time.Now()
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	for {
		// the last key is asked for by its index: counting the rows again and again would take
		// most of a core from those who are measured
		var last, rows *int64
		err := there.QueryRow(ctx, "SELECT max(id) FROM bench_rows").Scan(&last)
		if err == nil && last != nil && *last >= int64(b.large) {
			if err = there.QueryRow(ctx, "SELECT count(*) FROM bench_rows").Scan(&rows); err == nil && *rows >= int64(b.large) {
				break
			}
		}
		if time.Since(began) > 5*time.Minute {
			return nil, fmt.Errorf("the load does not end (%w): %s", err, i.log)
		}
		time.Sleep(20 * time.Millisecond)
	}
	m := &mirroring{load: time.Since(began)}
	if err := i.phase(ctx, "running"); err != nil {
		return nil, err
	}
	began = time.Now()
	rows, err := source.Query(ctx, "SELECT * FROM bench_rows")
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		rows.RawValues()
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	m.selected = time.Since(began)
	began = time.Now()
	if err := i.verify(ctx, "there"); err != nil {
		return nil, err
	}
	if m.verified = time.Since(began); delayed { // a commit that does not wait for its log is sent later
		if err := execute(ctx, source, "SET synchronous_commit = on"); err != nil {
			return nil, err
		}
		m.delays, err = b.visible(ctx, source, there)
	}
	return m, err
}

// verify compares an outlet's tables, and fails where they are not equal.
func (i *instance) verify(ctx context.Context, outlet string) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, i.address+"/v1/outlets/"+outlet+"/verify", strings.NewReader("{}"))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close() //nolint:errcheck // it was read
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 4<<20)
	last := ""
	for lines.Scan() {
		last = lines.Text()
	}
	var end struct{ Result *struct{ Equal bool } }
	if err := json.Unmarshal([]byte(last), &end); err != nil || end.Result == nil || !end.Result.Equal {
		return fmt.Errorf("the sides are not found equal: %.300s", last)
	}
	return lines.Err()
}

// visible commits rows at a rate, and measures how long after its commit each is seen in the
// target.
func (b *bed) visible(ctx context.Context, source, there *pgx.Conn) ([]time.Duration, error) {
	n := int(b.span.Seconds()) * b.rate
	committed := make([]time.Time, n)
	failed := make(chan error, 1)
	go func() {
		began := time.Now()
		for k := range n {
			time.Sleep(time.Until(began.Add(time.Duration(k) * time.Second / time.Duration(b.rate))))
			if _, err := source.Exec(ctx, "INSERT INTO bench_rows (id, copy_id, patron_id) VALUES ($1, 1, 1)", 1_000_000_000+k); err != nil {
				failed <- err
				return
			}
			committed[k] = time.Now()
		}
		failed <- nil
	}()
	delays := make([]time.Duration, 0, n)
	seen := make([]time.Time, n)
	for next, deadline := 0, time.Now().Add(b.span+time.Minute); next < n; {
		var newest *int
		if err := there.QueryRow(ctx, "SELECT max(id) - 1000000000 FROM bench_rows WHERE id >= 1000000000").Scan(&newest); err != nil {
			return nil, err
		}
		for now := time.Now(); newest != nil && next <= *newest; next++ {
			seen[next] = now
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("only %d of %d rows came", next, n)
		}
		time.Sleep(time.Millisecond)
	}
	if err := <-failed; err != nil {
		return nil, err
	}
	for k := range n {
		delays = append(delays, max(seen[k].Sub(committed[k]), 0))
	}
	return delays, nil
}
