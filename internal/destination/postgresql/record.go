package postgresql

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/postgres/session"
)

// offsetsTable is the quoted name of the table of offsets, and its schema's.
func (o *OutletSettings) offsetsTable() (schema, name string) {
	schema, name = o.OffsetsTable()
	return quoted(schema), quoted(schema) + "." + quoted(name)
}

// createOffsets makes the table of offsets, and its schema where that is not there: IF NOT EXISTS
// asks for the right to make one in any case.
func createOffsets(schema, name string) []string {
	return []string{"DO " + session.DollarTag(schema) + " BEGIN IF to_regnamespace(" + literal(schema) + ") IS NULL THEN CREATE SCHEMA " + schema + "; END IF; END " + session.DollarTag(schema),
		"CREATE TABLE IF NOT EXISTS " + name + ` (
	token uuid PRIMARY KEY,             -- the outlet's own, whatever its name
	outlet text NOT NULL,
	run integer NOT NULL,               -- counts its rewinds
	"offset" bigint NOT NULL,           -- everything up to it is in the tables
	committed_at timestamptz,           -- when that was committed at the source
	epoch bigint NOT NULL,              -- whoever delivers takes the next one
	session integer NOT NULL,           -- its session's process id
	tables jsonb NOT NULL DEFAULT '{}'
)`}
}

// TakeOver implements [sql.Database].
func (d *database) TakeOver(ctx context.Context, o destination.Outlet) (*sql.Record, error) {
	schema, name := d.options.offsetsTable()
	there, err := d.hasOffsets(ctx)
	if err != nil {
		return nil, err
	}
	if !there {
		// Of several outlets that begin at once, one makes it.
		statements := append(append([]string{"BEGIN", "SELECT pg_advisory_xact_lock(hashtext('rillmark'))"}, createOffsets(schema, name)...), "COMMIT")
		for _, statement := range statements {
			if err := d.exec(ctx, statement); err != nil {
				return nil, err
			}
		}
	}
	if err := d.endEarlier(ctx); err != nil {
		return nil, err
	}
	r := new(sql.Record)
	var raw []byte
	err = d.conn.QueryRow(ctx, `INSERT INTO `+name+` AS o (token, outlet, run, "offset", epoch, session) VALUES ($1, $2, $3, $4, 1, pg_backend_pid())
		ON CONFLICT (token) DO UPDATE SET epoch = o.epoch + 1, outlet = excluded.outlet, session = excluded.session RETURNING run, "offset", epoch, tables`,
		o.Token, o.Name, o.Run, o.Committed).Scan(&r.Run, &r.Offset, &d.epoch, &raw)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &r.Tables); err != nil {
		return nil, fmt.Errorf("reading the outlet's row of %s: %w", name, err)
	}
	return r, nil
}

// hasOffsets reports whether the table of offsets is there.
func (d *database) hasOffsets(ctx context.Context) (there bool, err error) {
	schema, name := d.options.OffsetsTable()
	err = d.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2)", schema, name).Scan(&there)
	return there, err
}

// endEarlier ends the session that wrote for this outlet last, which may only have been taken
// for dead. Another outlet that has the same name, of another service, keeps its own.
func (d *database) endEarlier(ctx context.Context) error {
	_, name := d.options.offsetsTable()
	_, err := d.conn.Exec(ctx, `SELECT pg_terminate_backend(a.pid) FROM `+name+` o JOIN pg_stat_activity a ON a.pid = o.session
		WHERE o.token = $1 AND a.application_name = $2 AND a.datname = current_database() AND a.pid <> pg_backend_pid()`, d.outlet.Token, sql.SessionName(d.outlet))
	if err != nil {
		return fmt.Errorf("ending an earlier session of the outlet: %w", err)
	}
	return nil
}

// WriteRecord implements [sql.Database].
func (d *database) WriteRecord(ctx context.Context, r *sql.Record) error {
	_, name := d.options.offsetsTable()
	var tables, at any
	if r.TablesChanged {
		raw, _ := json.Marshal(r.Tables) // strings and numbers always marshal
		tables = string(raw)
	}
	if !r.Committed.IsZero() {
		at = r.Committed
	}
	tag, err := d.conn.Exec(ctx, `UPDATE `+name+` SET run = $6, "offset" = $2, committed_at = coalesce($3, committed_at), tables = coalesce($4::text::jsonb, tables) WHERE token = $1 AND epoch = $5`,
		d.outlet.Token, r.Offset, at, tables, d.epoch, r.Run)
	if err == nil && tag.RowsAffected() == 0 {
		err = sql.ErrFenced
	}
	return err
}

// Other implements [sql.Database].
func (d *database) Other(ctx context.Context, target string) (other string, err error) {
	_, name := d.options.offsetsTable()
	err = d.conn.QueryRow(ctx, `SELECT outlet FROM `+name+` o, jsonb_each(o.tables) one WHERE o.token <> $1 AND one.value ->> 'target' = $2 LIMIT 1`, d.outlet.Token, target).Scan(&other)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return other, err
}
