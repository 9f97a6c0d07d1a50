// Package script writes what an administrator runs on a PostgreSQL source, with the least
// rights for the login, and runs it.
package script

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
)

// tag is the quote for what a script of this source quotes.
func tag(c *session.Config) string {
	texts := append([]string{c.Source, c.Connection.User, c.Connection.Database, c.SlotName(), publication.ChosenSQL(c, "")}, c.Publications()...)
	return session.DollarTag(texts...)
}

// Setup implements [engine.Engine]: what an administrator runs once, as a
// superuser in the source's database, so that the login can be left without any
// other right. It needs no connection to write, and can be run again: then it
// takes in the tables that came since.
func Setup(c *session.Config) string {
	user, database := session.Quoted(c.Connection.User), session.Quoted(c.Connection.Database)
	names := c.Publications()
	tag := tag(c)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares database %s for Rillmark's source %s.", session.InComment(c.Connection.Database), c.Source)
	line("-- Run it as a superuser in that database. It can be run again: tables that have")
	line("-- come since are taken in, and all else stays. The server needs wal_level = logical.")
	line("")
	line("DO %s BEGIN", tag)
	line("  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = %s) THEN", session.Literal(c.Connection.User))
	line("    CREATE ROLE %s LOGIN; -- then give it a password: \\password %s", user, session.InComment(user))
	line("  END IF;")
	line("END %s;", tag)
	line("ALTER ROLE %s LOGIN REPLICATION;", user)
	line("GRANT CONNECT ON DATABASE %s TO %s;", database, user)
	line("DO %s BEGIN", tag)
	line("  EXECUTE format('GRANT EXECUTE ON FUNCTION %%s TO %%I', %s::regprocedure, %s);", session.EmitsSQL, session.Literal(c.Connection.User))
	line("END %s;", tag)
	line("")
	if c.Publication == "" {
		for i, publish := range []string{"insert, update, delete, truncate", "insert, truncate"} {
			line("DO %s BEGIN", tag)
			line("  IF NOT EXISTS (SELECT FROM pg_publication WHERE pubname = %s) THEN", session.Literal(names[i]))
			line("    CREATE PUBLICATION %s WITH (publish = %s);", session.Quoted(names[i]), session.Literal(publish))
			line("  END IF;")
			line("END %s;", tag)
		}
		line("")
	}
	line("-- A table that the rules choose may be read, and is published. One without a key is")
	line("-- published without updates and deletes, which the server would refuse the")
	line("-- application otherwise. The login may call this for tables that come later; for any")
	line("-- table that the rules do not choose it does nothing but fail.")
	line("CREATE SCHEMA IF NOT EXISTS rillmark;")
	line("CREATE OR REPLACE FUNCTION %s(chosen regclass) RETURNS void", c.PublishFunction())
	line("LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS %s", tag)
	line("DECLARE t record; publication name;")
	line("BEGIN")
	line("  SELECT c.oid, n.nspname, c.relname,")
	line("      CASE c.relkind WHEN 'r' THEN (%s)", catalogue.UpdatableSQL("c"))
	line("        ELSE EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND i.indimmediate AND %s)", catalogue.BroughtByLog("i"))
	line("          AND NOT EXISTS (SELECT FROM pg_partition_tree(c.oid) part JOIN pg_class leaf ON leaf.oid = part.relid")
	line("            WHERE part.isleaf AND (leaf.relkind <> 'r' OR NOT (%s))) END AS keyed, c.relkind", catalogue.UpdatableSQL("leaf"))
	line("    INTO t FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = chosen AND %s;", publication.CandidateSQL(c))
	line("  IF NOT FOUND THEN")
	line("    RAISE EXCEPTION 'the rules of source %% do not choose %%', %s, chosen USING ERRCODE = 'insufficient_privilege';", session.Literal(c.Source))
	line("  END IF;")
	line("  EXECUTE format('GRANT USAGE ON SCHEMA %%I TO %%I', t.nspname, %s);", session.Literal(c.Connection.User))
	line("  EXECUTE format('GRANT SELECT ON %%I.%%I TO %%I', t.nspname, t.relname, %s);", session.Literal(c.Connection.User))
	line("  IF t.relkind = 'p' AND NOT t.keyed THEN")
	line("    RETURN; -- its partitions are published one by one: a new one may lack what its updates need")
	line("  END IF;")
	if c.Publication == "" {
		line("  FOREACH publication IN ARRAY ARRAY[%s, %s]::name[] LOOP", session.Literal(names[1]), session.Literal(names[0]))
		line("    IF (publication = %s) = t.keyed AND NOT EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", session.Literal(names[0]))
		line("      EXECUTE format('ALTER PUBLICATION %%I ADD TABLE %%s %%I.%%I', publication, CASE t.relkind WHEN 'r' THEN 'ONLY' ELSE '' END, t.nspname, t.relname);")
		line("    ELSIF (publication = %s) <> t.keyed AND EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", session.Literal(names[0]))
		line("      EXECUTE format('ALTER PUBLICATION %%I DROP TABLE %%I.%%I', publication, t.nspname, t.relname);")
		line("    END IF;")
		line("  END LOOP;")
	}
	line("END %s;", tag)
	line("REVOKE ALL ON FUNCTION %s(regclass) FROM PUBLIC;", c.PublishFunction())
	line("GRANT USAGE ON SCHEMA rillmark TO %s;", user)
	line("GRANT EXECUTE ON FUNCTION %s(regclass) TO %s;", c.PublishFunction(), user)
	line("")
	line("SELECT count(*) AS tables FROM (SELECT %s(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace", c.PublishFunction())
	line("  WHERE %s) AS published;", publication.CandidateSQL(c))
	return b.String()
}

// Teardown implements [engine.Engine]: the way back, which can be run again.
// The login's role stays where it owns anything else.
func Teardown(c *session.Config) string {
	tag := tag(c)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Takes away from database %s what was made for Rillmark's source %s.", session.InComment(c.Connection.Database), c.Source)
	line("-- Remove the source in Rillmark first. Run this as a superuser in that database.")
	line("")
	if c.Slot == "" {
		line("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = %s AND NOT active;", session.Literal(c.SlotName()))
	}
	if c.Publication == "" {
		for _, name := range c.Publications() {
			line("DROP PUBLICATION IF EXISTS %s;", session.Quoted(name))
		}
	}
	line("")
	line("DROP FUNCTION IF EXISTS %s(regclass);", c.PublishFunction())
	line("")
	line("-- The event trigger serves all of Rillmark's sources in this database: it goes with the last.")
	line("DO %s BEGIN", tag)
	line("  IF NOT EXISTS (SELECT FROM pg_replication_slots WHERE database = current_database() AND starts_with(slot_name, 'rillmark_')) THEN")
	line("    DROP EVENT TRIGGER IF EXISTS rillmark_statement;")
	line("    DROP EVENT TRIGGER IF EXISTS rillmark_drop;")
	line("    DROP SCHEMA IF EXISTS rillmark CASCADE;")
	line("  END IF;")
	line("END %s;", tag)
	line("")
	line("DO %s BEGIN", tag)
	line("  IF EXISTS (SELECT FROM pg_roles WHERE rolname = %s AND NOT rolsuper) THEN", session.Literal(c.Connection.User))
	line("    EXECUTE (SELECT coalesce(string_agg(format('REVOKE ALL ON %%I.%%I FROM %%I;', n.nspname, c.relname, %s), ' '), 'SELECT 1')", session.Literal(c.Connection.User))
	line("      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("      WHERE c.relkind IN ('r', 'p') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND %s);", publication.ChosenSQL(c, publication.NameSQL("n.nspname", "c.relname")))
	line("    EXECUTE (SELECT coalesce(string_agg(DISTINCT format('REVOKE USAGE ON SCHEMA %%I FROM %%I;', n.nspname, %s), ' '), 'SELECT 1')", session.Literal(c.Connection.User))
	line("      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("      WHERE c.relkind IN ('r', 'p') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND %s);", publication.ChosenSQL(c, publication.NameSQL("n.nspname", "c.relname")))
	line("    EXECUTE format('REVOKE EXECUTE ON FUNCTION %%s FROM %%I', %s::regprocedure, %s);", session.EmitsSQL, session.Literal(c.Connection.User))
	line("    IF EXISTS (SELECT FROM pg_namespace WHERE nspname = 'rillmark') THEN")
	line("      EXECUTE format('REVOKE ALL ON SCHEMA rillmark FROM %%I', %s);", session.Literal(c.Connection.User))
	line("    END IF;")
	line("    REVOKE CONNECT ON DATABASE %s FROM %s;", session.Quoted(c.Connection.Database), session.Quoted(c.Connection.User))
	line("    ALTER ROLE %s NOREPLICATION;", session.Quoted(c.Connection.User))
	line("  END IF;")
	line("END %s;", tag)
	return b.String()
}

// Statements implements [engine.Engine]: an event trigger that writes the text
// of each statement that changes a table's schema into the log, in order. Whatever
// goes wrong in it, the application's statement goes on.
func Statements(c *session.Config) string {
	return `-- Has database ` + session.InComment(c.Connection.Database) + ` write each schema change's statement into its log, for Rillmark.
-- Run it as a superuser in that database; it can be run again. No table is made.

CREATE SCHEMA IF NOT EXISTS rillmark;

CREATE OR REPLACE FUNCTION rillmark.note_statement() RETURNS event_trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $body$
DECLARE
  changed jsonb;
BEGIN
  -- Only what is read stands in the block that catches errors: a message that is
  -- written in a subtransaction may change places with the row after it.
  BEGIN
  SELECT jsonb_agg(jsonb_build_object('oid', c.oid::bigint, 'table', ` + publication.NameSQL("n.nspname", "c.relname") + `, 'columns',
      (SELECT jsonb_agg(jsonb_build_object('name', a.attname, 'number', a.attnum) ORDER BY a.attnum)
        FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''),
      'partitions', CASE WHEN c.relkind = 'p' THEN (SELECT coalesce(jsonb_object_agg(l.oid::bigint, ` + publication.NameSQL("ln.nspname", "l.relname") + `), '{}')
        FROM pg_partition_tree(c.oid) p JOIN pg_class l ON l.oid = p.relid JOIN pg_namespace ln ON ln.oid = l.relnamespace WHERE p.isleaf AND l.relkind = 'r') END))
    INTO changed
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relkind IN ('r', 'p') AND c.relpersistence = 'p' AND c.oid IN (
      SELECT d.objid FROM pg_event_trigger_ddl_commands() d WHERE d.classid = 'pg_class'::regclass
      UNION -- a type that changed, such as an enum, changes the tables that use it
      SELECT a.attrelid FROM pg_event_trigger_ddl_commands() d JOIN pg_attribute a ON a.atttypid = d.objid WHERE d.classid = 'pg_type'::regclass);
  EXCEPTION WHEN OTHERS THEN RETURN;
  END;
  IF changed IS NOT NULL THEN
    PERFORM pg_logical_emit_message(true, ` + session.Literal(session.StatementPrefix) + `, jsonb_build_object('tag', tg_tag, 'statement', current_query(), 'tables', changed)::text);
  END IF;
END $body$;

CREATE OR REPLACE FUNCTION rillmark.note_drop() RETURNS event_trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $body$
DECLARE
  gone jsonb;
BEGIN
  BEGIN
  SELECT jsonb_agg(` + publication.NameSQL("d.schema_name", "d.object_name") + `) INTO gone FROM pg_event_trigger_dropped_objects() d
    WHERE d.object_type = 'table' AND NOT d.is_temporary;
  EXCEPTION WHEN OTHERS THEN RETURN;
  END;
  IF gone IS NOT NULL THEN
    PERFORM pg_logical_emit_message(true, ` + session.Literal(session.StatementPrefix) + `, jsonb_build_object('tag', tg_tag, 'statement', current_query(), 'dropped', gone)::text);
  END IF;
END $body$;

DROP EVENT TRIGGER IF EXISTS rillmark_statement;
CREATE EVENT TRIGGER rillmark_statement ON ddl_command_end EXECUTE FUNCTION rillmark.note_statement();
DROP EVENT TRIGGER IF EXISTS rillmark_drop;
CREATE EVENT TRIGGER rillmark_drop ON sql_drop EXECUTE FUNCTION rillmark.note_drop();
`
}

// Run implements [engine.Engine]: in one transaction, as another login where
// user is not empty.
func Run(ctx context.Context, c *session.Config, script, user, password string) error {
	config := c.Session("script")
	if user != "" {
		config.User, config.Password = user, password
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		as := *c
		as.Connection = config // it names the login that was refused
		return as.ExplainAt(session.Connecting, err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	var server *pgconn.PgError
	if _, err = conn.PgConn().Exec(ctx, script).ReadAll(); errors.As(err, &server) {
		return &engine.Fault{Code: "script-refused", Message: fmt.Sprintf("user %q could not run the script on %s: %s; nothing was changed", config.User, c.Connection.Database, server.Message),
			Fix: "run it as a superuser of that database"}
	}
	return c.Explain(err)
}
