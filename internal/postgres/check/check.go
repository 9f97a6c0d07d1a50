// Package check says what a PostgreSQL source lacks to be captured, one verdict a line,
// each with its fix; it lists the tables, and takes away what was made for a source.
package check

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

// Tables implements [engine.Engine].
func Tables(ctx context.Context, c *session.Config) ([]engine.Table, error) {
	conn, err := c.Connect(ctx, "tables")
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	all, err := catalogue.List(ctx, conn)
	if err != nil {
		return nil, c.Explain(err)
	}
	tables := make([]engine.Table, len(all))
	for i, l := range all {
		tables[i] = l.Describe(c)
	}
	return tables, nil
}

// Remove implements [engine.Engine]: it drops the slot and the publications that
// are ours. What is not there any more is no error; what remains is an
// administrator's.
func Remove(ctx context.Context, c *session.Config) (remains []string, err error) {
	conn, err := c.Connect(ctx, "removal")
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	if c.Slot == "" {
		// The server lets go of a slot a moment after its reader has gone.
		for attempt := 0; ; attempt++ {
			_, err := conn.Exec(ctx, "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1", c.SlotName())
			var server *pgconn.PgError
			if errors.As(err, &server) && server.Code == "55006" && attempt < 50 {
				select {
				case <-ctx.Done():
					return nil, context.Cause(ctx)
				case <-time.After(100 * time.Millisecond):
				}
				continue
			}
			if err != nil {
				return nil, c.Explain(err)
			}
			break
		}
	}
	if c.Publication != "" {
		return remaining(ctx, c, conn)
	}
	// One that an administrator made for us, by setup-sql, is the administrator's.
	rows, _ := conn.Query(ctx, "SELECT pubname::text FROM pg_publication WHERE pubname = ANY($1) AND pg_has_role(pubowner, 'USAGE')", c.Publications())
	ours, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, c.Explain(err)
	}
	for _, name := range ours {
		if _, err := conn.Exec(ctx, "DROP PUBLICATION IF EXISTS "+session.Quoted(name)); err != nil {
			return nil, c.Explain(err)
		}
	}
	return remaining(ctx, c, conn)
}

// remains is what was made for this source and is still there.
func remaining(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]string, error) {
	rows, _ := conn.Query(ctx, `SELECT 'slot ' || slot_name FROM pg_replication_slots WHERE slot_name = $1
		UNION ALL SELECT 'publication ' || pubname FROM pg_publication WHERE pubname = ANY($2)
		UNION ALL SELECT 'function rillmark.' || quote_ident(p.proname) || ', and what it granted to user ' || $4 FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = 'rillmark' AND p.proname = $3
		UNION ALL SELECT 'event trigger ' || evtname FROM pg_event_trigger WHERE evtname IN ('rillmark_statement', 'rillmark_drop')
			AND NOT EXISTS (SELECT FROM pg_replication_slots WHERE database = current_database() AND starts_with(slot_name, 'rillmark_'))`,
		c.SlotName(), c.Publications(), "publish_"+c.Source, c.Connection.User)
	remains, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return remains, c.Explain(err)
}

// Check implements [engine.Engine].
func Check(ctx context.Context, c *session.Config) []change.Check {
	c.Defaults()
	conn, err := c.Connect(ctx, "check")
	if err != nil {
		return []change.Check{failed("connection", err, "nothing else can be looked at before the source lets us in")}
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	if err := session.NotOurOwn(ctx, conn); err != nil {
		return []change.Check{failed("database", c.Explain(err), "each event of its own would make another one")}
	}
	if err := session.Supported(conn); err != nil {
		return []change.Check{failed("server version", err, "nothing can be captured from it")}
	}
	checks := []change.Check{checkConnection(ctx, c, conn)}
	for _, one := range []func(context.Context, *session.Config, *pgx.Conn) ([]change.Check, error){
		checkServer, checkReplication, checkSlot, checkKeeping, checkPublication, checkTables,
	} {
		more, err := one(ctx, c, conn)
		if err != nil {
			return append(checks, failed("source", c.Explain(err), ""))
		}
		checks = append(checks, more...)
	}
	return checks
}

func failed(name string, err error, why string) change.Check {
	check := change.Check{Name: name, Verdict: change.Missing, Found: err.Error(), Why: why}
	var fault *engine.Fault
	if errors.As(err, &fault) {
		check.Fix = fault.Fix
		bare := *fault
		bare.Fix = ""
		check.Found = bare.Error()
	}
	return check
}

// Condition implements [engine.Engine]: the server itself says whether it
// takes a condition.
func Condition(ctx context.Context, c *session.Config, table, condition string) error {
	conn, err := c.Connect(ctx, "check")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	// Parsed and planned, never run; a statement of its own cannot hide in it,
	// since the extended protocol takes one at a time.
	rows, err := conn.Query(ctx, "EXPLAIN SELECT FROM "+session.SanitizedName(table)+" WHERE ("+condition+"\n)")
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return &engine.Fault{Code: "bad-condition", Message: fmt.Sprintf("the condition %q cannot be used on %s: %s", condition, table, server.Message), Fix: "write it as after WHERE in the source's own SQL"}
	}
	return c.Explain(err)
}
