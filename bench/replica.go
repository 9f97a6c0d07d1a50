package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"rillmark/internal/demo"
)

// mariaTargets are two servers beside each other: a primary on which the work is written as
// MariaDB's own statements, and the target, which is its replica for the baseline.
type mariaTargets struct {
	primary, target   *demo.MariaDB
	primaryDB, intoDB *sql.DB
}

var mariaTargetSettings = map[string]string{"innodb-flush-log-at-trx-commit": "2", "sync-binlog": "0", "innodb-buffer-pool-size": "512M", "innodb-log-file-size": "512M", "max-binlog-size": "1073741824", "log-slave-updates": "1"}

func (b *bed) startReplicas(ctx context.Context) (*mariaTargets, func(), error) {
	t := new(mariaTargets)
	stop := func() {
		for _, m := range []*demo.MariaDB{t.primary, t.target} {
			if m != nil {
				m.Stop()
			}
		}
	}
	for n, one := range []**demo.MariaDB{&t.primary, &t.target} {
		settings := map[string]string{"server-id": fmt.Sprint(71 + n), "gtid-domain-id": fmt.Sprint(n)}
		for name, value := range mariaTargetSettings {
			settings[name] = value
		}
		m := &demo.MariaDB{Folder: filepath.Join(b.folder, fmt.Sprintf("mariadb-target-%d", n)), Port: b.port + 6 + n, Settings: settings}
		if err := m.Start(ctx); err != nil {
			return nil, stop, err
		}
		*one = m
		if err := m.Login(ctx, "keeper", "ALL PRIVILEGES ON *.*"); err != nil {
			return nil, stop, err
		}
	}
	var err error
	if t.primaryDB, err = t.primary.Connect(ctx, ""); err == nil {
		t.intoDB, err = t.target.Connect(ctx, "")
	}
	if err == nil { // what is set holds for the next statement
		t.primaryDB.SetMaxOpenConns(1)
		t.intoDB.SetMaxOpenConns(1)
	}
	return t, stop, err
}

func runMaria(ctx context.Context, db *sql.DB, statements ...string) error {
	for _, one := range statements {
		if _, err := db.ExecContext(ctx, one); err != nil {
			return fmt.Errorf("%.60s: %w", one, err)
		}
	}
	return nil
}

const mariaWide = "INSERT INTO bench.bench_rows SELECT seq, 9007199254740993 + seq, seq %% 3000, concat('K-', seq %% 97, '.', seq %% 13), concat('lent at the desk, ', md5(seq)), (seq %% 4000) / 100.0, now(6) FROM seq_%d_to_%d"

// mariaWorkOf is what a work is in MariaDB's statements: what is there before, and the work.
func (b *bed) mariaWorkOf(w databaseWork) (prepare, write []string) {
	rows := fmt.Sprintf(mariaWide, 1, b.large)
	switch {
	case strings.HasPrefix(w.slot, "target_small"):
		one := strings.ReplaceAll(strings.Split(fmt.Sprintf(mariaWide, 0, 0), " FROM ")[0], "seq", "n")
		return nil, []string{fmt.Sprintf("BEGIN NOT ATOMIC DECLARE n bigint DEFAULT 1; WHILE n <= %d DO %s; SET n = n + 1; END WHILE; END", b.small, one)}
	case strings.HasPrefix(w.slot, "target_large"):
		return nil, []string{rows}
	}
	return []string{rows}, []string{"UPDATE bench.bench_rows SET note = concat('returned, ', md5(id * 3)), price = price + 1 WHERE id % 5 = 0 AND id <= 1500000", "DELETE FROM bench.bench_rows WHERE id % 15 IN (1, 2) AND id <= 1500000"}
}

var mariaTargetTables = []string{"DROP DATABASE IF EXISTS bench", "CREATE DATABASE bench", "USE bench", "CREATE TABLE bench.bench_rows (id bigint PRIMARY KEY, copy_id bigint NOT NULL, patron_id int NOT NULL, shelf_mark varchar(40), note varchar(200), price decimal(8,2), lent_at datetime(6)) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin",
	"CREATE TABLE bench.bench_done (n int PRIMARY KEY)"}

func (b *bed) mariaDone(ctx context.Context, db *sql.DB, began time.Time) (time.Duration, error) {
	for {
		var there int
		if err := db.QueryRowContext(ctx, "SELECT count(*) FROM bench.bench_done").Scan(&there); err != nil {
			return 0, err
		}
		if there > 0 {
			return time.Since(began), nil
		}
		if time.Since(began) > 5*time.Minute {
			return 0, errors.New("the work does not end")
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// replicate measures the server's own replica on the work.
func (b *bed) replicate(ctx context.Context, t *mariaTargets, w databaseWork) (time.Duration, error) {
	prepare, write := b.mariaWorkOf(w)
	if err := runMaria(ctx, t.intoDB, "STOP SLAVE"); err != nil {
		return 0, err
	}
	if err := runMaria(ctx, t.primaryDB, append(append([]string{"SET sql_log_bin = 0"}, mariaTargetTables...), prepare...)...); err != nil {
		return 0, err
	}
	if err := runMaria(ctx, t.intoDB, append(append([]string{}, mariaTargetTables...), prepare...)...); err != nil {
		return 0, err
	}
	password, err := t.primary.Password()
	if err != nil {
		return 0, err
	}
	var file, position, do, ignore string
	if _, err := t.primaryDB.ExecContext(ctx, "RESET MASTER"); err != nil {
		return 0, err
	}
	if err := t.primaryDB.QueryRowContext(ctx, "SHOW MASTER STATUS").Scan(&file, &position, &do, &ignore); err != nil {
		return 0, err
	}
	for _, one := range append(append([]string{"SET sql_log_bin = 1"}, write...), "INSERT INTO bench.bench_done VALUES (1)") {
		if _, err := t.primaryDB.ExecContext(ctx, one); err != nil {
			return 0, fmt.Errorf("%.60s: %w", one, err)
		}
	}
	if err := runMaria(ctx, t.intoDB, "RESET SLAVE ALL", fmt.Sprintf("CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = %d, MASTER_USER = 'keeper', MASTER_PASSWORD = '%s', MASTER_LOG_FILE = '%s', MASTER_LOG_POS = %s, MASTER_USE_GTID = no", t.primary.Port, password, file, position)); err != nil {
		return 0, err
	}
	began := time.Now()
	if err := runMaria(ctx, t.intoDB, "START SLAVE"); err != nil {
		return 0, err
	}
	took, err := b.mariaDone(ctx, t.intoDB, began)
	if err != nil {
		return 0, err
	}
	return took, runMaria(ctx, t.intoDB, "STOP SLAVE", "RESET SLAVE ALL")
}

// intoMaria measures one outlet on the work, from the journal of PostgreSQL's.
func (b *bed) intoMaria(ctx context.Context, i **instance, t *mariaTargets, w databaseWork, round int) (*measured, error) {
	prepare, _ := b.mariaWorkOf(w)
	if err := runMaria(ctx, t.intoDB, append(append([]string{}, mariaTargetTables...), prepare...)...); err != nil {
		return nil, err
	}
	if err := b.again(ctx, i, w.slot, false); err != nil {
		return nil, err
	}
	to := fmt.Sprintf("m%d", round)
	if err := (*i).post(ctx, "/v1/destinations/"+to, map[string]any{"kind": "mariadb", "mariadb": map[string]any{"host": "127.0.0.1", "port": t.target.Port, "user": "keeper", "tls": "disable", "password": "${file:" + t.target.PasswordFile() + "}"}}); err != nil {
		return nil, err
	}
	before, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if err := (*i).post(ctx, "/v1/outlets/"+to, map[string]any{"source": "circulation", "destination": to, "mariadb": map[string]any{"schema": "bench", "present": "keep", "offsets": fmt.Sprintf("rillmark_%s_%d.outlets", w.slot, round)}}); err != nil {
		return nil, err
	}
	took, err := b.mariaDone(ctx, t.intoDB, began)
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, (*i).log)
	}
	after, err := (*i).cpu()
	if err != nil {
		return nil, err
	}
	return &measured{took: took, cpu: (after - before).Seconds() / took.Seconds(), peak: (*i).peak()}, (*i).post(ctx, "/v1/outlets/"+to+"/pause", map[string]string{})
}

// mariaTarget compares both on a work, whose events are in the journal.
func (b *bed) mariaTarget(ctx context.Context, i **instance, t *mariaTargets, w databaseWork) (string, error) {
	var raws, rates, cpus, peaks []float64
	for round := range b.rounds {
		raw, err := b.replicate(ctx, t, w)
		if err != nil {
			return "", fmt.Errorf("replica: %w", err)
		}
		m, err := b.intoMaria(ctx, i, t, w, round)
		if err != nil {
			return "", err
		}
		raws, rates = append(raws, float64(w.events)/raw.Seconds()), append(rates, float64(w.events)/m.took.Seconds())
		cpus, peaks = append(cpus, m.cpu), append(peaks, m.peak)
		fmt.Printf("  MariaDB, round %d: replica %.0f, ours %.0f events/s, %.2f cores, %.0f MiB\n", round+1, raws[round], rates[round], cpus[round], peaks[round])
	}
	raw, rate := median(raws), median(rates)
	return fmt.Sprintf("| %s | %.0f | %.0f | %.2f | %.2f | %.0f MiB |\n", w.name, raw, rate, rate/raw, median(cpus), median(peaks)), nil
}
