// Package compared reads the rows of a table as events would have them, for a comparison:
// see package verify.
package compared

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/canonical"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/session"
	"rillmark/internal/verify"
)

// Rows are a table's, over a session of their own.
type Rows struct {
	reader chunk.Reader
	where  string // that chooses the rows, besides what a call asks for
	layout *catalogue.Layout
}

var _ verify.Side = (*Rows)(nil)

// Open begins to read a table, or a partitioned one with its partitions, by its rule. where
// is a condition, empty for all rows. The session becomes the rows' own.
func Open(ctx context.Context, c *session.Config, conn *pgx.Conn, table string, rule *rules.Table, where string) (*Rows, error) {
	schema, name, _ := change.SplitTable(table)
	var kind string
	err := conn.QueryRow(ctx, "SELECT c.relkind::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2", schema, name).Scan(&kind)
	if err == nil {
		r := &Rows{where: where, reader: chunk.Reader{Config: c, Conn: conn, Report: func(engine.Report) {}, RowSize: make(map[string]int), Plain: make(map[string]bool),
			Target: chunk.Target{Table: table, Mapped: kind == "p", Rule: rule}}}
		if r.layout, err = r.reader.Layout(ctx); err == nil {
			return r, nil
		}
	}
	conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // the first error is the one to tell
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, verify.ErrNoTable
	}
	return nil, err
}

// Schema implements [verify.Side].
func (r *Rows) Schema() *change.Schema { return r.layout.Schema }

// Close implements [verify.Side].
func (r *Rows) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	r.reader.Conn.Close(ctx) //nolint:errcheck // it was only read
}

// After implements [verify.Side].
func (r *Rows) After(ctx context.Context, after, upTo []string) (verify.Page, error) {
	where := r.where
	if upTo != nil {
		var names, values []string
		for i, at := range r.layout.Schema.Key() {
			names = append(names, session.Quoted(r.layout.Raw[r.layout.From[at]].Name))
			values = append(values, session.Literal(upTo[i]))
		}
		end := "(" + strings.Join(names, ", ") + ") <= (" + strings.Join(values, ", ") + ")"
		if where != "" {
			end = where + " AND " + end
		}
		where = end
	}
	var page verify.Page
	rows, err := r.read(ctx, where, func(into *chunk.Rows) error { return r.reader.ReadByKey(ctx, into, after, nil) })
	if err == nil {
		page = verify.Page{Rows: rows.Rows, Last: rows.Last, End: rows.End}
	}
	return page, err
}

// Skip implements [verify.Side].
func (r *Rows) Skip(ctx context.Context, after []string, rows int64) (last []string, end bool, err error) {
	var names, marks []string
	var parameters [][]byte
	for i, at := range r.layout.Schema.Key() {
		names = append(names, session.Quoted(r.layout.Raw[r.layout.From[at]].Name))
		if after != nil {
			marks, parameters = append(marks, fmt.Sprintf("$%d", i+1)), append(parameters, []byte(after[i]))
		}
	}
	key := strings.Join(names, ", ")
	var conditions []string
	if r.where != "" {
		conditions = append(conditions, "("+r.where+")")
	}
	if after != nil {
		conditions = append(conditions, "("+key+") > ("+strings.Join(marks, ", ")+")")
	}
	statement := "SELECT " + key + " FROM " + r.reader.Target.From()
	if len(conditions) > 0 {
		statement += " WHERE " + strings.Join(conditions, " AND ")
	}
	found := r.reader.Conn.PgConn().ExecParams(ctx, statement+fmt.Sprintf(" ORDER BY %s LIMIT 1 OFFSET %d", key, rows-1), parameters, nil, nil, nil).Read()
	if found.Err != nil || len(found.Rows) == 0 {
		return after, found.Err == nil, incomparable(found.Err)
	}
	for _, value := range found.Rows[0] {
		last = append(last, string(value))
	}
	return last, false, nil
}

// keysAtOnce bounds how many keys are asked for together: their values are parameters.
const keysAtOnce = 5000

// These implements [verify.Side].
func (r *Rows) These(ctx context.Context, keys [][]string) (found [][]change.Value, err error) {
	if keys, err = r.serverKeys(keys); err != nil {
		return nil, err
	}
	for len(keys) > 0 {
		n := 0
		rows, err := r.read(ctx, r.where, func(into *chunk.Rows) (err error) {
			n, err = r.reader.ReadAgain(ctx, into, keys[:min(len(keys), keysAtOnce)])
			return err
		})
		if err != nil {
			return nil, err
		}
		for _, row := range rows.Rows {
			found = append(found, change.CloneImage(row))
		}
		keys = keys[n:]
	}
	return found, nil
}

// serverKeys are keys in the server's own text, where that is another than the canonical one.
func (r *Rows) serverKeys(keys [][]string) ([][]string, error) {
	for n, at := range r.layout.Schema.Key() {
		c := &r.layout.Schema.Columns[at]
		if c.Rule != change.RuleArray || c.Treatment != "" {
			continue
		}
		text := canonical.ArrayText(c)
		for i, key := range keys {
			own, err := text(nil, []byte(key[n]))
			if err != nil {
				return nil, fmt.Errorf("the key of a row: %w", err)
			}
			keys[i] = slices.Clone(key)
			keys[i][n] = string(own)
		}
	}
	return keys, nil
}

// incomparable makes an error with which the server refuses to read a table the verdict on that
// table: the others are compared. Errors of the connection stay.
func incomparable(err error) error {
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (strings.HasPrefix(refused.Code, "22") || strings.HasPrefix(refused.Code, "42") || strings.HasPrefix(refused.Code, "0A")) {
		return verify.Incomparable("the server refuses to read it: " + refused.Message)
	}
	return err
}

// read reads in a transaction of its own.
func (r *Rows) read(ctx context.Context, where string, read func(*chunk.Rows) error) (*chunk.Rows, error) {
	r.reader.Target.Where = where
	into := &chunk.Rows{Layout: r.layout}
	if _, err := r.reader.BeginReading(ctx); err != nil {
		return nil, err
	}
	now, err := r.reader.Layout(ctx)
	if err == nil && !slices.EqualFunc(now.Schema.Columns, r.layout.Schema.Columns, func(a, b change.Column) bool { return a.Name == b.Name && a.Type == b.Type }) {
		err = fmt.Errorf("the definition of %s has changed meanwhile: compare it once more", r.reader.Target.Table)
	}
	if err == nil {
		err = read(into)
	}
	if err != nil {
		r.reader.Conn.Exec(context.WithoutCancel(ctx), "ROLLBACK") //nolint:errcheck // the first error is the one to tell
		return nil, incomparable(err)
	}
	_, err = r.reader.Conn.Exec(ctx, "COMMIT")
	return into, err
}

// Present is how far the source's log reaches now: what was committed before is in it. A
// message is written behind it, where the login may, so that a quiet source's capture comes
// there at once and not with its next heartbeat.
func Present(ctx context.Context, conn *pgx.Conn) (uint64, error) {
	var text string
	if err := conn.QueryRow(ctx, "SELECT pg_current_wal_insert_lsn()::text").Scan(&text); err != nil {
		return 0, err
	}
	lsn, err := session.ParseLSN(text)
	if err != nil {
		return 0, err
	}
	_, err = conn.Exec(ctx, "SELECT pg_logical_emit_message(true, $1, $2)", session.MarkPrefix, session.PresentMark)
	if session.MayNotWrite(err) {
		err = nil // the heartbeat comes
	}
	return uint64(lsn), err
}
