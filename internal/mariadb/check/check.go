// Package check says what a MariaDB source lacks to be captured, one verdict a line, each
// with its fix, and lists the tables.
package check

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// Check implements [engine.Engine].
func Check(ctx context.Context, c *session.Config) []change.Check {
	c.Defaults()
	conn, err := c.Connect(ctx, "check")
	if err != nil {
		return []change.Check{failed("connection", err, "nothing else can be looked at before the source lets us in")}
	}
	defer conn.Close()
	checks := []change.Check{connection(c, conn)}
	for _, one := range []func(context.Context, *session.Config, *wire.Conn) ([]change.Check, error){server, log, rights, clock, position, tables} {
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

func connection(c *session.Config, conn *wire.Conn) change.Check {
	check := change.Check{Name: "connection", Verdict: change.Good, Found: fmt.Sprintf("%s lets user %q in, encrypted", c.Where(), c.User)}
	if conn.Encrypted() || strings.HasPrefix(c.Host, "/") {
		if !conn.Encrypted() {
			check.Found = fmt.Sprintf("%s lets user %q in", c.Where(), c.User)
		}
		return check
	}
	check.Found = fmt.Sprintf("%s lets user %q in; the connection is not encrypted", c.Where(), c.User)
	if !c.Local() {
		check.Verdict, check.Why, check.Fix = change.Note, "whoever reads along sees every row", "set ssl_cert and ssl_key on the server, and tls: verify-full in the source's connection"
	}
	return check
}

// server looks at what the server is and how it writes its log.
func server(ctx context.Context, c *session.Config, conn *wire.Conn) ([]change.Check, error) {
	row, err := conn.Row(ctx, 9, "SELECT version(), @@global.server_id, @@global.log_bin, @@global.binlog_format, @@global.binlog_row_image, @@global.binlog_row_metadata, @@global.sync_binlog, @@global.mysql56_temporal_format, @@global.binlog_annotate_row_events")
	if err != nil {
		return nil, err
	}
	var checks []change.Check
	add := func(name string, good bool, verdict change.Verdict, found, why, fix string) {
		if good {
			checks = append(checks, change.Check{Name: name, Verdict: change.Good, Found: found})
			return
		}
		checks = append(checks, change.Check{Name: name, Verdict: verdict, Found: found, Why: why, Fix: fix})
	}
	add("server", strings.Contains(row[0], "MariaDB"), change.Missing, "the server is "+row[0], "this engine reads MariaDB's log", "choose the engine of that server, where there is one")
	add("log_bin", row[2] == "1", change.Missing, "the binary log is "+map[bool]string{true: "on", false: "off"}[row[2] == "1"], "changes are read from it", "in the server's configuration: log_bin = binlog, server_id = 1; then restart the server")
	if row[2] != "1" {
		return checks, nil
	}
	add("server_id", row[1] != "0", change.Missing, "server_id is "+row[1], "a server without a number sends its log to nobody", "SET GLOBAL server_id = 1, and in the server's configuration")
	add("binlog_format", row[3] == "ROW", change.Missing, "binlog_format is "+row[3], "statements in the log do not say which rows they changed", "SET GLOBAL binlog_format = 'ROW', and in the server's configuration; sessions that are open keep the old one until they end")
	add("binlog_row_image", row[4] == "FULL", change.Missing, "binlog_row_image is "+row[4], "columns that are not logged are omitted in events: of a new row those that its statement does not name, so that its table becomes stale, of a changed row those that did not change", "SET GLOBAL binlog_row_image = 'FULL', and in the server's configuration")
	add("binlog_row_metadata", row[5] == "FULL", change.Missing, "binlog_row_metadata is "+row[5], "without it the log does not name columns, and a row could be read by the wrong definition", "SET GLOBAL binlog_row_metadata = 'FULL', and in the server's configuration")
	add("sync_binlog", row[6] == "1", change.Note, "sync_binlog is "+row[6], "after a power failure the server may take back transactions that were captured", "SET GLOBAL sync_binlog = 1, and in the server's configuration")
	add("temporal format", row[7] == "1", change.Note, "mysql56_temporal_format is "+row[7], "the log does not say how many decimals times have in tables that are made under this setting: they are looked up on the server, where a later ALTER may have changed them already", "SET GLOBAL mysql56_temporal_format = ON, and ALTER TABLE ... FORCE for tables that were made before")
	if c.Statements {
		add("binlog_annotate_row_events", row[8] == "1", change.Note, "binlog_annotate_row_events is "+row[8], "row_statements asks for the texts of statements, which the server does not write", "SET GLOBAL binlog_annotate_row_events = 1, and in the server's configuration")
	}
	return checks, nil
}

// log looks at how much of its log the server keeps, and what it leaves out of it.
func log(ctx context.Context, _ *session.Config, conn *wire.Conn) ([]change.Check, error) {
	status, err := conn.One(ctx, 2, "SHOW BINLOG STATUS")
	if session.IsDenied(err) || len(status) < 4 {
		return nil, nil // said among the rights, and by log_bin
	}
	if err != nil {
		return nil, err
	}
	filters := change.Check{Name: "filters", Verdict: change.Good, Found: "the log leaves out no database"}
	if status[2] != "" || status[3] != "" {
		filters = change.Check{Name: "filters", Verdict: change.Missing, Found: strings.TrimSpace(fmt.Sprintf("binlog_do_db is %q, binlog_ignore_db is %q", status[2], status[3])),
			Why: "rows are left out by their table's database, and statements by the session's: a table can change its columns unseen", Fix: "take binlog_do_db and binlog_ignore_db out of the server's configuration and restart it; leave tables out by the source's rules"}
	}
	held, err := Held(ctx, conn)
	if err != nil {
		return nil, err
	}
	kept := change.Check{Name: "kept log", Verdict: change.Good, Found: held.words()}
	switch {
	case held.For == 0:
		kept.Verdict, kept.Why, kept.Fix = change.Note, "the server never purges its log by itself: it grows until the disk is full", "SET GLOBAL binlog_expire_logs_seconds = 604800, and in the server's configuration"
	case held.For < 24*time.Hour:
		kept.Verdict, kept.Why, kept.Fix = change.Note, "what a source has not read when it is purged is lost for it, and the source has to be loaded anew", "SET GLOBAL binlog_expire_logs_seconds = 604800, and in the server's configuration"
	}
	return []change.Check{filters, kept}, nil
}

// Kept is how much of its log a server has, and for how long it keeps it.
type Kept struct {
	Files []LogFile
	// For is how long a file is kept at least; 0 means that none is purged.
	For time.Duration
}

// LogFile is one file of the log.
type LogFile struct {
	Name  string
	Bytes int64
}

// Held asks for it.
func Held(ctx context.Context, conn *wire.Conn) (k Kept, err error) {
	files, err := conn.All(ctx, 2, "SHOW BINARY LOGS")
	if err != nil {
		return k, err
	}
	for _, f := range files {
		size, _ := strconv.ParseInt(f[1], 10, 64) // the server's own number
		k.Files = append(k.Files, LogFile{f[0], size})
	}
	row, err := conn.Row(ctx, 1, "SELECT round(@@global.expire_logs_days * 86400)")
	if err != nil {
		return k, err
	}
	seconds, _ := strconv.ParseFloat(row[0], 64)
	k.For = time.Duration(seconds) * time.Second
	return k, nil
}

// span is how long a file is kept, in days where it is some.
func (k *Kept) span() string {
	if days := k.For.Hours() / 24; days >= 1 {
		return strconv.FormatFloat(days, 'f', -1, 64) + " days"
	}
	return k.For.String()
}

func (k *Kept) words() string {
	total := int64(0)
	for _, f := range k.Files {
		total += f.Bytes
	}
	text := fmt.Sprintf("%d files, %.1f MiB", len(k.Files), float64(total)/(1<<20))
	if k.For > 0 {
		return text + "; a file is purged after " + k.span()
	}
	return text + "; none is purged by itself"
}

// rights looks at what the login may do.
func rights(ctx context.Context, c *session.Config, conn *wire.Conn) ([]change.Check, error) {
	account := "CURRENT_USER"
	if row, err := conn.One(ctx, 1, "SELECT CURRENT_USER()"); err == nil && len(row) > 0 {
		if user, host, found := strings.Cut(row[0], "@"); found {
			account = wire.Text(user) + "@" + wire.Text(host)
		}
	}
	rows, err := conn.All(ctx, 1, "SHOW GRANTS")
	if err != nil {
		return nil, err
	}
	var global string
	for _, row := range rows {
		if before, _, found := strings.Cut(row[0], " ON *.* TO "); found {
			global += before + ","
		}
	}
	has := func(right string) bool {
		return strings.Contains(global, "ALL PRIVILEGES") || strings.Contains(global, " "+right+",") || strings.HasSuffix(global, " "+right)
	}
	var checks []change.Check
	add := func(name, right, why string) {
		check := change.Check{Name: name, Verdict: change.Good, Found: fmt.Sprintf("user %q has %s", c.User, right)}
		if !has(right) {
			check = change.Check{Name: name, Verdict: change.Missing, Found: fmt.Sprintf("user %q does not have %s", c.User, right), Why: why, Fix: "GRANT " + right + " ON *.* TO " + account}
		}
		checks = append(checks, check)
	}
	add("right to replicate", "REPLICATION SLAVE", "the log is sent to nobody without it")
	_, err = conn.All(ctx, 2, "SHOW BINLOG STATUS")
	if err != nil && !session.IsDenied(err) {
		return nil, err
	}
	if err != nil {
		add("right to the log", "BINLOG MONITOR", "a load has to know where the log ends")
	}
	hosts, err := conn.All(ctx, 1, "SHOW REPLICA HOSTS")
	switch {
	case session.IsDenied(err):
		checks = append(checks, change.Check{Name: "reader ID", Verdict: change.Note, Found: "whether another reader of the log has the same number cannot be seen", Why: "two readers of one number throw each other out",
			Fix: "GRANT REPLICATION MASTER ADMIN ON *.* TO " + account})
	case err != nil:
		return nil, err
	case c.ReaderID != 0:
		id := strconv.FormatUint(uint64(c.ReaderID), 10)
		if i := slices.IndexFunc(hosts, func(h []string) bool { return h[0] == id && !strings.HasPrefix(h[1], "rillmark-"+c.Source+"-") }); i >= 0 {
			checks = append(checks, change.Check{Name: "reader ID", Verdict: change.Missing, Found: fmt.Sprintf("another reader has the number %s (%s)", id, hosts[i][1]), Why: "two readers of one number throw each other out", Fix: "give this source another reader_id in its connection"})
		}
	}
	return checks, nil
}

// position looks whether the log has the place that a source is to follow from.
func position(ctx context.Context, c *session.Config, conn *wire.Conn) ([]change.Check, error) {
	if c.From == "" {
		return nil, nil
	}
	from, err := stream.ParseGTIDs(c.From)
	if err != nil {
		return nil, err
	}
	row, err := conn.Row(ctx, 1, "SELECT @@global.gtid_binlog_pos")
	if err != nil {
		return nil, err
	}
	now, err := stream.ParseGTIDs(row[0])
	if err != nil {
		return nil, err
	}
	for domain, at := range from {
		if end, known := now[domain]; !known || at.Sequence > end.Sequence {
			return []change.Check{{Name: "place to follow from", Verdict: change.Missing, Found: fmt.Sprintf("the log ends at %s, before %s", row[0], c.From), Why: "what is committed until it comes there would be passed over, or belongs to another server",
				Fix: "give from_position the place where the load ended, as SELECT @@gtid_binlog_pos shows it there"}}, nil
		}
	}
	return []change.Check{{Name: "place to follow from", Verdict: change.Good, Found: c.From + " lies in the log, which ends at " + row[0]}}, nil
}

// clock compares the server's with ours.
func clock(ctx context.Context, _ *session.Config, conn *wire.Conn) ([]change.Check, error) {
	row, err := conn.Row(ctx, 1, "SELECT unix_timestamp(sysdate(6))")
	if err != nil {
		return nil, err
	}
	seconds, _ := strconv.ParseFloat(row[0], 64)
	apart := time.Since(time.UnixMicro(int64(seconds * 1e6))).Round(time.Millisecond)
	check := change.Check{Name: "clock", Verdict: change.Good, Found: "the server's clock and ours agree to the second"}
	if apart.Abs() > 2*time.Second {
		check = change.Check{Name: "clock", Verdict: change.Note, Found: fmt.Sprintf("the server's clock and ours are %s apart", apart.Abs()), Why: "delays are measured from the time that a transaction carries", Fix: "have both follow a time server"}
	}
	return []change.Check{check}, nil
}

// Tables implements [engine.Engine].
func Tables(ctx context.Context, c *session.Config) ([]engine.Table, error) {
	conn, err := c.Connect(ctx, "tables")
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	reader, err := catalogue.NewReader(ctx, conn)
	if err != nil {
		return nil, c.Explain(err)
	}
	all, err := reader.List(ctx, "", "")
	if err != nil {
		return nil, c.Explain(err)
	}
	list := make([]engine.Table, 0, len(all))
	for name, t := range all {
		one := engine.Table{Name: name, Captured: c.Rules.For(name) != nil, Key: t.Key(), RowsEstimate: t.Rows, Identity: "row", CannotPublish: t.Unfit, Columns: []engine.TableColumn{}}
		if one.Key == nil {
			one.Key = []string{}
			one.Advice = "it has no key: consumers cannot tell two equal rows apart"
		}
		if t.ByTransaction {
			one.CannotPublish = "it keeps its history by transaction numbers, and such tables are logged as statements"
		}
		for _, column := range t.Columns {
			one.Columns = append(one.Columns, engine.TableColumn{Name: column.Name, Type: column.Type, Labels: column.Labels})
		}
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b engine.Table) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}

// Remains implements [engine.Engine]: nothing of ours is on a server but the login.
func Remains(ctx context.Context, c *session.Config) ([]string, error) {
	conn, err := c.Connect(ctx, "removal")
	if err != nil {
		return nil, err
	}
	conn.Close()
	return []string{"user " + c.User + ", and what it was granted"}, nil
}

// Condition says why a condition cannot choose rows of a table: the server itself says
// whether it takes it.
func Condition(ctx context.Context, c *session.Config, table, condition string) error {
	database, name, ok := change.SplitTable(table)
	if !ok {
		return &engine.Fault{Code: "unknown-table", Message: fmt.Sprintf("%q is no table's name", table)}
	}
	conn, err := c.Connect(ctx, "check")
	if err != nil {
		return err
	}
	defer conn.Close()
	// Planned, never run; a second statement cannot hide in it, since the session takes one
	// at a time.
	err = conn.Exec(ctx, "EXPLAIN SELECT 1 FROM "+wire.Name(database)+"."+wire.Name(name)+" WHERE ("+condition+"\n)")
	var server *wire.Error
	if errors.As(err, &server) {
		return &engine.Fault{Code: "bad-condition", Message: fmt.Sprintf("the condition %q cannot be used on %s: %s", condition, table, server.Message), Fix: "write it as after WHERE in the source's own SQL"}
	}
	return c.Explain(err)
}
