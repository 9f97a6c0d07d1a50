package postgresql

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	reached := change.Check{Name: "server", Verdict: change.Good}
	conn, err := d.connect(ctx, "rillmark check")
	if err != nil {
		reached.Verdict, reached.Found, reached.Why, reached.Fix = change.Missing, err.Error(), "nothing can be delivered", "check host, port, database, user, password and tls"
		return []change.Check{reached}
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // it was only asked
	var version, encoding string
	var number int
	var standby, readOnly, secured bool
	err = conn.QueryRow(ctx, `SELECT current_setting('server_version'), current_setting('server_version_num')::int, pg_is_in_recovery(), current_setting('default_transaction_read_only')::bool,
		pg_encoding_to_char(encoding), coalesce((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false) FROM pg_database WHERE datname = current_database()`).
		Scan(&version, &number, &standby, &readOnly, &encoding, &secured)
	if err != nil {
		reached.Verdict, reached.Found = change.Missing, explained(err).Error()
		return []change.Check{reached}
	}
	reached.Found = "version " + version + " answers"
	if secured {
		reached.Found += ", encrypted"
	}
	if number < oldest {
		reached.Verdict, reached.Why, reached.Fix = change.Missing, "statements that the outlet needs are not there", "use PostgreSQL 13 or newer"
	}
	checks := []change.Check{reached}
	if standby || readOnly {
		checks = append(checks, change.Check{Name: "writes", Verdict: change.Missing, Found: "the server takes no changes (a standby, or read-only)", Why: "nothing can be delivered", Fix: "name the server that writes"})
	}
	if encoding != "UTF8" {
		checks = append(checks, change.Check{Name: "encoding", Verdict: change.Note, Found: "the database's encoding is " + encoding, Why: "rows with characters that it lacks become dead letters", Fix: "use a database of encoding UTF8"})
	}
	var temporary bool
	if err := conn.QueryRow(ctx, "SELECT has_database_privilege(current_database(), 'TEMPORARY')").Scan(&temporary); err == nil && !temporary {
		checks = append(checks, change.Check{Name: "temporary tables", Verdict: change.Missing, Found: "the user may not make any", Why: "rows are staged in temporary tables before they are merged",
			Fix: fmt.Sprintf("GRANT TEMPORARY ON DATABASE %s TO %s", quoted(d.settings.Database), d.quotedUser())})
	}
	checks = append(checks, d.checkOffsets(ctx, conn), d.checkTables(ctx, conn), d.checkTriggers(ctx, conn))
	if d.options.Origin != "" {
		checks = append(checks, d.checkOrigin(ctx, conn))
	}
	return checks
}

const oldest = 130000

func (d *Destination) quotedUser() string { return quoted(d.settings.User) }

// checkOffsets looks whether the table of offsets is there and may be written, or be made.
func (d *Destination) checkOffsets(ctx context.Context, conn *pgx.Conn) change.Check {
	schema, name := d.options.offsetsTable()
	bareSchema, bareName := d.options.OffsetsTable()
	c := change.Check{Name: "table of offsets", Verdict: change.Good, Found: name + " can be written"}
	var there, may, mayMake bool
	err := conn.QueryRow(ctx, `SELECT t.oid IS NOT NULL, coalesce(has_table_privilege(t.oid, 'SELECT, INSERT, UPDATE') AND has_schema_privilege(n.oid, 'USAGE'), false),
		coalesce(has_schema_privilege(n.oid, 'CREATE, USAGE'), has_database_privilege(current_database(), 'CREATE'))
		FROM (SELECT) one LEFT JOIN pg_namespace n ON n.nspname = $1 LEFT JOIN pg_class t ON t.relnamespace = n.oid AND t.relname = $2`, bareSchema, bareName).
		Scan(&there, &may, &mayMake)
	switch {
	case err != nil:
		c.Verdict, c.Found = change.Missing, explained(err).Error()
	case there && !may:
		c.Verdict, c.Found, c.Why = change.Missing, "the user may not write "+name, "the outlet's offset is committed with the rows"
		c.Fix = fmt.Sprintf("GRANT SELECT, INSERT, UPDATE ON %s TO %s; GRANT USAGE, CREATE ON SCHEMA %s TO %[2]s", name, d.quotedUser(), schema)
	case !there && !mayMake:
		c.Verdict, c.Found, c.Why = change.Missing, name+" is not there, and the user may not make it", "the outlet's offset is committed with the rows"
		c.Fix = "CREATE SCHEMA IF NOT EXISTS " + schema + " AUTHORIZATION " + d.quotedUser()
	case !there:
		c.Found = name + " will be made"
	}
	return c
}

// checkTables looks whether tables can be made.
func (d *Destination) checkTables(ctx context.Context, conn *pgx.Conn) change.Check {
	c := change.Check{Name: "tables", Verdict: change.Good, Found: "schemas and tables can be made"}
	var may bool
	var some []string
	err := conn.QueryRow(ctx, `SELECT has_database_privilege(current_database(), 'CREATE'), coalesce((SELECT array_agg(nspname::text ORDER BY nspname) FROM pg_namespace
		WHERE has_schema_privilege(oid, 'CREATE') AND nspname !~ '^pg_' AND nspname <> 'information_schema'), '{}')`).Scan(&may, &some)
	switch {
	case err != nil:
		c.Verdict, c.Found = change.Missing, explained(err).Error()
	case !may && len(some) > 0:
		c.Verdict, c.Found, c.Why = change.Note, "tables can be made in "+strings.Join(some, ", ")+" only", "a table of another schema needs that schema, or the outlet other names"
		c.Fix = fmt.Sprintf("CREATE SCHEMA NAME AUTHORIZATION %s, for each schema that is needed; or set postgresql.schema in the outlet", d.quotedUser())
	case !may:
		c.Verdict, c.Found, c.Why = change.Note, "no tables can be made", "outlets hold until each table that they need is there"
		c.Fix = fmt.Sprintf("GRANT CREATE ON DATABASE %s TO %s; or make the tables, grant them, and set definitions: fixed in the outlet", quoted(d.settings.Database), d.quotedUser())
	}
	return c
}

// checkTriggers looks whether triggers and foreign keys can be kept from acting.
func (d *Destination) checkTriggers(ctx context.Context, conn *pgx.Conn) change.Check {
	c := change.Check{Name: "triggers and foreign keys", Verdict: change.Good, Found: "they do nothing for rows that outlets write"}
	if _, err := conn.Exec(ctx, "SET session_replication_role = replica"); err != nil {
		c.Verdict, c.Found = change.Note, "the user may not keep them from acting"
		c.Why = "triggers of the tables fire once more for rows that the source's have fired for, and a foreign key that is not deferrable refuses rows that come before those they refer to"
		c.Fix = fmt.Sprintf("as superuser, on PostgreSQL 15 or newer: GRANT SET ON PARAMETER session_replication_role TO %s; nothing is needed where the tables have neither", d.quotedUser())
	}
	return c
}
