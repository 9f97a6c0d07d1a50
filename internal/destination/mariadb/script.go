package mariadb

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"rillmark/internal/mariadb/wire"
)

// inComment is a name as a comment of one line may hold it.
func inComment(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '?'
		}
		return r
	}, name)
}

// account is the login in scripts: from which host it comes is the administrator's to say.
func (d *Destination) account() string { return literal(d.settings.User) + "@'%'" }

// SetupSQL implements [destination.Scripter].
func (d *Destination) SetupSQL(outlet string, tables []string) string {
	offsets, _ := d.options.offsetsTable()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares a server for Rillmark's outlet %s. Run it as an administrator; it can be run", outlet)
	line("-- again. Put the host that the service connects from in place of '%%'.")
	line("")
	line("CREATE USER IF NOT EXISTS %s; -- then: SET PASSWORD FOR %s = PASSWORD('...');", d.account(), inComment(d.account()))
	line("")
	line("-- The outlet's offset is committed with the rows, in a table here; rows are staged beside it.")
	line("CREATE DATABASE IF NOT EXISTS %s CHARACTER SET utf8mb4;", offsets)
	line("GRANT %s ON %s.* TO %s;", strings.Join(offsetsRights, ", "), offsets, d.account())
	rights := tablesRights
	if d.options.Definitions == "fixed" {
		rights = []string{"SELECT", "INSERT", "UPDATE", "DELETE"}
	}
	for _, database := range d.databases(tables) {
		line("")
		line("CREATE DATABASE IF NOT EXISTS %s CHARACTER SET utf8mb4;", database)
		line("GRANT %s ON %s.* TO %s;", strings.Join(rights, ", "), database, d.account())
	}
	if d.options.Origin != "" {
		line("")
		line("-- The outlet's transactions stand in the log under a server id of their own.")
		line("GRANT BINLOG REPLAY ON *.* TO %s;", d.account())
	}
	return b.String()
}

// TeardownSQL implements [destination.Scripter].
func (d *Destination) TeardownSQL(outlet string, tables []string) string {
	schema, offsets := d.options.offsetsTable()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Takes away what was made for Rillmark's outlet %s. Remove the outlet in Rillmark first, and", outlet)
	line("-- run this as an administrator. The tables and their rows stay.")
	line("")
	line("DELETE FROM %s WHERE outlet = %s;", offsets, literal(outlet))
	line("")
	line("-- Where no other outlet uses this login:")
	line("-- DROP TABLE %s;", inComment(offsets))
	for _, database := range append(d.databases(tables), schema) {
		line("-- REVOKE ALL PRIVILEGES ON %s.* FROM %s;", inComment(database), inComment(d.account()))
	}
	if d.options.Origin != "" {
		line("-- REVOKE BINLOG REPLAY ON *.* FROM %s;", inComment(d.account()))
	}
	line("-- DROP USER %s;", inComment(d.account()))
	return b.String()
}

// databases are the quoted names of those that rows of the source's tables go to.
func (d *Destination) databases(tables []string) (all []string) {
	for _, table := range tables {
		if database, _, err := d.options.Place(table, longestName); err == nil {
			all = append(all, wire.Name(database))
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
