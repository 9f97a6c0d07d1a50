// Package rehearsal runs a statement that changes a table's definition where it does no harm:
// on an empty copy of the table in a scratch database, in a transaction that is rolled back.
//
//   - [Run] is all of it.
//   - statement.go reads which table a statement changes, and refuses all but one ALTER TABLE or
//     DROP TABLE.
//   - copy.go writes the statements that make the copy, from what the source's catalogue says.
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/session"
)

// statementTimeout is what a statement on an empty table may take.
const statementTimeout = "10s"

// timeout is what a rehearsal may take.
const timeout = time.Minute

// Run runs a statement on a copy of the captured table that it changes, in the scratch database
// at an address as libpq takes it.
func Run(ctx context.Context, c *session.Config, scratch, statement string) (*engine.Rehearsal, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	schema, name, err := tableOf(statement)
	if err != nil {
		return nil, err
	}
	table := change.TableName(schema, name)
	if c.Rules.For(table) == nil {
		return nil, &engine.Fault{Code: "not-captured", Message: fmt.Sprintf("the source does not capture %s: nothing that reads its journal would notice", table)}
	}
	statements, err := copyOf(ctx, c, schema, name)
	if err != nil {
		return nil, err
	}
	conn, err := open(ctx, scratch)
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // which rolls back what is open
	tx, err := conn.Begin(ctx)
	if err != nil {
		return nil, unusable(err)
	}
	for _, one := range statements {
		if _, err := tx.Exec(ctx, one); err != nil {
			return nil, cannotCopy(table, one, err)
		}
	}
	return rehearse(ctx, c, tx, schema, name, statement)
}

// rehearse runs the statement where the table's copy is, and says what the table was and is.
func rehearse(ctx context.Context, c *session.Config, tx pgx.Tx, schema, name, statement string) (*engine.Rehearsal, error) {
	r := &engine.Rehearsal{Table: change.TableName(schema, name)}
	var oid uint32
	if err := tx.QueryRow(ctx, "SELECT to_regclass($1)::oid", pgx.Identifier{schema, name}.Sanitize()).Scan(&oid); err != nil {
		return nil, unusable(err)
	}
	before, err := catalogue.Current(ctx, c, tx, oid, r.Table, c.Rules.For(r.Table))
	if err != nil {
		return nil, unusable(err)
	}
	r.Before = before.Schema
	if err := run(ctx, tx, statement); err != nil {
		return nil, err
	}
	var newSchema, newName string
	err = tx.QueryRow(ctx, "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1", oid).Scan(&newSchema, &newName)
	if errors.Is(err, pgx.ErrNoRows) {
		return r, nil
	}
	if err != nil {
		return nil, unusable(err)
	}
	r.Name = change.TableName(newSchema, newName)
	rule := c.Rules.For(r.Name)
	if rule == nil {
		return r, nil
	}
	after, err := catalogue.Current(ctx, c, tx, oid, r.Name, rule)
	if err != nil {
		return nil, unusable(err)
	}
	changes := catalogue.ChangesOf(before.Columns(), after.Columns())
	r.After, r.Renamed = after.Schema, changes.Renamed
	r.Rewrites = changes.Redefined || before.Storage.Rewritten(after.Storage) || after.Rewrites(before.Schema, &changes, before.Storage.InPlace(after.Storage))
	r.Exposes = after.Exposes(before.Columns(), before.Schema)
	return r, nil
}

// open connects to the scratch database.
func open(ctx context.Context, address string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, &engine.Fault{Code: "scratch", Message: "scratch.postgresql in the service's configuration is no address of a PostgreSQL database"} // the cause may have the password
	}
	conn, err := (&session.Config{Source: "scratch", Connection: config}).Connect(ctx, "rehearsal")
	if err != nil {
		return nil, unusable(err)
	}
	if _, err := conn.Exec(ctx, "SET statement_timeout = '"+statementTimeout+"'; SET lock_timeout = '"+statementTimeout+"'"); err != nil {
		conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // the first error is the one to report
		return nil, unusable(err)
	}
	return conn, nil
}

// run runs the one statement, as somebody runs it whose tables are in the schema public.
func run(ctx context.Context, tx pgx.Tx, statement string) error {
	if _, err := tx.Exec(ctx, "SET LOCAL search_path = public"); err != nil {
		return unusable(err)
	}
	// The extended protocol takes one statement, and not several.
	if _, err := tx.Conn().PgConn().ExecParams(ctx, statement, nil, nil, nil, nil).Close(); err != nil {
		var refused *pgconn.PgError
		if !errors.As(err, &refused) {
			return unusable(err)
		}
		f := &engine.Fault{Code: "statement-refused", Message: "the scratch database refuses the statement: " + refused.Message,
			Fix: "mend the statement; functions, sequences and other tables that it names are not in the copy"}
		if refused.Position > 0 {
			f.Message += fmt.Sprintf(", at character %d", refused.Position)
		}
		return f
	}
	if _, err := tx.Exec(ctx, "SET LOCAL search_path = pg_catalog"); err != nil {
		return unusable(err)
	}
	return nil
}

func unusable(err error) error {
	return &engine.Fault{Code: "scratch", Cause: err, Message: "the scratch database cannot be used", Fix: "see scratch.postgresql in the service's configuration: an empty database, whose login may create schemas in it"}
}

func cannotCopy(table, statement string, err error) error {
	f := &engine.Fault{Code: "scratch", Cause: err, Message: fmt.Sprintf("%s cannot be copied into the scratch database: %s", table, statement)}
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		switch refused.Code {
		case "42P07", "42710", "42P06": // there is something of that name
			f.Fix = "the scratch database has to be empty: name one of its own in scratch.postgresql"
		case "42501":
			f.Fix = "the login of scratch.postgresql needs CREATE on its database and on the schema public there"
		case "42704", "42883":
			f.Fix = "create the extension or function that it needs in the scratch database"
		}
	}
	return f
}
