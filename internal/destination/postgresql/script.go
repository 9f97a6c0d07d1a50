package postgresql

import (
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/postgres/session"
)

// SetupSQL implements [destination.Scripter].
func (d *Destination) SetupSQL(outlet string, tables []string) string {
	user := d.quotedUser()
	offsetsSchema, _ := d.options.offsetsTable()
	schemas, names := d.placed(tables)
	tag := session.DollarTag(append([]string{outlet, d.settings.User, offsetsSchema}, names...)...)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares database %s for Rillmark's outlet %s.", session.InComment(d.settings.Database), outlet)
	line("-- Run it as a superuser in that database. It can be run again: tables that have come to the")
	line("-- source since are taken in, and all else stays.")
	line("")
	line("DO %s BEGIN", tag)
	line("  IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = %s) THEN", literal(d.settings.User))
	line("    CREATE ROLE %s LOGIN; -- then give it a password: \\password %s", user, session.InComment(user))
	line("  END IF;")
	line("END %s;", tag)
	line("GRANT CONNECT, TEMPORARY ON DATABASE %s TO %s;", quoted(d.settings.Database), user)
	line("")
	line("-- The outlet's offset is committed with the rows, in a table here.")
	line("CREATE SCHEMA IF NOT EXISTS %s;", offsetsSchema)
	line("GRANT USAGE, CREATE ON SCHEMA %s TO %s;", offsetsSchema, user)
	line("")
	rights := "USAGE, CREATE"
	if d.options.Definitions == "fixed" {
		rights = "USAGE"
	}
	for _, schema := range schemas {
		line("CREATE SCHEMA IF NOT EXISTS %s;", schema)
		line("GRANT %s ON SCHEMA %s TO %s;", rights, schema, user)
	}
	if len(names) > 0 {
		line("")
		line("-- Tables that are there already. To alter one, the login has to own it.")
		line("DO %s BEGIN", tag)
		for _, name := range names {
			line("  IF to_regclass(%s) IS NOT NULL THEN", literal(name))
			line("    GRANT SELECT, INSERT, UPDATE, DELETE ON %s TO %s;", name, user)
			if d.options.Definitions != "fixed" {
				line("    -- ALTER TABLE %s OWNER TO %s;", session.InComment(name), session.InComment(user))
			}
			line("  END IF;")
		}
		line("END %s;", tag)
	}
	if d.options.Triggers == "skip" {
		line("")
		line("-- Triggers and foreign keys do nothing for rows that the outlet writes: PostgreSQL 15 or newer.")
		line("DO %s BEGIN", tag)
		line("  IF current_setting('server_version_num')::int >= 150000 THEN")
		line("    EXECUTE format('GRANT SET ON PARAMETER session_replication_role TO %%I', %s::text);", literal(d.settings.User))
		line("  END IF;")
		line("END %s;", tag)
	}
	if d.options.Origin != "" {
		line("")
		line("-- The outlet's transactions are marked with a replication origin.")
		line(makeOrigin+";", literal(d.options.Origin))
		line("GRANT EXECUTE ON FUNCTION %s TO %s;", originFunctions, user)
	}
	return b.String()
}

// TeardownSQL implements [destination.Scripter].
func (d *Destination) TeardownSQL(outlet string, tables []string) string {
	user := d.quotedUser()
	offsetsSchema, offsets := d.options.offsetsTable()
	schemas, names := d.placed(tables)
	tag := session.DollarTag(append([]string{outlet, d.settings.User, offsetsSchema, offsets}, names...)...)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Takes away from database %s what was made for Rillmark's outlet %s.", session.InComment(d.settings.Database), outlet)
	line("-- Remove the outlet in Rillmark first. Run this as a superuser in that database.")
	line("")
	line("-- The tables and their rows stay, with another owner. To drop them, too:")
	for _, name := range names {
		line("-- DROP TABLE IF EXISTS %s;", session.InComment(name))
	}
	line("DO %s BEGIN", tag)
	line("  IF to_regclass(%s) IS NOT NULL THEN", literal(offsets))
	line("    DELETE FROM %s WHERE outlet = %s;", offsets, literal(outlet))
	line("    IF NOT EXISTS (SELECT FROM %s) THEN", offsets)
	line("      DROP TABLE %s; -- this was the last outlet", offsets)
	line("    END IF;")
	line("  END IF;")
	line("  IF EXISTS (SELECT FROM pg_roles WHERE rolname = %s AND NOT rolsuper) THEN", literal(d.settings.User))
	for _, name := range names {
		line("    IF to_regclass(%s) IS NOT NULL THEN", literal(name))
		line("      ALTER TABLE %s OWNER TO CURRENT_USER;", name)
		line("      REVOKE ALL ON %s FROM %s;", name, user)
		line("    END IF;")
	}
	line("    IF to_regclass(%s) IS NULL THEN", literal(offsets))
	for _, schema := range append(slices.Clone(schemas), offsetsSchema) {
		line("      IF to_regnamespace(%s) IS NOT NULL THEN", literal(schema))
		line("        REVOKE ALL ON SCHEMA %s FROM %s;", schema, user)
		line("      END IF;")
	}
	line("      REVOKE CONNECT, TEMPORARY ON DATABASE %s FROM %s;", quoted(d.settings.Database), user)
	line("      IF current_setting('server_version_num')::int >= 150000 THEN")
	line("        EXECUTE format('REVOKE SET ON PARAMETER session_replication_role FROM %%I', %s::text);", literal(d.settings.User))
	line("      END IF;")
	if d.options.Origin != "" {
		line("      REVOKE EXECUTE ON FUNCTION %s FROM %s;", originFunctions, user)
	}
	line("    END IF;")
	line("  END IF;")
	line("END %s;", tag)
	if d.options.Origin != "" {
		line("SELECT pg_catalog.pg_replication_origin_drop(name) FROM (SELECT %s AS name) one WHERE pg_catalog.pg_replication_origin_oid(name) IS NOT NULL;", literal(d.options.Origin))
	}
	return b.String()
}

// placed are the quoted names of the schemas and of the tables that rows of the source's tables
// go to.
func (d *Destination) placed(tables []string) (schemas, names []string) {
	for _, table := range tables {
		schema, name, err := d.options.Place(table, longestName)
		if err != nil {
			continue // the check says it
		}
		schemas, names = append(schemas, quoted(schema)), append(names, quoted(schema)+"."+quoted(name))
	}
	slices.Sort(schemas)
	return slices.Compact(schemas), names
}
