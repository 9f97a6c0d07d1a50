package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/demo"
)

// databaseWork is written once into the source, followed into a journal, and taken from
// there into a target; beside it PostgreSQL's own subscription does the same work.
type databaseWork struct {
	name, slot string
	// prepare is what source and targets have before it, write the work itself.
	prepare, write []string
	events         int
}

const wideRow = "INSERT INTO bench_rows SELECT i, 9007199254740993 + i, i %% 3000, 'K-' || i %% 97 || '.' || i %% 13, 'lent at the desk, ' || md5(i::text), (i %% 4000) / 100.0, clock_timestamp() FROM generate_series(%d, %d) i"

func (b *bed) databaseWorks() []databaseWork {
	rows := fmt.Sprintf(wideRow, 1, b.large)
	return []databaseWork{
		{name: fmt.Sprintf("%d transactions of one row", b.small), slot: "target_small", events: b.small,
			write: []string{fmt.Sprintf("DO $$ BEGIN FOR n IN 1..%d LOOP ", b.small) + strings.ReplaceAll(fmt.Sprintf(wideRow, 0, 0), "generate_series(0, 0)", "generate_series(n, n)") + "; COMMIT; END LOOP; END $$"}},
		{name: fmt.Sprintf("one transaction that inserts %d rows", b.large), slot: "target_large", events: b.large, write: []string{rows}},
		{name: "300000 updates and 200000 deletes, a transaction each", slot: "target_mixed", events: 500_000, prepare: []string{rows},
			write: []string{"UPDATE bench_rows SET note = 'returned, ' || md5((id * 3)::text), price = price + 1 WHERE id % 5 = 0 AND id <= 1500000", "DELETE FROM bench_rows WHERE id % 15 IN (1, 2) AND id <= 1500000"}},
	}
}

var databaseTables = []string{"CREATE TABLE bench_rows (id bigint PRIMARY KEY, copy_id bigint NOT NULL, patron_id int NOT NULL, shelf_mark text, note text, price numeric(8,2), lent_at timestamptz)",
	"CREATE TABLE bench_done (n int PRIMARY KEY)"}

// databases measures outlets to a database.
func (b *bed) databases(ctx context.Context) (string, error) {
	target := &demo.Cluster{Folder: filepath.Join(b.folder, "target"), Port: b.port + 5, Settings: map[string]string{"shared_buffers": "512MB", "max_wal_size": "8GB", "wal_receiver_status_interval": "1s"}}
	if err := target.Start(ctx); err != nil {
		return "", err
	}
	defer target.Stop()
	replicas, stop, err := b.startReplicas(ctx)
	defer stop()
	if err != nil {
		return "", err
	}
	beside := "\n| journal → MariaDB | its own replica, events/s | ours, events/s | ratio | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|\n"
	report := "| journal → PostgreSQL | its own subscription, events/s | ours, events/s | ratio | CPU of ours, cores | peak memory |\n|---|---:|---:|---:|---:|---:|\n"
	for _, w := range b.databaseWorks() {
		if !strings.Contains(w.name, b.match) {
			continue
		}
		line, maria, err := b.databaseWork(ctx, target, replicas, w)
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.name, err)
		}
		report, beside = report+line, beside+maria
	}
	return report + beside, nil
}

func execute(ctx context.Context, conn *pgx.Conn, statements ...string) error {
	for _, sql := range statements {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return fmt.Errorf("%.60s: %w", sql, err)
		}
	}
	return nil
}

func (b *bed) databaseWork(ctx context.Context, target *demo.Cluster, replicas *mariaTargets, w databaseWork) (line, beside string, err error) {
	fmt.Printf("writing %s …\n", w.name)
	if _, err := b.source.Database(ctx, w.slot, "postgres"); err != nil {
		return "", "", err
	}
	source, err := b.source.Connect(ctx, w.slot)
	if err != nil {
		return "", "", err
	}
	defer source.Close(ctx) //nolint:errcheck // nothing is open on it
	steps := append([]string{"SET synchronous_commit = off"}, databaseTables...)
	steps = append(append(steps, w.prepare...), "CREATE PUBLICATION bench FOR TABLE bench_rows, bench_done", "SELECT pg_create_logical_replication_slot('"+w.slot+"', 'pgoutput')")
	steps = append(append(steps, w.write...), "INSERT INTO bench_done VALUES (1)", "CHECKPOINT")
	if err := execute(ctx, source, steps...); err != nil {
		return "", "", err
	}
	defer execute(context.WithoutCancel(ctx), source, "SELECT pg_drop_replication_slot('"+w.slot+"')") //nolint:errcheck // the server goes too
	admin, err := target.Connect(ctx, "postgres")
	if err != nil {
		return "", "", err
	}
	defer admin.Close(ctx) //nolint:errcheck // nothing is open on it
	if err := execute(ctx, admin, "CREATE DATABASE base_"+w.slot); err != nil {
		return "", "", err
	}
	base, err := target.Connect(ctx, "base_"+w.slot)
	if err != nil {
		return "", "", err
	}
	err = execute(ctx, base, append(append(append([]string{}, databaseTables...), w.prepare...), "VACUUM ANALYZE")...)
	base.Close(ctx) //nolint:errcheck // nothing is open on it
	if err != nil {
		return "", "", err
	}
	copied := w.slot + "_ours"
	if err := execute(ctx, source, fmt.Sprintf("SELECT pg_copy_logical_replication_slot('%s', '%s')", w.slot, copied)); err != nil {
		return "", "", err
	}
	i, err := b.serve(ctx, w.slot)
	if err != nil {
		return "", "", err
	}
	defer func() { i.stop() }()
	if err := b.journaled(ctx, i, w, copied); err != nil {
		return "", "", err
	}
	var raws, rates, cpus, peaks []float64
	for round := range b.rounds {
		raw, err := b.subscribe(ctx, source, target, admin, w, round)
		if err != nil {
			return "", "", fmt.Errorf("subscription: %w", err)
		}
		raws = append(raws, float64(w.events)/raw.Seconds())
		m, err := b.intoTarget(ctx, &i, target, admin, w, round)
		if err != nil {
			return "", "", err
		}
		rates, cpus, peaks = append(rates, float64(w.events)/m.took.Seconds()), append(cpus, m.cpu), append(peaks, m.peak)
		fmt.Printf("  round %d: subscription %.0f, ours %.0f events/s, %.2f cores, %.0f MiB\n", round+1, raws[round], rates[round], cpus[round], peaks[round])
	}
	if beside, err = b.mariaTarget(ctx, &i, replicas, w); err != nil {
		return "", "", fmt.Errorf("MariaDB: %w", err)
	}
	raw, rate := median(raws), median(rates)
	return fmt.Sprintf("| %s | %.0f | %.0f | %.2f | %.2f | %.0f MiB |\n", w.name, raw, rate, rate/raw, median(cpus), median(peaks)), beside, nil
}

// journaled follows a slot until the work is in the journal.
func (b *bed) journaled(ctx context.Context, i *instance, w databaseWork, slot string) error {
	definition := map[string]any{"engine": "postgresql", "mode": "follow-only", "tables": []map[string]string{{"match": "public.*"}},
		"connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": w.slot, "user": "postgres", "tls": "disable", "slot": slot, "publication": "bench",
			"password": "${file:" + b.source.PasswordFile() + "}"}}
	if err := i.post(ctx, "/v1/sources/circulation", definition); err != nil {
		return err
	}
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return err
	}
	return i.filledTo(ctx, int64(w.events)+3, time.Now()) // two schema events, and the last row
}

// ready makes a round's database anew.
func ready(ctx context.Context, admin *pgx.Conn, name, base string) error {
	return execute(ctx, admin, "DROP DATABASE IF EXISTS "+name+" WITH (FORCE)", "CREATE DATABASE "+name+" TEMPLATE "+base+" STRATEGY file_copy", "CHECKPOINT")
}

// done waits for the work's last row.
func done(ctx context.Context, conn *pgx.Conn, began time.Time) (time.Duration, error) {
	for {
		var there bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM bench_done)").Scan(&there); err != nil {
			return 0, err
		}
		if there {
			return time.Since(began), nil
		}
		if time.Since(began) > 5*time.Minute {
			return 0, errors.New("the work does not end")
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// subscribe measures PostgreSQL's own subscription, whose slot lies before the work.
func (b *bed) subscribe(ctx context.Context, source *pgx.Conn, target *demo.Cluster, admin *pgx.Conn, w databaseWork, round int) (time.Duration, error) {
	name := fmt.Sprintf("%s_s%d", w.slot, round)
	if err := ready(ctx, admin, name, "base_"+w.slot); err != nil {
		return 0, err
	}
	conn, err := target.Connect(ctx, name)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	password, err := os.ReadFile(b.source.PasswordFile())
	if err != nil {
		return 0, err
	}
	if err := execute(ctx, source, fmt.Sprintf("SELECT pg_copy_logical_replication_slot('%s', '%s')", w.slot, name)); err != nil {
		return 0, err
	}
	connection := fmt.Sprintf("host=127.0.0.1 port=%d dbname=%s user=postgres password=%s", b.port+2, w.slot, strings.TrimSpace(string(password)))
	if err := execute(ctx, conn, fmt.Sprintf("CREATE SUBSCRIPTION %s CONNECTION '%s' PUBLICATION bench WITH (create_slot = false, copy_data = false, enabled = false, slot_name = '%[1]s')", name, connection)); err != nil {
		return 0, err
	}
	began := time.Now()
	if err := execute(ctx, conn, "ALTER SUBSCRIPTION "+name+" ENABLE"); err != nil {
		return 0, err
	}
	took, err := done(ctx, conn, began)
	if err != nil {
		return 0, err
	}
	return took, execute(ctx, conn, "ALTER SUBSCRIPTION "+name+" DISABLE", "DROP SUBSCRIPTION "+name)
}

// intoTarget measures one outlet; the service is started anew for it.
func (b *bed) intoTarget(ctx context.Context, i **instance, target *demo.Cluster, admin *pgx.Conn, w databaseWork, round int) (*measured, error) {
	name := fmt.Sprintf("%s_o%d", w.slot, round)
	if err := ready(ctx, admin, name, "base_"+w.slot); err != nil {
		return nil, err
	}
	conn, err := target.Connect(ctx, name)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	if err := b.again(ctx, i, w.slot, false); err != nil {
		return nil, err
	}
	to := fmt.Sprintf("o%d", round)
	if err := (*i).post(ctx, "/v1/destinations/"+to, map[string]any{"kind": "postgresql", "postgresql": map[string]any{"host": "127.0.0.1", "port": b.port + 5, "database": name, "user": "postgres",
		"tls": "disable", "password": "${file:" + target.PasswordFile() + "}"}}); err != nil {
		return nil, err
	}
	before, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := (*i).post(ctx, "/v1/outlets/"+to, map[string]any{"source": "circulation", "destination": to, "postgresql": map[string]any{"present": "keep"}}); err != nil {
		return nil, err
	}
	took, err := done(ctx, conn, began)
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, (*i).log)
	}
	after, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	return &measured{took: took, cpu: (after - before).Seconds() / took.Seconds(), peak: (*i).peak()}, (*i).post(ctx, "/v1/outlets/"+to+"/pause", map[string]string{})
}
