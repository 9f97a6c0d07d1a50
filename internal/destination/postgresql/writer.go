package postgresql

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/postgres/session"
)

var (
	_ destination.Destination = (*Destination)(nil)
	_ sql.Database            = (*database)(nil)
)

func quoted(name string) string  { return session.Quoted(name) }
func literal(text string) string { return session.Literal(text) }

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Order: true, Whole: true}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	conn, err := d.connect(ctx, sql.SessionName(o))
	if err != nil {
		return nil, err
	}
	db := &database{Destination: d, outlet: o, conn: conn, fires: true, prepared: make(map[string]string), stages: make(map[string]bool), packs: make(map[*sql.Binding][]packing)}
	if d.options.Triggers == "skip" {
		_, err := conn.Exec(ctx, "SET session_replication_role = replica")
		var refused *pgconn.PgError
		if err != nil && (!errors.As(err, &refused) || refused.Code != "42501") {
			db.Close() //nolint:errcheck // the first error is the one to report
			return nil, explained(err)
		}
		db.fires = err != nil
	}
	if err := db.mark(ctx); err != nil {
		db.Close() //nolint:errcheck // the first error is the one to report
		return nil, explained(err)
	}
	return sql.Begin(ctx, db, &d.options.Options, o)
}

// database is a session that writes for one outlet.
type database struct {
	*Destination
	outlet     destination.Outlet
	conn       *pgx.Conn
	epoch      int64
	fires      bool              // triggers and foreign keys act for our rows
	stages     map[string]bool   // the tables that rows are staged in, as long as they are there
	prepared   map[string]string // names of prepared statements by their text
	statements int               // that were ever prepared
	stale      bool              // those that were are to be dropped
	buffer     []byte
	packs      map[*sql.Binding][]packing // of the columns that are written
}

// Exec implements [sql.Database].
func (d *database) Exec(ctx context.Context, statement string) (int64, error) {
	results, err := d.conn.PgConn().Exec(ctx, statement).ReadAll()
	if err != nil || len(results) == 0 {
		return 0, err
	}
	return results[len(results)-1].CommandTag.RowsAffected(), nil
}

func (d *database) exec(ctx context.Context, statement string) error {
	_, err := d.Exec(ctx, statement)
	return err
}

// Begin implements [sql.Database].
func (d *database) Begin(ctx context.Context) error {
	begin := "BEGIN"
	if d.fires { // a row may come before the one that it refers to
		begin += "; SET CONSTRAINTS ALL DEFERRED"
	}
	return d.exec(ctx, begin)
}

// Undone implements [sql.Database].
func (d *database) Undone() { clear(d.stages) }

// Redefined implements [sql.Database]: a prepared statement keeps the types of its parameters.
func (d *database) Redefined() {
	clear(d.prepared)
	clear(d.packs)
	d.stale = true
}

// Close implements [sql.Database].
func (d *database) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	return d.conn.Close(ctx)
}

// OfAll implements [sql.RowWriter].
func (d *database) OfAll(ctx context.Context, statement string) (int64, error) {
	if err := d.exec(ctx, "SET LOCAL enable_hashjoin = on; SET LOCAL enable_seqscan = on"); err != nil {
		return 0, err
	}
	n, err := d.Exec(ctx, statement)
	if err != nil {
		return 0, err
	}
	return n, d.exec(ctx, "SET LOCAL enable_hashjoin = off; SET LOCAL enable_seqscan = off")
}

// Explained implements [sql.Database].
func (d *database) Explained(err error) error { return explained(err) }

// RefusesRow implements [sql.Database].
func (d *database) RefusesRow(err error) bool { return refusesRow(err) && !madeMeanwhile(err) }

// RefusesDefinition implements [sql.Database].
func (d *database) RefusesDefinition(err error) bool {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || refused.Code == "42501" || len(refused.Code) < 2 || madeMeanwhile(err) {
		return false
	}
	// Also what depends on a column, what cannot be done to it, and what a table has no room for.
	return slices.Contains([]string{"42", "0A", "2B", "54"}, refused.Code[:2])
}

// madeMeanwhile reports whether something that was to be made has come since it was looked for:
// another outlet makes the same schema or type at this moment. The next try finds it.
func madeMeanwhile(err error) bool {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return false
	}
	switch refused.Code {
	case "42P06", "42P07", "42710": // a schema, a table or an object of that name
		return true
	case "23505": // the same, where both were made before either could be seen
		return refused.SchemaName == "pg_catalog"
	}
	return false
}

// IsUnique implements [sql.Database].
func (d *database) IsUnique(err error) bool { return isUnique(err) }

// Refusal implements [sql.Database].
func (d *database) Refusal(table string, err error) error { return refusal(table, err) }

// Writing implements [sql.RowWriter].
func (d *database) Writing(c *change.Column, _ *sql.Column) sql.Writing { return writingOf(c) }

// Beside implements [sql.Database]: definitions are part of transactions here.
func (d *database) Beside(context.Context) (sql.Database, error) { return nil, errors.ErrUnsupported }
