package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
)

// literal is a text in SQL, whatever standard_conforming_strings says.
func literal(s string) string {
	s = strings.ReplaceAll(s, "'", "''")
	if strings.Contains(s, `\`) {
		return "E'" + strings.ReplaceAll(s, `\`, `\\`) + "'"
	}
	return "'" + s + "'"
}

// inComment is a name as a comment of one line may hold it.
func inComment(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return '?'
		}
		return r
	}, name)
}

// dollarTag is a quote that none of the texts ends.
func dollarTag(texts ...string) string {
	all := strings.Join(texts, "\n")
	for tag := "$rillmark"; ; tag += "_" {
		if !strings.Contains(all, tag+"$") {
			return tag + "$"
		}
	}
}

// tag is the quote for what a script of this source quotes.
func (c *Config) tag() string {
	texts := append([]string{c.Source, c.Connection.User, c.Connection.Database, c.slotName(), c.chosenSQL("")}, c.publications()...)
	return dollarTag(texts...)
}

// nameSQL is a table's name in events as an SQL expression; see [change.TableName].
func nameSQL(schema, table string) string {
	part := func(name string) string {
		return "CASE WHEN " + name + `::text ~ '[."\x01-\x1f]' OR ` + name + "::text = '' THEN to_json(" + name + "::text)::text ELSE " + name + "::text END"
	}
	return "((" + part(schema) + ") || '.' || (" + part(table) + "))"
}

// chosenSQL is the table rules as an SQL condition on a qualified name.
func (c *Config) chosenSQL(name string) string {
	var b strings.Builder
	b.WriteString("CASE")
	for _, rule := range c.Rules {
		fmt.Fprintf(&b, " WHEN %s ~ %s THEN %t", name, literal(rule.Match.Expression()), rule.Active)
	}
	b.WriteString(" ELSE false END")
	return b.String()
}

// candidateSQL is what the rules choose as an SQL condition on pg_class c and
// pg_namespace n.
func (c *Config) candidateSQL() string {
	return "c.relkind = 'r' AND c.relpersistence = 'p' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND " + c.chosenSQL(nameSQL("n.nspname", "c.relname"))
}

// SetupSQL implements [engine.Engine]: what an administrator runs once, as a
// superuser in the source's database, so that the login can be left without any
// other right. It needs no connection to write, and can be run again: then it
// takes in the tables that came since.
func (c *Config) SetupSQL() string {
	user, database := quoted(c.Connection.User), quoted(c.Connection.Database)
	names := c.publications()
	tag := c.tag()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares database %s for Rillmark's source %s.", inComment(c.Connection.Database), c.Source)
	line("-- Run it as a superuser in that database. It can be run again: tables that have")
	line("-- come since are taken in, and all else stays. The server needs wal_level = logical.")
	line("")
	line("DO %s BEGIN", tag)
	line("  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = %s) THEN", literal(c.Connection.User))
	line("    CREATE ROLE %s LOGIN; -- then give it a password: \\password %s", user, inComment(user))
	line("  END IF;")
	line("END %s;", tag)
	line("ALTER ROLE %s LOGIN REPLICATION;", user)
	line("GRANT CONNECT ON DATABASE %s TO %s;", database, user)
	line("GRANT EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) TO %s;", user)
	line("")
	if c.Publication == "" {
		for i, publish := range []string{"insert, update, delete, truncate", "insert, truncate"} {
			line("DO %s BEGIN", tag)
			line("  IF NOT EXISTS (SELECT FROM pg_publication WHERE pubname = %s) THEN", literal(names[i]))
			line("    CREATE PUBLICATION %s WITH (publish = %s);", quoted(names[i]), literal(publish))
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
	line("CREATE OR REPLACE FUNCTION %s(chosen regclass) RETURNS void", c.publishFunction())
	line("LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS %s", tag)
	line("DECLARE t record; publication name;")
	line("BEGIN")
	line("  SELECT c.oid, n.nspname, c.relname,")
	line("      c.relreplident = 'f' OR EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisvalid AND i.indimmediate")
	line("        AND CASE c.relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END) AS keyed")
	line("    INTO t FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = chosen AND %s;", c.candidateSQL())
	line("  IF NOT FOUND THEN")
	line("    RAISE EXCEPTION 'the rules of source %% do not choose %%', %s, chosen USING ERRCODE = 'insufficient_privilege';", literal(c.Source))
	line("  END IF;")
	line("  EXECUTE format('GRANT USAGE ON SCHEMA %%I TO %%I', t.nspname, %s);", literal(c.Connection.User))
	line("  EXECUTE format('GRANT SELECT ON %%I.%%I TO %%I', t.nspname, t.relname, %s);", literal(c.Connection.User))
	if c.Publication == "" {
		line("  FOREACH publication IN ARRAY ARRAY[%s, %s]::name[] LOOP", literal(names[1]), literal(names[0]))
		line("    IF (publication = %s) = t.keyed AND NOT EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", literal(names[0]))
		line("      EXECUTE format('ALTER PUBLICATION %%I ADD TABLE ONLY %%I.%%I', publication, t.nspname, t.relname);")
		line("    ELSIF (publication = %s) <> t.keyed AND EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", literal(names[0]))
		line("      EXECUTE format('ALTER PUBLICATION %%I DROP TABLE %%I.%%I', publication, t.nspname, t.relname);")
		line("    END IF;")
		line("  END LOOP;")
	}
	line("END %s;", tag)
	line("REVOKE ALL ON FUNCTION %s(regclass) FROM PUBLIC;", c.publishFunction())
	line("GRANT USAGE ON SCHEMA rillmark TO %s;", user)
	line("GRANT EXECUTE ON FUNCTION %s(regclass) TO %s;", c.publishFunction(), user)
	line("")
	line("SELECT count(*) AS tables FROM (SELECT %s(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace", c.publishFunction())
	line("  WHERE %s) AS published;", c.candidateSQL())
	return b.String()
}

// TeardownSQL implements [engine.Engine]: the way back, which can be run again.
// The login's role stays where it owns anything else.
func (c *Config) TeardownSQL() string {
	tag := c.tag()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Takes away from database %s what was made for Rillmark's source %s.", inComment(c.Connection.Database), c.Source)
	line("-- Remove the source in Rillmark first. Run this as a superuser in that database.")
	line("")
	if c.Slot == "" {
		line("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = %s AND NOT active;", literal(c.slotName()))
	}
	if c.Publication == "" {
		for _, name := range c.publications() {
			line("DROP PUBLICATION IF EXISTS %s;", quoted(name))
		}
	}
	line("")
	line("DROP FUNCTION IF EXISTS %s(regclass);", c.publishFunction())
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
	line("  IF EXISTS (SELECT FROM pg_roles WHERE rolname = %s AND NOT rolsuper) THEN", literal(c.Connection.User))
	line("    EXECUTE (SELECT coalesce(string_agg(format('REVOKE ALL ON %%I.%%I FROM %%I;', n.nspname, c.relname, %s), ' '), 'SELECT 1')", literal(c.Connection.User))
	line("      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("      WHERE c.relkind = 'r' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND %s);", c.chosenSQL(nameSQL("n.nspname", "c.relname")))
	line("    EXECUTE (SELECT coalesce(string_agg(DISTINCT format('REVOKE USAGE ON SCHEMA %%I FROM %%I;', n.nspname, %s), ' '), 'SELECT 1')", literal(c.Connection.User))
	line("      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("      WHERE c.relkind = 'r' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND %s);", c.chosenSQL(nameSQL("n.nspname", "c.relname")))
	line("    REVOKE EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) FROM %s;", quoted(c.Connection.User))
	line("    IF EXISTS (SELECT FROM pg_namespace WHERE nspname = 'rillmark') THEN")
	line("      EXECUTE format('REVOKE ALL ON SCHEMA rillmark FROM %%I', %s);", literal(c.Connection.User))
	line("    END IF;")
	line("    REVOKE CONNECT ON DATABASE %s FROM %s;", quoted(c.Connection.Database), quoted(c.Connection.User))
	line("    ALTER ROLE %s NOREPLICATION;", quoted(c.Connection.User))
	line("  END IF;")
	line("END %s;", tag)
	return b.String()
}

// StatementsSQL implements [engine.Engine]: an event trigger that writes the text
// of each statement that changes a table's schema into the log, in order. Whatever
// goes wrong in it, the application's statement goes on.
func (c *Config) StatementsSQL() string {
	return `-- Has database ` + inComment(c.Connection.Database) + ` write each schema change's statement into its log, for Rillmark.
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
  SELECT jsonb_agg(jsonb_build_object('oid', c.oid::bigint, 'table', ` + nameSQL("n.nspname", "c.relname") + `, 'columns',
      (SELECT jsonb_agg(jsonb_build_object('name', a.attname, 'number', a.attnum) ORDER BY a.attnum)
        FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''),
      'partitions', CASE WHEN c.relkind = 'p' THEN (SELECT coalesce(jsonb_object_agg(l.oid::bigint, ` + nameSQL("ln.nspname", "l.relname") + `), '{}')
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
    PERFORM pg_logical_emit_message(true, ` + literal(statementPrefix) + `, jsonb_build_object('tag', tg_tag, 'statement', current_query(), 'tables', changed)::text);
  END IF;
END $body$;

CREATE OR REPLACE FUNCTION rillmark.note_drop() RETURNS event_trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $body$
DECLARE
  gone jsonb;
BEGIN
  BEGIN
  SELECT jsonb_agg(` + nameSQL("d.schema_name", "d.object_name") + `) INTO gone FROM pg_event_trigger_dropped_objects() d
    WHERE d.object_type = 'table' AND NOT d.is_temporary;
  EXCEPTION WHEN OTHERS THEN RETURN;
  END;
  IF gone IS NOT NULL THEN
    PERFORM pg_logical_emit_message(true, ` + literal(statementPrefix) + `, jsonb_build_object('tag', tg_tag, 'statement', current_query(), 'dropped', gone)::text);
  END IF;
END $body$;

DROP EVENT TRIGGER IF EXISTS rillmark_statement;
CREATE EVENT TRIGGER rillmark_statement ON ddl_command_end EXECUTE FUNCTION rillmark.note_statement();
DROP EVENT TRIGGER IF EXISTS rillmark_drop;
CREATE EVENT TRIGGER rillmark_drop ON sql_drop EXECUTE FUNCTION rillmark.note_drop();
`
}

// RunScript implements [engine.Engine]: in one transaction, as another login where
// user is not empty.
func (c *Config) RunScript(ctx context.Context, script, user, password string) error {
	config := c.session("script")
	if user != "" {
		config.User, config.Password = user, password
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		as := *c
		as.Connection = config // it names the login that was refused
		return as.explainAt(connecting, err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	var server *pgconn.PgError
	if _, err = conn.PgConn().Exec(ctx, script).ReadAll(); errors.As(err, &server) {
		return &engine.Fault{Code: "script-refused", Message: fmt.Sprintf("user %q could not run the script on %s: %s; nothing was changed", config.User, c.Connection.Database, server.Message),
			Fix: "run it as a superuser of that database"}
	}
	return c.explain(err)
}
