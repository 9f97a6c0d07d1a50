package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
)

var (
	_ destination.Destination = (*Destination)(nil)
	_ sql.Database            = (*database)(nil)
)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Order: true, Whole: true}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	db, err := d.session(ctx, o)
	if err != nil {
		return nil, err
	}
	return sql.Begin(ctx, db, &d.options.Options, o)
}

func (d *Destination) session(ctx context.Context, o destination.Outlet) (*database, error) {
	conn, err := d.connect(ctx, sql.SessionName(o))
	if err != nil {
		return nil, err
	}
	db := &database{Destination: d, outlet: o, conn: conn, stages: make(map[string]bool)}
	if err := db.prepare(ctx); err != nil {
		db.Close() //nolint:errcheck // the first error is the one to report
		return nil, explained(err)
	}
	return db, nil
}

// Beside implements [sql.Database].
func (d *database) Beside(ctx context.Context) (sql.Database, error) {
	other, err := d.session(ctx, d.outlet)
	if err != nil {
		return nil, err
	}
	other.epoch = d.epoch
	// What this session has open may be what holds a table: nobody would let go.
	return other, other.conn.Exec(ctx, "SET lock_wait_timeout = 1")
}

// database is a session that writes for one outlet.
type database struct {
	*Destination
	outlet    destination.Outlet
	conn      *wire.Conn
	epoch     int64
	version   int             // as 101106
	namesFold bool            // names of tables are the same whatever their case
	packet    int             // the longest statement that the server takes
	stages    map[string]bool // the tables that rows are staged in
	loads     bool            // rows can be sent by LOAD DATA
	buffer    []byte
}

// prepare learns what the server is like.
func (d *database) prepare(ctx context.Context) error {
	row, err := d.conn.Row(ctx, 5, "SELECT version(), @@lower_case_table_names, @@max_allowed_packet, @@log_bin, @@binlog_format")
	if err != nil {
		return err
	}
	d.version, d.namesFold = versionOf(row[0]), row[1] != "0"
	if _, err := fmt.Sscan(row[2], &d.packet); err != nil {
		return err
	}
	d.loads = row[3] != "1" || row[4] == "ROW" // its statement would stand in the log with the data
	if row[3] == "1" && row[4] == "STATEMENT" {
		return &engine.Fault{Code: "statement-log", Final: true, Message: "the server logs statements (binlog_format = STATEMENT), and does not let rows be written as outlets need it",
			Fix: "SET GLOBAL binlog_format = MIXED, or ROW; then `rillmark outlet resume " + d.outlet.Name + "`"}
	}
	if d.version < oldest {
		return &engine.Fault{Code: "old-server", Final: true, Message: "the server is version " + row[0] + ", and outlets need MariaDB 10.6", Fix: "use a newer server"}
	}
	if d.options.Triggers == "skip" {
		if err := d.conn.Exec(ctx, "SET foreign_key_checks = 0"); err != nil {
			return err
		}
	}
	return d.mark(ctx, d.conn)
}

const oldest = 100600

// Exec implements [sql.Database].
func (d *database) Exec(ctx context.Context, statement string) (int64, error) {
	done, err := d.conn.Run(ctx, statement)
	return done.Touched, err
}

// Begin implements [sql.Database].
func (d *database) Begin(ctx context.Context) error { return d.conn.Exec(ctx, "START TRANSACTION") }

// Undone implements [sql.Database]: temporary tables are no part of transactions.
func (d *database) Undone() {}

// Redefined implements [sql.Database]: rows are staged in tables as theirs were.
func (d *database) Redefined() { clear(d.stages) }

// Close implements [sql.Database].
func (d *database) Close() error {
	d.conn.Close()
	return nil
}

// OfAll implements [sql.RowWriter].
func (d *database) OfAll(ctx context.Context, statement string) (int64, error) {
	return d.Exec(ctx, statement)
}

// Explained implements [sql.Database].
func (d *database) Explained(err error) error { return explained(err) }

// RefusesRow implements [sql.Database].
func (d *database) RefusesRow(err error) bool { return refusesRow(err) }

// RefusesDefinition implements [sql.Database].
func (d *database) RefusesDefinition(err error) bool {
	var refused *wire.Error
	if !errors.As(err, &refused) {
		return false
	}
	switch refused.Code {
	case codeDenied, codeDatabaseRight, codeTableRight, codeColumnRight, codeNoRight, codeLockTimeout, codeDeadlock, codeReadOnly, codeReadOnlyMode, codeDiskFull, codeTableFull:
		return false
	}
	return strings.HasPrefix(refused.State, "42") || refused.State == "HY000"
}

// IsUnique implements [sql.Database].
func (d *database) IsUnique(err error) bool { return wire.Code(err) == codeDuplicate }

// Refusal implements [sql.Database].
func (d *database) Refusal(table string, err error) error { return refusal(table, err) }

// Writing implements [sql.RowWriter].
func (d *database) Writing(c *change.Column, into *sql.Column) sql.Writing {
	return writingOf(c, into)
}
