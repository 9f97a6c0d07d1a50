// Package script writes what an administrator runs on a MariaDB source, with the least
// rights for the login, and runs it.
package script

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
)

// rights are those of the login on the whole server.
const rights = "REPLICATION SLAVE, BINLOG MONITOR, REPLICATION MASTER ADMIN"

// Setup is what an administrator runs once, so that the login needs no other right. It
// needs no connection to write, and can be run again.
func Setup(c *session.Config) string {
	user := account(c)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Prepares a MariaDB server for Rillmark's source %s.", c.Source)
	line("-- Run it as an administrator. It can be run again. The server's configuration needs")
	line("--   log_bin = binlog, server_id = 1, binlog_format = ROW, binlog_row_image = FULL, binlog_row_metadata = FULL")
	line("")
	line("SET GLOBAL binlog_format = 'ROW';")
	line("SET GLOBAL binlog_row_image = 'FULL';")
	line("SET GLOBAL binlog_row_metadata = 'FULL';")
	line("")
	line("-- Then give the user a password: ALTER USER %s IDENTIFIED BY '...';", user)
	line("CREATE USER IF NOT EXISTS %s;", user)
	line("")
	line("-- The log, where it ends, and whether another reader has the same number.")
	line("GRANT %s ON *.* TO %s;", rights, user)
	line("")
	line("-- The tables that the rules may choose; a lock for an instant shows, before a load,")
	line("-- which commits its snapshot sees; REFERENCES shows foreign keys, whose cascades are")
	line("-- not logged.")
	for _, on := range scopes(c) {
		line("GRANT SELECT, LOCK TABLES, REFERENCES ON %s TO %s;", on, user)
	}
	return b.String()
}

// Teardown is the way back, which can be run again.
func Teardown(c *session.Config) string {
	var b strings.Builder
	fmt.Fprintf(&b, "-- Takes away what was made for Rillmark's source %s. Remove the source in Rillmark first.\n", c.Source)
	fmt.Fprintf(&b, "-- The settings of the log stay: others may read it.\n\nDROP USER IF EXISTS %s;\n", account(c))
	return b.String()
}

// Statements is what has the server write the statements that change a schema into its log.
func Statements(*session.Config) string {
	return "-- Nothing is to be done: a MariaDB server writes every statement that changes a schema into its log.\nDO 0;\n"
}

func account(c *session.Config) string { return wire.Text(c.User) + "@'%'" }

// scopes are the databases whose tables the rules may choose; all where a rule leaves the
// database open.
func scopes(c *session.Config) []string {
	var all []string
	for i := range c.Rules {
		if !c.Rules[i].Active {
			continue
		}
		database, _, ok := change.SplitTable(c.Rules[i].Match.String())
		if !ok || strings.ContainsAny(database, "*?[{^$(|") || strings.HasPrefix(c.Rules[i].Match.String(), "/") {
			return []string{"*.*"}
		}
		if on := wire.Name(database) + ".*"; !slices.Contains(all, on) {
			all = append(all, on)
		}
	}
	return all
}

// Run runs a script's statements one after the other, as another login where user is not
// empty. A server takes no statements on users back: the error says how far it came.
func Run(ctx context.Context, c *session.Config, script, user, password string) error {
	as := *c
	if user != "" {
		as.User, as.Password = user, password
	}
	conn, err := as.Connect(ctx, "script")
	if err != nil {
		return err
	}
	defer conn.Close()
	for i, statement := range statements(script) {
		err := conn.Exec(ctx, statement)
		var server *wire.Error
		if errors.As(err, &server) {
			return &engine.Fault{Code: "script-refused", Message: fmt.Sprintf("user %q could not run %q on %s: %s%s", as.User, statement, c.Where(), server.Message, []string{"", "; what stands before it in the script is done"}[min(i, 1)]),
				Fix: "run it as an administrator; it can be run again"}
		}
		if err != nil {
			return c.Explain(err)
		}
	}
	return nil
}

// statements are those of one of our own scripts: each ends with a semicolon at a line's end.
func statements(script string) []string {
	var lines []string
	for line := range strings.Lines(script) {
		if !strings.HasPrefix(line, "--") {
			lines = append(lines, line)
		}
	}
	var all []string
	for _, one := range strings.Split(strings.Join(lines, ""), ";\n") {
		if one = strings.TrimSpace(one); one != "" {
			all = append(all, one)
		}
	}
	return all
}
