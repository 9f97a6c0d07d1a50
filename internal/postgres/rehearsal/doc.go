// Package rehearsal runs a statement that changes a table's definition where it does no harm:
// on empty copies of the tables in a scratch database, in a transaction that is rolled back.
//
//   - [Run] is all of it.
//   - statement.go reads which table or type a statement changes, and refuses all but one ALTER
//     or DROP.
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

// Run runs a statement on copies of the captured tables that it changes, in the scratch database
// at an address as libpq takes it: of one table, or of all that have columns of a type.
func Run(ctx context.Context, c *session.Config, scratch, statement string) ([]*engine.Rehearsal, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	o, err := objectOf(statement)
	if err != nil {
		return nil, err
	}
	tables, copies, err := read(ctx, c, o)
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
	made := make(map[string]bool) // types that several tables have
	rehearsed := make([]*rehearsed, len(tables))
	for i, table := range tables {
		for _, one := range copies[i] {
			if made[one] {
				continue
			}
			made[one] = true
			if _, err := tx.Exec(ctx, one); err != nil {
				return nil, cannotCopy(change.TableName(table.schema, table.name), one, err)
			}
		}
		if rehearsed[i], err = copied(ctx, c, tx, table); err != nil {
			return nil, err
		}
	}
	if err := run(ctx, tx, statement); err != nil {
		return nil, err
	}
	all := make([]*engine.Rehearsal, len(tables))
	for i, one := range rehearsed {
		if all[i], err = one.after(ctx, c, tx); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// read asks the source for the tables that a statement changes, and how copies of them are made.
func read(ctx context.Context, c *session.Config, o object) (tables []object, copies [][]string, err error) {
	conn, err := c.Connect(ctx, "rehearsal")
	if err != nil {
		return nil, nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // it was only asked
	if tables, err = tablesOf(ctx, c, conn, o); err != nil {
		return nil, nil, err
	}
	for _, table := range tables {
		statements, err := copyOf(ctx, c, conn, table.schema, table.name)
		if err != nil {
			return nil, nil, err
		}
		copies = append(copies, statements)
	}
	return tables, copies, nil
}

// rehearsed is a copy of a table before the statement.
type rehearsed struct {
	table  string
	oid    uint32
	before *catalogue.Layout
}

// copied is what a table's copy is.
func copied(ctx context.Context, c *session.Config, tx pgx.Tx, of object) (*rehearsed, error) {
	r := &rehearsed{table: change.TableName(of.schema, of.name)}
	if err := tx.QueryRow(ctx, "SELECT to_regclass($1)::oid", pgx.Identifier{of.schema, of.name}.Sanitize()).Scan(&r.oid); err != nil {
		return nil, unusable(err)
	}
	var err error
	if r.before, err = catalogue.Current(ctx, c, tx, r.oid, r.table, c.Rules.For(r.table)); err != nil {
		return nil, unusable(err)
	}
	return r, nil
}

// after says what the table was and is, once the statement has run.
func (one *rehearsed) after(ctx context.Context, c *session.Config, tx pgx.Tx) (*engine.Rehearsal, error) {
	before, oid := one.before, one.oid
	r := &engine.Rehearsal{Table: one.table, Before: before.Schema}
	var newSchema, newName string
	err := tx.QueryRow(ctx, "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1", oid).Scan(&newSchema, &newName)
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
	if !r.Rewrites {
		r.Filled = after.Filled(before.Schema, &changes)
	}
	if err := tx.QueryRow(ctx, "SELECT NOT ("+catalogue.UpdatableSQL("c")+") FROM pg_class c WHERE c.oid = $1", oid).Scan(&r.InsertsOnly); err != nil {
		return nil, unusable(err)
	}
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
