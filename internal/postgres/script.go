package postgres

import (
	"fmt"
	"strings"
)

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

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

// SetupSQL implements [engine.Engine]: what an administrator runs once, as a
// superuser in the source's database, so that the login can be left without any
// other right. It needs no connection to write, and can be run again: then it
// takes in the tables that came since.
func (c *Config) SetupSQL() string {
	user, database := quoted(c.Connection.User), quoted(c.Connection.Database)
	names := c.publications()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares database %s for Rillmark's source %s.", c.Connection.Database, c.Source)
	line("-- Run it as a superuser in that database. It can be run again: tables that have")
	line("-- come since are taken in, and all else stays. The server needs wal_level = logical.")
	line("")
	line("DO $$ BEGIN")
	line("  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = %s) THEN", literal(c.Connection.User))
	line("    CREATE ROLE %s LOGIN; -- then give it a password: \\password %s", user, c.Connection.User)
	line("  END IF;")
	line("END $$;")
	line("ALTER ROLE %s LOGIN REPLICATION;", user)
	line("GRANT CONNECT ON DATABASE %s TO %s;", database, user)
	line("GRANT EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) TO %s;", user)
	line("")
	line("-- The tables that the rules choose may be read, and are published. Those without a")
	line("-- key are published without updates and deletes, which the server would refuse the")
	line("-- application otherwise.")
	line("DO $$")
	line("DECLARE t record; publication name;")
	line("BEGIN")
	if c.Publication == "" {
		for i, publish := range []string{"insert, update, delete, truncate", "insert, truncate"} {
			line("  IF NOT EXISTS (SELECT FROM pg_publication WHERE pubname = %s) THEN", literal(names[i]))
			line("    CREATE PUBLICATION %s WITH (publish = %s);", quoted(names[i]), literal(publish))
			line("  END IF;")
		}
	}
	line("  FOR t IN SELECT c.oid, n.nspname, c.relname,")
	line("      c.relreplident = 'f' OR EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisvalid AND i.indimmediate")
	line("        AND CASE c.relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END) AS keyed")
	line("    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("    WHERE c.relkind = 'r' AND c.relpersistence = 'p' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'")
	line("      AND %s", c.chosenSQL("n.nspname || '.' || c.relname"))
	line("  LOOP")
	line("    EXECUTE format('GRANT USAGE ON SCHEMA %%I TO %%I', t.nspname, %s);", literal(c.Connection.User))
	line("    EXECUTE format('GRANT SELECT ON %%I.%%I TO %%I', t.nspname, t.relname, %s);", literal(c.Connection.User))
	if c.Publication == "" {
		line("    FOREACH publication IN ARRAY ARRAY[%s, %s]::name[] LOOP", literal(names[1]), literal(names[0]))
		line("      IF (publication = %s) = t.keyed AND NOT EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", literal(names[0]))
		line("        EXECUTE format('ALTER PUBLICATION %%I ADD TABLE ONLY %%I.%%I', publication, t.nspname, t.relname);")
		line("      ELSIF (publication = %s) <> t.keyed AND EXISTS (SELECT FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid WHERE p.pubname = publication AND r.prrelid = t.oid) THEN", literal(names[0]))
		line("        EXECUTE format('ALTER PUBLICATION %%I DROP TABLE %%I.%%I', publication, t.nspname, t.relname);")
		line("      END IF;")
		line("    END LOOP;")
	}
	line("  END LOOP;")
	line("END $$;")
	return b.String()
}

// TeardownSQL implements [engine.Engine]: the way back, which can be run again.
// The login's role stays where it owns anything else.
func (c *Config) TeardownSQL() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Takes away from database %s what was made for Rillmark's source %s.", c.Connection.Database, c.Source)
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
	line("DO $$ BEGIN")
	line("  IF EXISTS (SELECT FROM pg_roles WHERE rolname = %s AND NOT rolsuper) THEN", literal(c.Connection.User))
	line("    EXECUTE (SELECT coalesce(string_agg(format('REVOKE ALL ON %%I.%%I FROM %%I;', n.nspname, c.relname, %s), ' '), 'SELECT 1')", literal(c.Connection.User))
	line("      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace")
	line("      WHERE c.relkind = 'r' AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND %s);", c.chosenSQL("n.nspname || '.' || c.relname"))
	line("    REVOKE CONNECT ON DATABASE %s FROM %s;", quoted(c.Connection.Database), quoted(c.Connection.User))
	line("    ALTER ROLE %s NOREPLICATION;", quoted(c.Connection.User))
	line("  END IF;")
	line("END $$;")
	return b.String()
}
