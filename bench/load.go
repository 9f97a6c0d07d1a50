package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"
)

// loads compares a load of the bench table with a COPY of it that is thrown away.
// The table has the rows of the works before; more is added until it has as many
// as are asked for.
func (b *bed) loads(ctx context.Context, rows int) (string, error) {
	conn, err := b.source.Connect(ctx, "circulation")
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	// The slot of a source that was measured before may still be there.
	if _, err := conn.Exec(ctx, "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation' AND NOT active"); err != nil {
		return "", err
	}
	fmt.Printf("writing a table of %d rows …\n", rows)
	for _, sql := range []string{"SET synchronous_commit = off", "TRUNCATE bench_loans", fmt.Sprintf(benchRow, 1, rows), "VACUUM ANALYZE bench_loans", "CHECKPOINT"} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return "", err
		}
	}
	var raws []float64
	ours := map[string][]*measured{}
	kinds := []string{"range", "key"}
	rounds := b.rounds
	if rows >= b.huge {
		rounds = 1 // it is about memory
	}
	for round := range rounds {
		began := time.Now()
		if _, err := conn.PgConn().CopyTo(ctx, io.Discard, "COPY bench_loans TO STDOUT"); err != nil {
			return "", err
		}
		raws = append(raws, float64(rows)/time.Since(began).Seconds())
		line := fmt.Sprintf("  round %d: COPY %.0f rows/s", round+1, raws[round])
		for _, kind := range kinds {
			m, err := b.loadOnce(ctx, kind, rows, fmt.Sprintf("load-%s-%d-%d", kind, rows, round))
			if err != nil {
				return "", err
			}
			ours[kind] = append(ours[kind], m)
			line += fmt.Sprintf(", by %s %.0f (%.2f cores, %.0f MiB)", kind, float64(rows)/m.took.Seconds(), m.cpu, m.peak)
		}
		fmt.Println(line)
	}
	report := ""
	for _, kind := range kinds {
		var rates, cpus, peaks []float64
		for _, m := range ours[kind] {
			rates, cpus, peaks = append(rates, float64(rows)/m.took.Seconds()), append(cpus, m.cpu), append(peaks, m.peak)
		}
		report += fmt.Sprintf("| %d rows, by %s | %.0f | %.0f | %.2f | %.2f | %.0f MiB |\n", rows, kind, median(raws), median(rates), median(rates)/median(raws), median(cpus), median(peaks))
	}
	return report, nil
}

// loadOnce loads the table into a new journal and measures from the load's
// beginning to its last row's block.
func (b *bed) loadOnce(ctx context.Context, kind string, rows int, name string) (*measured, error) {
	i, err := b.serve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer i.stop()
	definition := map[string]any{"engine": "postgresql", "mode": "load-only", "tables": []map[string]string{{"match": "public.bench_loans", "load_by": kind}},
		"connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": "circulation", "user": "postgres", "tls": "disable",
			"password": "${file:" + b.source.PasswordFile() + "}"}}
	if err := i.post(ctx, "/v1/sources/circulation", definition); err != nil {
		return nil, err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return nil, err
	}
	// Making the slot is not part of the load: wait for its first event.
	next := func() (n int64, err error) {
		err = i.state.QueryRow(ctx, "SELECT next_offset FROM rillmark.journal_head").Scan(&n)
		return n, err
	}
	var began time.Time
	var used time.Duration
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(2 * time.Millisecond) {
		n, err := next()
		if err != nil {
			return nil, err
		}
		if began.IsZero() && n > 1 {
			began = time.Now()
			if used, err = i.cpu(); err != nil {
				return nil, err
			}
		}
		if n > int64(rows)+3 { // schema, void, rows, loaded
			break
		}
		if time.Now().After(deadline) {
			return nil, errors.New("the load does not end: " + i.log.String())
		}
	}
	took := time.Since(began)
	after, err := i.cpu()
	if err != nil {
		return nil, err
	}
	// It takes its slot away by itself; the next load needs the name.
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		var done bool
		if err := i.state.QueryRow(ctx, "SELECT bool_and(state = 'loaded') FROM rillmark.source_table").Scan(&done); err != nil {
			return nil, err
		}
		if done {
			break
		}
		if time.Now().After(deadline) {
			return nil, errors.New("the load does not come to its end: " + i.log.String())
		}
	}
	return &measured{took: took, cpu: (after - used).Seconds() / took.Seconds(), peak: i.peak()}, nil
}
