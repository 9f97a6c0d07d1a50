package mariadb

import (
	"context"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/wire"
)

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	reached := change.Check{Name: "server", Verdict: change.Good}
	conn, err := d.connect(ctx, "rillmark check")
	if err != nil {
		reached.Verdict, reached.Found, reached.Why, reached.Fix = change.Missing, err.Error(), "nothing can be delivered", "check host, port, user, password and tls"
		return []change.Check{reached}
	}
	defer conn.Close()
	row, err := conn.Row(ctx, 7, "SELECT version(), @@read_only, @@log_bin, @@binlog_format, @@max_allowed_packet, @@sql_log_bin, CURRENT_USER()")
	if err != nil {
		reached.Verdict, reached.Found = change.Missing, explained(err).Error()
		return []change.Check{reached}
	}
	reached.Found = "version " + row[0] + " answers"
	if conn.Encrypted() {
		reached.Found += ", encrypted"
	}
	if versionOf(row[0]) < oldest {
		reached.Verdict, reached.Why, reached.Fix = change.Missing, "statements that the outlet needs are not there", "use MariaDB 10.6 or newer"
	}
	checks := []change.Check{reached}
	if row[1] == "1" {
		checks = append(checks, change.Check{Name: "writes", Verdict: change.Missing, Found: "the server takes no changes (read_only is on)", Why: "nothing can be delivered", Fix: "name the server that writes, or SET GLOBAL read_only = OFF"})
	}
	if row[2] == "1" && row[3] == "STATEMENT" {
		checks = append(checks, change.Check{Name: "log", Verdict: change.Missing, Found: "the server logs statements (binlog_format = STATEMENT)", Why: "it does not let rows be written as outlets need it", Fix: "SET GLOBAL binlog_format = MIXED, or ROW"})
	}
	account := "CURRENT_USER"
	if user, host, found := strings.Cut(row[6], "@"); found {
		account = literal(user) + "@" + literal(host)
	}
	grants, err := conn.All(ctx, 1, "SHOW GRANTS")
	if err != nil {
		checks = append(checks, change.Check{Name: "rights", Verdict: change.Missing, Found: explained(err).Error()})
		return checks
	}
	checks = append(checks, d.checkOffsets(ctx, conn, grantsOf(grants), account), d.checkTables(grantsOf(grants), account))
	if d.options.Origin != "" {
		checks = append(checks, d.checkOrigin(ctx, conn, account))
	}
	return checks
}

// grants are rights by what they are for: "*.*", or a database with all of its tables.
type grants map[string]string

// grantsOf reads what SHOW GRANTS says, of whole databases and more.
func grantsOf(rows [][]string) grants {
	all := make(grants)
	for _, row := range rows {
		text, found := strings.CutPrefix(row[0], "GRANT ")
		rights, rest, on := strings.Cut(text, " ON ")
		object, _, to := strings.Cut(rest, " TO ")
		if found && on && to && strings.HasSuffix(object, ".*") {
			all[object] += rights + ", "
		}
	}
	return all
}

// lack lists the rights that the user does not have, on an object or on everything.
func (g grants) lack(object string, rights ...string) (lacking []string) {
	for _, right := range rights {
		has := false
		for _, given := range []string{g["*.*"], g[object]} {
			has = has || strings.Contains(", "+given, ", "+right+", ") || strings.HasPrefix(given, "ALL PRIVILEGES") || strings.Contains(given, ", ALL PRIVILEGES")
		}
		if !has {
			lacking = append(lacking, right)
		}
	}
	return lacking
}

var (
	offsetsRights = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "ALTER", "DROP", "CREATE TEMPORARY TABLES"}
	tablesRights  = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "ALTER", "DROP", "INDEX"}
)

// checkOffsets looks whether the database of the table of offsets is there and can be used.
func (d *Destination) checkOffsets(ctx context.Context, conn *wire.Conn, g grants, account string) change.Check {
	schema, name := d.options.offsetsTable()
	c := change.Check{Name: "table of offsets", Verdict: change.Good, Found: name + " can be written"}
	bare, bareName := d.options.OffsetsTable()
	there, err := conn.One(ctx, 1, "SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+literal(bare)+" AND TABLE_NAME = "+literal(bareName))
	if err != nil {
		c.Verdict, c.Found = change.Missing, explained(err).Error()
		return c
	}
	if there == nil {
		c.Found = name + " will be made"
	}
	if lacking := g.lack(schema+".*", offsetsRights...); len(lacking) > 0 {
		c.Verdict, c.Found, c.Why = change.Missing, fmt.Sprintf("the user lacks %s on %s", strings.Join(lacking, ", "), schema), "the outlet's offset is committed with the rows, and rows are staged in temporary tables there"
		c.Fix = fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s; GRANT %s ON %[1]s.* TO %[3]s", schema, strings.Join(offsetsRights, ", "), account)
	}
	return c
}

// checkTables looks whether tables can be made and written.
func (d *Destination) checkTables(g grants, account string) change.Check {
	c := change.Check{Name: "tables", Verdict: change.Good, Found: "databases and tables can be made"}
	if len(g.lack("*.*", tablesRights...)) == 0 {
		return c
	}
	offsets, _ := d.options.offsetsTable()
	var some []string
	for object := range g {
		if object != "*.*" && object != offsets+".*" && len(g.lack(object, tablesRights...)) == 0 {
			some = append(some, strings.TrimSuffix(object, ".*"))
		}
	}
	c.Verdict = change.Note
	if len(some) > 0 {
		c.Found, c.Why = "tables can be made in "+strings.Join(some, ", ")+" only", "a table of another database needs those rights there, or the outlet other names"
	} else {
		c.Found, c.Why = "no tables can be made", "outlets hold until each table that they need is there and may be written"
	}
	c.Fix = fmt.Sprintf("for each database that is needed: CREATE DATABASE NAME; GRANT %s ON NAME.* TO %s; or set mariadb.schema in the outlet", strings.Join(tablesRights, ", "), account)
	return c
}
