package loading

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/session"
)

// loader is one session that loads.
type loader struct {
	chunk.Reader
	in  *Loading
	job *job
	// ahead is the job that follows at the same mark.
	ahead *job
	// why is why the table of the last job cannot be loaded; empty where it can, or the run
	// ends.
	why string
}

// turnTo turns to a job.
func (l *loader) turnTo(j *job) { l.job, l.Target = j, j.target() }

func (l *loader) connect(ctx context.Context) error {
	if l.Conn != nil {
		return nil
	}
	conn, err := l.in.host.MarkSession(ctx, "load")
	if err != nil {
		return err
	}
	l.Conn, l.RowSize, l.Plain = conn, make(map[string]int), make(map[string]bool)
	// Rows that row-level security would hide are an error, not missing. A load
	// reads each row once: one process, and no look at what is cheapest.
	_, err = conn.Exec(ctx, "SET max_parallel_workers_per_gather = 0; SET jit = off")
	return err
}

// HangUp implements [states.Session].
func (l *loader) HangUp(ctx context.Context) {
	if l.Conn != nil {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		l.Conn.Close(ctx) //nolint:errcheck // nothing is open on it
		l.Conn = nil
	}
	l.GiveBack()
}

// rollbackTime is what a source has for taking a failed read back.
const rollbackTime = 10 * time.Second

// skippable is why a table cannot be loaded while others can; empty for an error
// that concerns the connection.
func (l *loader) skippable(err error) string {
	var server *pgconn.PgError
	if !errors.As(err, &server) || l.Conn == nil {
		return ""
	}
	if l.Conn.PgConn().TxStatus() != 'I' {
		ctx, cancel := context.WithTimeout(context.Background(), rollbackTime)
		defer cancel()
		l.Conn.Exec(ctx, "ROLLBACK") //nolint:errcheck // a broken connection shows at its next use
	}
	user := session.Quoted(l.in.config.Connection.User)
	switch server.Code {
	case "42501":
		if strings.Contains(server.Message, "pg_logical_emit_message") {
			return "the login may not write the messages that a load needs: " + session.GrantMessages(l.Conn, l.in.config.Connection.User)
		}
		if slices.ContainsFunc(l.job.captured.Members, func(m *catalogue.Listed) bool { return m.Hides }) {
			return "row-level security would hide rows from the load: ALTER ROLE " + user + " BYPASSRLS, or let a login read that the policies let see all"
		}
		return server.Message + ": GRANT SELECT ON " + l.Target.Relation() + " TO " + user
	case "42P01", "3F000":
		return "the table is gone"
	case "25006":
		return "the source is a standby, where the marks of a load cannot be written: load from its primary"
	case "XX001", "XX002", "58030", "58P01":
		return "its rows cannot be read, and its file may be damaged: " + server.Message + ". Mend the table on the server, then reload it with `rillmark source reload`"
	case "42703", "42883", "42601", "22P02", "42804":
		if l.job.at.Where != "" {
			return fmt.Sprintf("the condition %q cannot be used: %s", l.job.at.Where, server.Message)
		}
	}
	return ""
}

// target is what the job reads.
func (j *job) target() chunk.Target {
	t := chunk.Target{Table: j.table.State.Table, Mapped: j.captured.Mapped, Rule: j.captured.Rule, Where: j.at.Where}
	if len(j.at.Leaves) > 0 {
		t.Leaf = j.at.Leaves[0]
	}
	return t
}
