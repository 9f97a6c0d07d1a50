package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// manyTables is how many tables a wide database has.
const manyTables = 2000

// wide measures a database of many small tables: how long their load takes, and how
// long after its commit a transaction that changes each of them once is in the journal,
// as it comes first and after a restart, beside the bare commit.
func (b *bed) wide(ctx context.Context) (string, error) {
	if _, err := b.source.Database(ctx, "wide", "postgres"); err != nil {
		return "", err
	}
	conn, err := b.source.Connect(ctx, "wide")
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	fmt.Printf("making %d tables …\n", manyTables)
	for n := 0; n < manyTables; n += 200 { // all in one would need more locks than there are
		if _, err := conn.Exec(ctx, fmt.Sprintf(`DO $$ BEGIN FOR n IN %d..%d LOOP
			EXECUTE format('CREATE TABLE shelf_%%s (id bigint PRIMARY KEY, note text NOT NULL, lent_on date)', n);
			EXECUTE format('INSERT INTO shelf_%%s SELECT k, ''on its shelf'', ''2026-11-25'' FROM generate_series(1, 10) k', n);
			END LOOP; END $$`, n+1, n+200)); err != nil {
			return "", err
		}
	}
	i, err := b.serve(ctx, "wide")
	if err != nil {
		return "", err
	}
	defer func() {
		i.stop()
		dropSlot(context.WithoutCancel(ctx), conn.PgConn(), "rillmark_circulation") //nolint:errcheck // the next source says so
	}()
	if err := i.post(ctx, "/v1/sources/circulation", map[string]any{"engine": "postgresql", "tables": []map[string]string{{"match": "public.*"}},
		"connection": map[string]any{"host": "127.0.0.1", "port": b.port + 2, "database": "wide", "user": "postgres", "tls": "disable",
			"password": "${file:" + b.source.PasswordFile() + "}"}}); err != nil {
		return "", err
	}
	began := time.Now()
	if err := i.post(ctx, "/v1/sources/circulation/resume", map[string]string{}); err != nil {
		return "", err
	}
	if err := following(ctx, i); err != nil {
		return "", err
	}
	loaded := time.Since(began)
	report := fmt.Sprintf("| %d tables | |\n|---|---:|\n| loaded, from the start of capture | %.1f s |\n", manyTables, loaded.Seconds())
	for _, when := range []string{"changed once each, for the first time", "again", "after a restart"} {
		if when == "after a restart" {
			i.stop()
			if i, err = b.start(ctx, "wide"); err != nil {
				return "", err
			}
			if err := i.phase(ctx, "running"); err != nil {
				return "", err
			}
		}
		took, bare, err := b.changeEach(ctx, i, conn)
		if err != nil {
			return "", err
		}
		report += fmt.Sprintf("| %s: the commit | %.2f s |\n| …, in the journal after that | %.2f s |\n", when, bare.Seconds(), took.Seconds())
	}
	return report + fmt.Sprintf("| peak memory | %.0f MiB |\n", i.peak()), nil
}

// changeEach changes a row of every table in one transaction, and measures the commit
// and from there until all is in the journal.
func (b *bed) changeEach(ctx context.Context, i *instance, conn *pgx.Conn) (took, bare time.Duration, err error) {
	var next int64
	if err := i.state.QueryRow(ctx, "SELECT next_offset FROM rillmark.journal_head").Scan(&next); err != nil {
		return 0, 0, err
	}
	tx, err := conn.Begin(ctx)
	if err != nil {
		return 0, 0, err
	}
	defer tx.Rollback(ctx) //nolint:errcheck // it is committed where all went well
	if _, err := tx.Exec(ctx, fmt.Sprintf(`DO $$ BEGIN FOR n IN 1..%d LOOP EXECUTE format('UPDATE shelf_%%s SET lent_on = lent_on + 1 WHERE id = 5', n); END LOOP; END $$`, manyTables)); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	if err := tx.Commit(ctx); err != nil {
		return 0, 0, err
	}
	committed := time.Now()
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(2 * time.Millisecond) {
		var now int64
		if err := i.state.QueryRow(ctx, "SELECT next_offset FROM rillmark.journal_head").Scan(&now); err != nil {
			return 0, 0, err
		}
		if now >= next+manyTables {
			return time.Since(committed), committed.Sub(began), nil
		}
		if time.Now().After(deadline) {
			return 0, 0, fmt.Errorf("only %d of %d changes came: %s", now-next, manyTables, i.log)
		}
	}
}

// following waits until every table is loaded and followed.
func following(ctx context.Context, i *instance) error {
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(20 * time.Millisecond) {
		var n int
		if err := i.state.QueryRow(ctx, "SELECT count(*) FROM rillmark.source_table WHERE state = 'following'").Scan(&n); err != nil {
			return err
		}
		if n == manyTables {
			return nil
		}
		if time.Now().After(deadline) {
			return errors.New("the load does not end: " + i.log.String())
		}
	}
}
