package main

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"
)

// comparedMaria measures the comparison of a table that two MariaDB servers have, beside a
// SELECT of all rows by a client.
func (b *bed) comparedMaria(ctx context.Context) (string, error) {
	t, stop, err := b.startReplicas(ctx)
	defer stop()
	if err != nil {
		return "", err
	}
	if err := runMaria(ctx, t.primaryDB, append(append([]string{}, mariaTargetTables...), fmt.Sprintf(mariaWide, 1, b.large))...); err != nil {
		return "", err
	}
	i, err := b.serve(ctx, "mirror-maria")
	if err != nil {
		return "", err
	}
	defer i.stop()
	for _, one := range []struct {
		path string
		body map[string]any
	}{
		{"/v1/sources/catalogue", map[string]any{"engine": "mariadb", "tables": []map[string]string{{"match": "bench.bench_rows"}}, "connection": map[string]any{"host": "127.0.0.1", "port": t.primary.Port, "user": "keeper", "tls": "disable", "password": "${file:" + t.primary.PasswordFile() + "}"}}},
		{"/v1/destinations/there", map[string]any{"kind": "mariadb", "mariadb": map[string]any{"host": "127.0.0.1", "port": t.target.Port, "user": "keeper", "tls": "disable", "password": "${file:" + t.target.PasswordFile() + "}"}}},
		{"/v1/outlets/there", map[string]any{"source": "catalogue", "destination": "there", "mariadb": map[string]any{"schema": "copied"}}},
		{"/v1/sources/catalogue/resume", map[string]any{}},
	} {
		if err := i.post(ctx, one.path, one.body); err != nil {
			return "", err
		}
	}
	if err := loadedMaria(ctx, t.intoDB, b.large); err != nil {
		return "", fmt.Errorf("%w: %s", err, i.log)
	}
	if err := i.phase(ctx, "running"); err != nil {
		return "", err
	}
	var selects, verifies []float64
	for round := range b.rounds {
		began := time.Now()
		rows, err := t.primaryDB.QueryContext(ctx, "SELECT * FROM bench.bench_rows")
		if err != nil {
			return "", err
		}
		for rows.Next() {
		}
		if err := rows.Err(); err != nil {
			return "", err
		}
		selects = append(selects, time.Since(began).Seconds())
		began = time.Now()
		if err := i.verify(ctx, "there"); err != nil {
			return "", err
		}
		verifies = append(verifies, time.Since(began).Seconds())
		fmt.Printf("  MariaDB, round %d: SELECT %.1f s, verify %.1f s\n", round+1, selects[round], verifies[round])
	}
	return fmt.Sprintf("| a table of %d rows, kept in another MariaDB | |\n|---|---:|\n| SELECT of all rows by a client | %.2f s |\n| verify, both sides | %.2f s (%.2f times that) |\n",
		b.large, median(selects), median(verifies), median(verifies)/median(selects)), nil
}

// loadedMaria waits until a table has all its rows.
func loadedMaria(ctx context.Context, db *sql.DB, rows int) error {
	for began := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		var last sql.NullInt64
		err := db.QueryRowContext(ctx, "SELECT max(id) FROM copied.bench_rows").Scan(&last)
		if err != nil && !strings.Contains(err.Error(), "exist") { // not yet
			return err
		}
		if last.Int64 >= int64(rows) {
			return nil
		}
		if time.Since(began) > 5*time.Minute {
			return fmt.Errorf("only %d of %d rows came", last.Int64, rows)
		}
	}
}
