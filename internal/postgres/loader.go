package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
)

// loader is one session that reads.
type loader struct {
	run  *run
	conn *pgx.Conn
	job  *job
	room rowRoom
	rows [][]change.Value
	// keeps has the rows of one piece kept for the next.
	keeps bool
	// guarded tables may have values that are too large to be asked for.
	guarded bool
	// ahead is the job that follows at the same mark.
	ahead *job
	// rowSize is that of the last piece's rows on average, in bytes, by table.
	rowSize map[string]int
	// pages are the table's, when its layout was looked up last.
	pages int64
	// plain tables have small rows: a range of pages holds little more than itself.
	plain map[string]bool
}

func (l *loader) connect(ctx context.Context) error {
	if l.conn != nil {
		return nil
	}
	conn, err := l.run.markSession(ctx, "load")
	if err != nil {
		return err
	}
	l.conn, l.rowSize, l.plain = conn, make(map[string]int), make(map[string]bool)
	// Rows that row-level security would hide are an error, not missing. A load
	// reads each row once: one process, and no look at what is cheapest.
	_, err = conn.Exec(ctx, "SET row_security = off; SET max_parallel_workers_per_gather = 0; SET jit = off")
	return err
}

func (l *loader) hangUp(ctx context.Context) {
	if l.conn != nil {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		l.conn.Close(ctx) //nolint:errcheck // nothing is open on it
		l.conn = nil
	}
}

// rollbackTime is what a source has for taking a failed read back.
const rollbackTime = 10 * time.Second

// sanitizedName is a table in SQL, of its name in events.
func sanitizedName(name string) string {
	schema, table, _ := change.SplitTable(name)
	return pgx.Identifier{schema, table}.Sanitize()
}

// skippable is why a table cannot be loaded while others can; empty for an error
// that concerns the connection.
func (l *loader) skippable(err error) string {
	var server *pgconn.PgError
	if !errors.As(err, &server) || l.conn == nil {
		return ""
	}
	if l.conn.PgConn().TxStatus() != 'I' {
		ctx, cancel := context.WithTimeout(context.Background(), rollbackTime)
		defer cancel()
		l.conn.Exec(ctx, "ROLLBACK") //nolint:errcheck // a broken connection shows at its next use
	}
	user := quoted(l.run.config.Connection.User)
	switch server.Code {
	case "42501":
		if strings.Contains(server.Message, "pg_logical_emit_message") {
			return "the login may not write the messages that a load needs: GRANT EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) TO " + user
		}
		if slices.ContainsFunc(l.job.captured.members, func(m *listed) bool { return m.hides }) {
			return "row-level security would hide rows from the load: ALTER ROLE " + user + " BYPASSRLS, or let a login read that the policies let see all"
		}
		return server.Message + ": GRANT SELECT ON " + l.job.relation() + " TO " + user
	case "42P01", "3F000":
		return "the table is gone"
	case "25006":
		return "the source is a standby, where the marks of a load cannot be written: load from its primary"
	case "42703", "42883", "42601", "22P02", "42804":
		if l.job.at.Where != "" {
			return fmt.Sprintf("the condition %q cannot be used: %s", l.job.at.Where, server.Message)
		}
	}
	return ""
}

// relation is what is read, sanitized: the table, or a partition of it.
func (j *job) relation() string {
	name := j.table.state.Table
	if len(j.at.Leaves) > 0 {
		name = j.at.Leaves[0]
	}
	return sanitizedName(name)
}

// from is the relation in a statement that reads: a mapped table is read with its
// partitions, any other without what inherits from it.
func (j *job) from() string {
	if j.captured.mapped && len(j.at.Leaves) == 0 {
		return j.relation()
	}
	return "ONLY " + j.relation()
}

// layout is the table's layout as the loader's session sees it now.
func (l *loader) layout(ctx context.Context) (*layout, error) {
	var oid uint32
	var aside int64 // what is stored out of line, perhaps compressed
	if err := l.conn.QueryRow(ctx, "SELECT oid, coalesce(pg_relation_size(nullif(reltoastrelid, 0)), 0), pg_relation_size(oid) / $2 FROM pg_class WHERE oid = $1::text::regclass", pgx.QueryExecModeCacheStatement, l.job.relation(), pageBytes).Scan(&oid, &aside, &l.pages); err != nil {
		return nil, err
	}
	l.guarded = l.job.captured.mapped || aside > l.run.config.LargestValue/compressible
	return l.run.config.catalogueLayout(ctx, l.conn, oid, l.job.table.state.Table, l.job.captured.rule)
}
