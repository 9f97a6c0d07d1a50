package check

import (
	"context"
	"fmt"
	"net"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/stream"
)

// checkConnection says how the source was reached, and whether others on the way
// could have read along.
func checkConnection(ctx context.Context, c *session.Config, conn *pgx.Conn) change.Check {
	check := change.Check{Name: "connection", Verdict: change.Good, Why: "passwords and rows travel over it"}
	found := fmt.Sprintf("connected to %s on %s:%d as %s", c.Connection.Database, c.Connection.Host, c.Connection.Port, c.Connection.User)
	var encrypted bool
	var version string
	err := conn.QueryRow(ctx, "SELECT coalesce(ssl, false), coalesce(version, '') FROM pg_stat_ssl WHERE pid = pg_backend_pid()").Scan(&encrypted, &version)
	host, _, _ := net.SplitHostPort(conn.PgConn().Conn().RemoteAddr().String())
	ip := net.ParseIP(host)
	switch {
	case err != nil:
		check.Found = found
	case encrypted && c.Connection.TLSConfig != nil && c.Connection.TLSConfig.InsecureSkipVerify:
		check.Found = found + ", encrypted (" + version + "), without a look at the server's certificate"
		check.Verdict, check.Fix = change.Note, "set tls to verify-full, so that nobody can pass for the server"
	case encrypted:
		check.Found = found + ", encrypted (" + version + ")"
	case ip == nil || ip.IsLoopback():
		check.Found = found + ", not encrypted, on this machine"
	default:
		check.Found = found + ", not encrypted"
		check.Verdict, check.Fix = change.Note, "set tls to verify-full; on the server, ssl = on with a certificate"
	}
	return check
}

func checkServer(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	var version int
	var text, level string
	var standby bool
	var ours, clock time.Time
	before := time.Now()
	err := conn.QueryRow(ctx, "SELECT current_setting('server_version_num')::int, current_setting('server_version'), current_setting('wal_level'), pg_is_in_recovery(), clock_timestamp()").
		Scan(&version, &text, &level, &standby, &clock)
	if err != nil {
		return nil, err
	}
	ours = before.Add(time.Since(before) / 2)
	checks := []change.Check{{Name: "server version", Verdict: change.Good, Found: "PostgreSQL " + text}}
	if version/10000 > session.Newest {
		checks[0].Verdict, checks[0].Why = change.Note, fmt.Sprintf("versions after %d have not been tried", session.Newest)
	}
	role := change.Check{Name: "server role", Verdict: change.Good, Found: "it is a primary", Why: "marks for loads, and a slot, are written there"}
	if standby {
		role.Verdict, role.Found = change.Missing, "it is a standby, which version 15 gives no logical slot"
		role.Fix = "connect to its primary"
	}
	log := change.Check{Name: "log detail", Verdict: change.Good, Found: "wal_level is " + level,
		Why: "only at level logical does the log hold rows"}
	if level != "logical" {
		log.Verdict = change.Missing
		log.Fix = "ALTER SYSTEM SET wal_level = 'logical', then restart the server"
	}
	if c.MayBeNoText() {
		checks = append(checks, change.Check{Name: "encoding", Verdict: change.Note, Found: "the database's encoding is SQL_ASCII",
			Why: "it takes any bytes as text, and converts none: those that are no UTF-8 stand in events as U+FFFD", Fix: "where texts are of one encoding, dump the database with it (pg_dump --encoding) and restore it into one that has it"})
	}
	off := ours.Sub(clock)
	skew := change.Check{Name: "clock", Verdict: change.Good, Found: fmt.Sprintf("%s apart from ours", off.Abs().Round(time.Millisecond))}
	if off.Abs() > 2*time.Second {
		skew.Verdict, skew.Why = change.Note, "delays are shown wrong by this much; nothing else depends on it"
		skew.Fix = "have both machines keep time by the same server (NTP)"
	}
	return append(checks, role, log, skew), nil
}

func checkReplication(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	var may bool
	var slots, slotsUsed, senders, sendersUsed, sessions, sessionsUsed int
	err := conn.QueryRow(ctx, `SELECT (SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user),
		current_setting('max_replication_slots')::int, (SELECT count(*) FROM pg_replication_slots),
		current_setting('max_wal_senders')::int, (SELECT count(*) FROM pg_stat_replication),
		current_setting('max_connections')::int - current_setting('superuser_reserved_connections')::int,
		(SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend')`).
		Scan(&may, &slots, &slotsUsed, &senders, &sendersUsed, &sessions, &sessionsUsed)
	if err != nil {
		return nil, err
	}
	right := change.Check{Name: "replication right", Verdict: change.Good, Found: "user " + c.Connection.User + " may replicate", Why: "reading the log needs it"}
	if !may {
		right.Verdict, right.Found = change.Missing, "user "+c.Connection.User+" may not replicate"
		right.Fix = "ALTER ROLE " + session.Quoted(c.Connection.User) + " REPLICATION"
	}
	free := change.Check{Name: "WAL senders", Verdict: change.Good, Found: fmt.Sprintf("%d of %d in use", sendersUsed, senders), Why: "the log comes through one"}
	if sendersUsed >= senders {
		free.Verdict, free.Fix = change.Missing, "raise max_wal_senders and restart the server"
	}
	wanted := 3 + c.LoadSessions
	room := change.Check{Name: "sessions", Verdict: change.Good, Found: fmt.Sprintf("%d of %d in use; capture takes up to %d", sessionsUsed, sessions, wanted), Why: "looking at tables, heartbeats and loads take a session each"}
	if sessionsUsed+wanted > sessions {
		room.Verdict, room.Fix = change.Note, "raise max_connections, or set load_sessions lower"
	}
	slot, err := stream.ReadSlot(ctx, conn, c.SlotName())
	if err != nil {
		return nil, err
	}
	places := change.Check{Name: "replication slots", Verdict: change.Good, Found: fmt.Sprintf("%d of %d in use", slotsUsed, slots), Why: "the slot keeps our place in the log"}
	if slotsUsed >= slots && !slot.Exists {
		places.Verdict, places.Fix = change.Missing, "drop a slot that nobody uses (SELECT slot_name, active FROM pg_replication_slots), or raise max_replication_slots and restart the server"
	}
	return []change.Check{right, free, room, places}, nil
}

func checkSlot(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	slot, err := stream.ReadSlot(ctx, conn, c.SlotName())
	if err != nil {
		return nil, err
	}
	check := change.Check{Name: "our slot", Verdict: change.Good, Found: c.SlotName() + " is not there yet and will be made", Why: "the source keeps its log from there on for us"}
	switch {
	case !slot.Exists && c.Slot != "":
		check.Verdict, check.Found = change.Missing, "the slot "+c.Slot+", which the definition names, is not there"
		check.Fix = fmt.Sprintf("SELECT pg_create_logical_replication_slot('%s', 'pgoutput')", c.Slot)
	case !slot.Exists:
	case slot.Plugin != "pgoutput" || slot.Database != c.Connection.Database:
		check.Verdict, check.Found = change.Missing, fmt.Sprintf("the slot %s is for plugin %q of database %q", c.SlotName(), slot.Plugin, slot.Database)
		check.Fix = "name another slot in the source's definition, or none"
	case c.From != 0 && slot.Confirmed > c.From:
		check.Verdict, check.Found = change.Missing, fmt.Sprintf("the slot %s holds the log from %s on, and from_position is %s, before that", c.SlotName(), slot.Confirmed, c.From)
		check.Fix = "what lies between is lost for this slot: load anew from a position that it holds"
	default:
		held, err := stream.RetainedLog(ctx, c, conn)
		if err != nil {
			return nil, err
		}
		check.Found = c.SlotName() + " is there, and " + held.String()
		check.Fix = held.Advice
		switch held.Level {
		case engine.RetainedWarning:
			check.Verdict = change.Note
		case engine.RetainedUrgent:
			check.Verdict = change.Missing
		}
	}
	return []change.Check{check}, nil
}

// checkKeeping looks at what bounds the log that is kept for a slot, and at the
// time after which the server gives a reader up.
func checkKeeping(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	var most int64
	var timeout time.Duration
	var milliseconds int64
	err := conn.QueryRow(ctx, `SELECT (SELECT setting::bigint FROM pg_settings WHERE name = 'max_slot_wal_keep_size'),
		(SELECT setting::bigint FROM pg_settings WHERE name = 'wal_sender_timeout')`).Scan(&most, &milliseconds)
	if err != nil {
		return nil, err
	}
	timeout = time.Duration(milliseconds) * time.Millisecond
	keep := change.Check{Name: "log kept for slots", Verdict: change.Good, Found: fmt.Sprintf("max_slot_wal_keep_size is %d MB", most),
		Why: "while Rillmark is away the source keeps its log for it, up to here; beyond, the slot is lost and its tables have to be loaded anew"}
	switch {
	case most < 0:
		keep.Verdict, keep.Found = change.Note, "max_slot_wal_keep_size is not set: the source keeps as much as its disk holds"
		keep.Why = "nothing is ever lost, but a long absence of Rillmark could fill the disk"
		keep.Fix = "ALTER SYSTEM SET max_slot_wal_keep_size = '50GB'; SELECT pg_reload_conf()"
	case most < 1024:
		keep.Verdict = change.Note
		keep.Fix = "ALTER SYSTEM SET max_slot_wal_keep_size = '10GB'; SELECT pg_reload_conf()"
	}
	sender := change.Check{Name: "reader's time limit", Verdict: change.Good, Found: "wal_sender_timeout is " + timeout.String(), Why: "the server gives up a reader that has not answered for so long; Rillmark answers every second"}
	switch {
	case timeout == 0:
		sender.Verdict, sender.Found = change.Note, "wal_sender_timeout is off"
		sender.Why = "after a broken connection the server would hold the slot for the lost reader, perhaps for hours"
		sender.Fix = "ALTER SYSTEM SET wal_sender_timeout = '60s'; SELECT pg_reload_conf()"
	case timeout < 5*time.Second:
		sender.Verdict, sender.Fix = change.Note, "ALTER SYSTEM SET wal_sender_timeout = '60s'; SELECT pg_reload_conf()"
	}
	return []change.Check{keep, sender}, nil
}

// RetainedLog implements [engine.Engine].
func RetainedLog(ctx context.Context, c *session.Config) (engine.RetainedLog, error) {
	conn, err := c.Connect(ctx, "watch")
	if err != nil {
		return engine.RetainedLog{}, err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	held, err := stream.RetainedLog(ctx, c, conn)
	return held, c.Explain(err)
}
