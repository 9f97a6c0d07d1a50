package postgresql

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
)

// state is what the database itself keeps of an outlet, in the table of offsets. It is
// written in the transactions that write rows.
type state struct {
	Offset int64
	// Tables are those that the outlet writes, by their names in the source.
	Tables map[string]*tableState
}

// tableState is what is kept of one table.
type tableState struct {
	// Target is the table's quoted name here.
	Target string `json:"target"`
	// Keep is how its rows are kept.
	Keep sql.Keep `json:"keep"`
	// Rewound says that all of it comes again: the table may be made anew.
	Rewound bool `json:"rewound,omitempty"`
	// Loading is the quoted name of the table with the keys that a load has brought so
	// far; empty where none is under way.
	Loading string `json:"loading,omitempty"`
	// Kept says that the rows that were there at the start stay until the load is complete
	// that was under way then.
	Kept bool `json:"kept,omitempty"`
	// Since is the offset from which on a load's rows count.
	Since int64 `json:"since,omitempty"`
}

// offsetsTable is the table's quoted name, and its schema's.
func (o *OutletSettings) offsetsTable() (schema, name string) {
	schema, table, _ := change.SplitTable(o.Offsets) // it has been validated
	return quoted(schema), quoted(schema) + "." + quoted(table)
}

func createOffsets(schema, name string) []string {
	return []string{"CREATE SCHEMA IF NOT EXISTS " + schema,
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

// begin makes this session the one that writes for the outlet: any other, which may only
// have been taken for dead, is ended, and cannot commit any more. It reads how far the
// tables are.
func (w *writer) begin(ctx context.Context) error {
	schema, name := w.options.offsetsTable()
	var there bool
	bareSchema, bareName, _ := change.SplitTable(w.options.Offsets) // it has been validated
	if err := w.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2)", bareSchema, bareName).Scan(&there); err != nil {
		return err
	}
	if !there {
		// Of several outlets that begin at once, one makes it.
		statements := append(append([]string{"BEGIN", "SELECT pg_advisory_xact_lock(hashtext('rillmark'))"}, createOffsets(schema, name)...), "COMMIT")
		for _, statement := range statements {
			if err := w.exec(ctx, statement); err != nil {
				return err
			}
		}
	}
	if _, err := w.conn.Exec(ctx, `SELECT pg_terminate_backend(a.pid) FROM `+name+` o JOIN pg_stat_activity a ON a.pid = o.session
		WHERE o.token = $1 AND a.application_name = $2 AND a.datname = current_database() AND a.pid <> pg_backend_pid()`, w.outlet.Token, w.application()); err != nil {
		return fmt.Errorf("ending an earlier session of the outlet: %w", err)
	}
	var run int
	var raw []byte
	err := w.conn.QueryRow(ctx, `INSERT INTO `+name+` AS o (token, outlet, run, "offset", epoch, session) VALUES ($1, $2, $3, $4, 1, pg_backend_pid())
		ON CONFLICT (token) DO UPDATE SET epoch = o.epoch + 1, outlet = excluded.outlet, session = excluded.session RETURNING run, "offset", epoch, tables`,
		w.outlet.Token, w.outlet.Name, w.outlet.Run, w.outlet.Committed).Scan(&run, &w.state.Offset, &w.epoch, &raw)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &w.state.Tables); err != nil {
		return fmt.Errorf("reading the outlet's row of %s: %w", name, err)
	}
	if run == w.outlet.Run {
		return nil
	}
	// It was rewound: what the tables are does not matter any more, but for versions of
	// later offsets, which would come again.
	w.state.Offset = w.outlet.Committed
	if err := w.exec(ctx, "BEGIN"); err != nil {
		return err
	}
	if err := w.takeBack(ctx); err != nil {
		return err
	}
	for _, state := range w.state.Tables {
		state.Rewound = true
	}
	tables, _ := json.Marshal(w.state.Tables) // strings and numbers always marshal
	tag, err := w.conn.Exec(ctx, `UPDATE `+name+` SET run = $2, "offset" = $3, tables = $5::text::jsonb WHERE token = $1 AND epoch = $4`, w.outlet.Token, w.outlet.Run, w.outlet.Committed, w.epoch, string(tables))
	if err == nil && tag.RowsAffected() == 0 {
		err = errFenced
	}
	if err != nil {
		return err
	}
	return w.exec(ctx, "COMMIT")
}

// errFenced ends a delivery that another session has taken over.
var errFenced = &engine.Fault{Code: "taken-over", Message: "another session writes for this outlet now; what was not committed is written by that one"}

// writeState puts the offset into the open transaction, unless another session has begun.
func (w *writer) writeState(ctx context.Context, offset int64) error {
	_, name := w.options.offsetsTable()
	var tables []byte
	if w.stateChanged {
		tables, _ = json.Marshal(w.state.Tables) // strings and numbers always marshal
	}
	var at any
	if !w.committed.IsZero() {
		at = w.committed
	}
	tag, err := w.conn.Exec(ctx, `UPDATE `+name+` SET "offset" = $2, committed_at = coalesce($3, committed_at), tables = coalesce($4::text::jsonb, tables) WHERE token = $1 AND epoch = $5`,
		w.outlet.Token, offset, at, nullable(tables), w.epoch)
	if err == nil && tag.RowsAffected() == 0 {
		err = errFenced
	}
	return err
}

func nullable(text []byte) any {
	if text == nil {
		return nil
	}
	return string(text)
}

// claim refuses a table that another outlet writes.
func (w *writer) claim(ctx context.Context, t *table) error {
	_, name := w.options.offsetsTable()
	var other string
	err := w.conn.QueryRow(ctx, `SELECT outlet FROM `+name+` o, jsonb_each(o.tables) one WHERE o.token <> $1 AND one.value ->> 'target' = $2 LIMIT 1`, w.outlet.Token, t.sql).Scan(&other)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return &engine.Fault{Code: "same-table", Final: true, Message: fmt.Sprintf("the outlet %s writes %s already", other, t.sql),
		Fix: fmt.Sprintf("give this outlet another schema or names of its own, or leave the table out; if %s is gone for good, DELETE FROM %s WHERE outlet = %s", other, name, literal(other))}
}
