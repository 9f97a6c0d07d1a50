package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// oldestVersion is the oldest server that was tried.
const oldestVersion = 150000

// Tables implements [engine.Engine].
func (c *Config) Tables(ctx context.Context) ([]engine.Table, error) {
	conn, err := c.connect(ctx, "tables")
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	all, err := list(ctx, conn)
	if err != nil {
		return nil, c.explain(err)
	}
	tables := make([]engine.Table, len(all))
	for i, l := range all {
		tables[i] = l.describe(c)
	}
	return tables, nil
}

// Remove implements [engine.Engine]: it drops the slot and the publications that
// are ours. What is not there any more is no error.
func (c *Config) Remove(ctx context.Context) error {
	conn, err := c.connect(ctx, "removal")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	if c.Slot == "" {
		// The server lets go of a slot a moment after its reader has gone.
		for attempt := 0; ; attempt++ {
			_, err := conn.Exec(ctx, "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1", c.slotName())
			var server *pgconn.PgError
			if errors.As(err, &server) && server.Code == "55006" && attempt < 50 {
				select {
				case <-ctx.Done():
					return context.Cause(ctx)
				case <-time.After(100 * time.Millisecond):
				}
				continue
			}
			if err != nil {
				return c.explain(err)
			}
			break
		}
	}
	if c.Publication != "" {
		return nil
	}
	// One that an administrator made for us, by setup-sql, is the administrator's.
	rows, _ := conn.Query(ctx, "SELECT pubname::text FROM pg_publication WHERE pubname = ANY($1) AND pg_has_role(pubowner, 'USAGE')", c.publications())
	ours, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return c.explain(err)
	}
	for _, name := range ours {
		if _, err := conn.Exec(ctx, "DROP PUBLICATION IF EXISTS "+quoted(name)); err != nil {
			return c.explain(err)
		}
	}
	return nil
}

// Check implements [engine.Engine].
func (c *Config) Check(ctx context.Context) []change.Check {
	conn, err := c.connect(ctx, "check")
	if err != nil {
		return []change.Check{failed("connection", err, "nothing else can be looked at before the source lets us in")}
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	found := fmt.Sprintf("connected to %s on %s:%d as %s", c.Connection.Database, c.Connection.Host, c.Connection.Port, c.Connection.User)
	checks := []change.Check{{Name: "connection", Verdict: change.Good, Found: found}}
	for _, one := range []func(context.Context, *pgx.Conn) ([]change.Check, error){
		c.checkServer, c.checkReplication, c.checkSlot, c.checkPublication, c.checkTables,
	} {
		more, err := one(ctx, conn)
		if err != nil {
			return append(checks, failed("source", c.explain(err), ""))
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

func (c *Config) checkServer(ctx context.Context, conn *pgx.Conn) ([]change.Check, error) {
	var version int
	var text, level string
	var clock time.Time
	err := conn.QueryRow(ctx, "SELECT current_setting('server_version_num')::int, current_setting('server_version'), current_setting('wal_level'), clock_timestamp()").
		Scan(&version, &text, &level, &clock)
	if err != nil {
		return nil, err
	}
	checks := []change.Check{{Name: "server version", Verdict: change.Good, Found: "PostgreSQL " + text}}
	if version < oldestVersion {
		checks[0].Verdict, checks[0].Why = change.Note, "versions before 15 have not been tried"
	}
	log := change.Check{Name: "log detail", Verdict: change.Good, Found: "wal_level is " + level,
		Why: "only at level logical does the log hold rows"}
	if level != "logical" {
		log.Verdict = change.Missing
		log.Fix = "ALTER SYSTEM SET wal_level = 'logical', then restart the server"
	}
	off := time.Since(clock)
	skew := change.Check{Name: "clock", Verdict: change.Good, Found: fmt.Sprintf("%s apart from ours", off.Abs().Round(time.Millisecond))}
	if off.Abs() > 2*time.Second {
		skew.Verdict, skew.Why = change.Note, "delays are shown wrong by this much; nothing else depends on it"
	}
	return append(checks, log, skew), nil
}

func (c *Config) checkReplication(ctx context.Context, conn *pgx.Conn) ([]change.Check, error) {
	var may bool
	var slots, slotsUsed, senders, sendersUsed int
	err := conn.QueryRow(ctx, `SELECT (SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user),
		current_setting('max_replication_slots')::int, (SELECT count(*) FROM pg_replication_slots),
		current_setting('max_wal_senders')::int, (SELECT count(*) FROM pg_stat_replication)`).
		Scan(&may, &slots, &slotsUsed, &senders, &sendersUsed)
	if err != nil {
		return nil, err
	}
	right := change.Check{Name: "replication right", Verdict: change.Good, Found: "user " + c.Connection.User + " may replicate", Why: "reading the log needs it"}
	if !may {
		right.Verdict, right.Found = change.Missing, "user "+c.Connection.User+" may not replicate"
		right.Fix = "ALTER ROLE " + quoted(c.Connection.User) + " REPLICATION"
	}
	free := change.Check{Name: "WAL senders", Verdict: change.Good, Found: fmt.Sprintf("%d of %d in use", sendersUsed, senders)}
	if sendersUsed >= senders {
		free.Verdict, free.Fix = change.Missing, "raise max_wal_senders and restart the server"
	}
	slot, err := readSlot(ctx, conn, c.slotName())
	if err != nil {
		return nil, err
	}
	room := change.Check{Name: "replication slots", Verdict: change.Good, Found: fmt.Sprintf("%d of %d in use", slotsUsed, slots), Why: "the slot keeps our place in the log"}
	if slotsUsed >= slots && !slot.exists {
		room.Verdict, room.Fix = change.Missing, "drop a slot that nobody uses (SELECT slot_name, active FROM pg_replication_slots), or raise max_replication_slots and restart the server"
	}
	return []change.Check{right, free, room}, nil
}

func (c *Config) checkSlot(ctx context.Context, conn *pgx.Conn) ([]change.Check, error) {
	slot, err := readSlot(ctx, conn, c.slotName())
	if err != nil {
		return nil, err
	}
	check := change.Check{Name: "our slot", Verdict: change.Good, Found: c.slotName() + " is not there yet and will be made"}
	switch {
	case !slot.exists && c.Slot != "":
		check.Verdict, check.Found = change.Missing, "the slot "+c.Slot+", which the definition names, is not there"
		check.Fix = fmt.Sprintf("SELECT pg_create_logical_replication_slot('%s', 'pgoutput')", c.Slot)
	case slot.exists:
		var held int64
		if err := conn.QueryRow(ctx, `SELECT coalesce(pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END, restart_lsn), 0)::bigint
			FROM pg_replication_slots WHERE slot_name = $1`, c.slotName()).Scan(&held); err != nil {
			return nil, err
		}
		check.Found = fmt.Sprintf("%s is there and holds back %.1f MiB of log (status %s)", c.slotName(), float64(held)/(1<<20), slot.status)
		check.Why = "the source keeps its log from there on for us"
		if slot.status == "lost" {
			check.Verdict, check.Fix = change.Missing, "the source has removed log that we still needed: remove the source and add it again for a new load"
		}
	}
	return []change.Check{check}, nil
}

func (c *Config) checkPublication(ctx context.Context, conn *pgx.Conn) ([]change.Check, error) {
	var may, exists, messages bool
	err := conn.QueryRow(ctx, `SELECT has_database_privilege(current_database(), 'CREATE'),
		EXISTS (SELECT FROM pg_publication WHERE pubname = $1),
		has_function_privilege('pg_logical_emit_message(boolean, text, text)', 'EXECUTE')`, c.publications()[0]).Scan(&may, &exists, &messages)
	if err != nil {
		return nil, err
	}
	check := change.Check{Name: "publication", Verdict: change.Good, Found: c.publications()[0] + " will be made", Why: "it says which tables the server sends"}
	switch {
	case exists:
		check.Found = c.publications()[0] + " is there"
	case c.Publication != "":
		check.Verdict, check.Found = change.Missing, "the publication "+c.Publication+", which the definition names, is not there"
		check.Fix = "CREATE PUBLICATION " + quoted(c.Publication) + " FOR TABLE …"
	case !may:
		check.Verdict, check.Found = change.Missing, "user "+c.Connection.User+" may not make publications in this database"
		check.Fix = "GRANT CREATE ON DATABASE " + quoted(c.Connection.Database) + " TO " + quoted(c.Connection.User)
	}
	message := change.Check{Name: "log messages", Verdict: change.Good, Found: "the login may write messages into the log",
		Why: "heartbeats and the marks of a load are such messages; they need no table"}
	if !messages {
		message.Verdict, message.Found = change.Missing, "the login may not write messages into the log"
		message.Fix = "GRANT EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) TO " + quoted(c.Connection.User)
	}
	return []change.Check{check, message}, nil
}

// maxTableChecks bounds the lines on single tables.
const maxTableChecks = 200

func (c *Config) checkTables(ctx context.Context, conn *pgx.Conn) ([]change.Check, error) {
	all, err := list(ctx, conn)
	if err != nil {
		return nil, err
	}
	published, err := publishedTables(ctx, conn, c.publications())
	if err != nil {
		return nil, err
	}
	var checks []change.Check
	chosen, good := 0, 0
	for _, l := range all {
		if !c.chooses(l.name()) {
			continue
		}
		chosen++
		t := l.describe(c)
		name := "table " + l.name()
		var one *change.Check
		switch {
		case t.CannotPublish != "":
			one = &change.Check{Name: name, Verdict: change.Note, Found: "cannot be captured", Why: t.CannotPublish}
		case !l.readable && c.Load:
			one = &change.Check{Name: name, Verdict: change.Missing, Found: "user " + c.Connection.User + " may not read it", Why: "the load reads its rows",
				Fix: "GRANT SELECT ON " + l.sanitized() + " TO " + quoted(c.Connection.User)}
		case !l.mine && !published[l.name()]:
			one = &change.Check{Name: name, Verdict: change.Missing, Found: "not published, and user " + c.Connection.User + " may not publish it", Why: "only a table's owner may add it to a publication",
				Fix: "as its owner or a superuser, CREATE PUBLICATION or ALTER PUBLICATION … ADD TABLE " + l.sanitized() + ", and name the publication in the source's definition"}
		case t.InsertsOnly:
			one = &change.Check{Name: name, Verdict: change.Note, Found: "no key: updates and deletes will not be captured", Why: t.Advice,
				Fix: "ALTER TABLE " + l.sanitized() + " ADD PRIMARY KEY (…), or ALTER TABLE " + l.sanitized() + " REPLICA IDENTITY FULL"}
		case t.Advice != "" && len(l.key) == 0:
			one = &change.Check{Name: name, Verdict: change.Note, Found: "no primary key", Why: t.Advice}
		default:
			good++
		}
		if one != nil && len(checks) < maxTableChecks {
			checks = append(checks, *one)
		}
	}
	summary := change.Check{Name: "tables", Verdict: change.Good, Found: fmt.Sprintf("%d of %d tables chosen, %d of them with a key and nothing to mend", chosen, len(all), good)}
	if chosen == 0 {
		rules := make([]string, len(c.Rules))
		for i, rule := range c.Rules {
			rules[i] = rule.Match.String()
		}
		summary.Verdict, summary.Found = change.Missing, fmt.Sprintf("the table rules (%s) choose none of the %d tables", strings.Join(rules, ", "), len(all))
		summary.Fix = "correct the rules; `rillmark source tables` lists what is there"
	}
	return append([]change.Check{summary}, checks...), nil
}
