// Package state is the schema of the state database, and brings a database to it.
package state

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

//go:embed migrations/*.sql
var migrations embed.FS

// migrationLock keeps two instances from migrating at once: "rillmark" in ASCII.
const migrationLock = 0x72696c6c6d61726b

// Migrate brings the state database to this version's schema, each step in a
// transaction of its own. A database that a later version has migrated is
// refused.
func Migrate(ctx context.Context, pool *pgxpool.Pool) error {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", int64(migrationLock)); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", int64(migrationLock)) //nolint:errcheck // the session's end unlocks too
	if _, err := conn.Exec(ctx, `CREATE SCHEMA IF NOT EXISTS rillmark;
		CREATE TABLE IF NOT EXISTS rillmark.migration (number integer PRIMARY KEY, name text NOT NULL, at timestamptz NOT NULL DEFAULT now())`); err != nil {
		return fmt.Errorf("preparing the state database: %w", err)
	}
	var done int
	if err := conn.QueryRow(ctx, "SELECT coalesce(max(number), 0) FROM rillmark.migration").Scan(&done); err != nil {
		return err
	}
	if done > len(files) {
		return fmt.Errorf("the state database is at migration %d, this version knows %d: run the version that migrated it, or a later one", done, len(files))
	}
	for _, file := range files {
		name := path.Base(file)
		number, err := strconv.Atoi(strings.SplitN(name, "_", 2)[0])
		if err != nil {
			return fmt.Errorf("migration %s: %w", name, err)
		}
		if number <= done {
			continue
		}
		text, err := migrations.ReadFile(file)
		if err != nil {
			return err
		}
		if err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, string(text)); err != nil {
				return err
			}
			_, err := tx.Exec(ctx, "INSERT INTO rillmark.migration (number, name) VALUES ($1, $2)", number, name)
			return err
		}); err != nil {
			return fmt.Errorf("migration %s of the state database: %w", name, err)
		}
	}
	return nil
}
