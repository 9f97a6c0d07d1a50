package postgresql

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// makeOrigin makes a replication origin where it is not there.
const makeOrigin = "SELECT pg_catalog.pg_replication_origin_create(name) FROM (SELECT %s AS name) one WHERE pg_catalog.pg_replication_origin_oid(name) IS NULL"

// mark has the server note the outlet's origin with each transaction of the session
// (PostgreSQL's manual, "Replication Progress Tracking"): a source on this database can leave
// them out by it.
func (d *database) mark(ctx context.Context) error {
	origin := d.options.Origin
	if origin == "" {
		return nil
	}
	var there bool
	if err := d.conn.QueryRow(ctx, "SELECT pg_catalog.pg_replication_origin_oid($1) IS NOT NULL", origin).Scan(&there); err != nil {
		return err
	}
	if !there {
		if _, err := d.conn.Exec(ctx, "SELECT pg_catalog.pg_replication_origin_create($1)", origin); err != nil {
			return err
		}
	}
	_, err := d.conn.Exec(ctx, "SELECT pg_catalog.pg_replication_origin_session_setup($1)", origin)
	if refused := (*pgconn.PgError)(nil); !errors.As(err, &refused) || refused.Code != "55006" {
		return err
	}
	// A server lets one session have an origin at a time. Where it is another instance's that has
	// lost the outlet and does not know it yet, its session is of no use any more.
	fault := &engine.Fault{Code: "origin-in-use", Cause: err, Message: "another session has the replication origin " + origin,
		Fix: "an outlet needs an origin of its own: give one of the two another name; delivery goes on by itself once it is free"}
	recorded, err := d.hasOffsets(ctx)
	if err == nil && recorded {
		err = d.endEarlier(ctx)
	}
	fault.Cause = errors.Join(fault.Cause, err)
	return fault
}

// checkOrigin looks whether what the outlet writes can be marked.
func (d *Destination) checkOrigin(ctx context.Context, conn *pgx.Conn) change.Check {
	c := change.Check{Name: "origin", Verdict: change.Good, Found: "transactions can be marked as " + d.options.Origin + "'s"}
	var may, there bool
	err := conn.QueryRow(ctx, `SELECT has_function_privilege('pg_replication_origin_session_setup(text)', 'EXECUTE') AND has_function_privilege('pg_replication_origin_oid(text)', 'EXECUTE'),
		EXISTS (SELECT FROM pg_replication_origin WHERE roname = $1) OR has_function_privilege('pg_replication_origin_create(text)', 'EXECUTE')`, d.options.Origin).Scan(&may, &there)
	switch {
	case err != nil:
		c.Verdict, c.Found = change.Missing, explained(err).Error()
	case !may:
		c.Verdict, c.Found = change.Missing, "the user may not mark transactions with a replication origin"
		c.Fix = "as superuser, in this database: GRANT EXECUTE ON FUNCTION " + originFunctions + " TO " + d.quotedUser()
	case !there:
		c.Verdict, c.Found = change.Missing, "the replication origin "+d.options.Origin+" is not there, and the user may not make it"
		c.Fix = "as superuser: SELECT pg_replication_origin_create(" + literal(d.options.Origin) + ")"
	}
	if c.Verdict == change.Missing {
		c.Why = "a source on this database would capture what the outlet writes"
	}
	return c
}

// originFunctions are those that marking needs.
const originFunctions = "pg_catalog.pg_replication_origin_session_setup(text), pg_catalog.pg_replication_origin_oid(text)"
