package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// chunkRows is what was read between two marks.
type chunkRows struct {
	layout *layout
	rows   [][]change.Value
	last   []string // the last row's key in the server's own text
	end    bool     // the table has no rows after these
	seen   snapshot
}

// read takes a snapshot that sees every transaction that came before the first
// mark, and reads.
func (l *loader) read(ctx context.Context, before []uint32, key []string, one bool) (*chunkRows, error) {
	began := time.Now()
	for attempt := 0; ; attempt++ {
		// The lock comes before the snapshot: an ALTER in between that rewrites
		// the table would leave a chunk without rows and no sign of it.
		if _, err := l.conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
			return nil, err
		}
		if _, err := l.conn.Exec(ctx, "LOCK TABLE ONLY "+l.sanitized()+" IN ACCESS SHARE MODE"); err != nil {
			return nil, err
		}
		var text string
		if err := l.conn.QueryRow(ctx, "SELECT pg_current_snapshot()::text").Scan(&text); err != nil {
			return nil, err
		}
		read := new(chunkRows)
		var err error
		if read.seen, err = parseSnapshot(text); err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(before, func(xid uint32) bool { return !read.seen.sees(xid) }) {
			if err := l.rows(ctx, read, key, one); err != nil {
				return nil, err
			}
			_, err := l.conn.Exec(ctx, "COMMIT")
			return read, err
		}
		if _, err := l.conn.Exec(ctx, "ROLLBACK"); err != nil {
			return nil, err
		}
		if attempt > 0 && time.Since(began) > 5*time.Second && attempt%1000 == 0 {
			l.run.sink.Report(engine.Report{Level: "warn", Event: "load-waits", Message: l.table.state.Table +
				": waiting for a commit that stands in the log to become visible (does it wait for a standby?)"})
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(min(time.Duration(attempt+1), 10) * time.Millisecond):
		}
	}
}

// rows reads a chunk inside the open transaction.
func (l *loader) rows(ctx context.Context, into *chunkRows, key []string, one bool) error {
	var err error
	if into.layout, err = l.layout(ctx); err != nil {
		return err
	}
	columns := into.layout.schema.Columns
	keyed := into.layout.schema.Key()
	if len(keyed) == 0 {
		into.end = true // followed, not loaded; deliver says so
		return nil
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = quoted(c.Name)
	}
	keyNames := make([]string, len(keyed))
	for i, at := range keyed {
		keyNames[i] = names[at]
	}
	limit := 2000
	if l.rowSize > 0 {
		limit = min(max(l.run.config.ChunkBytes/l.rowSize, 50), 50_000)
	}
	sql := "SELECT " + strings.Join(names, ", ") + " FROM ONLY " + l.sanitized()
	var parameters [][]byte
	if key != nil {
		marks := make([]string, len(key))
		for i, k := range key {
			marks[i] = fmt.Sprintf("$%d", i+1)
			parameters = append(parameters, []byte(k))
		}
		comparison := " > "
		if one {
			comparison = " = "
		}
		sql += " WHERE (" + strings.Join(keyNames, ", ") + ")" + comparison + "(" + strings.Join(marks, ", ") + ")"
	}
	sql += fmt.Sprintf(" ORDER BY %s LIMIT %d", strings.Join(keyNames, ", "), limit)
	return l.collect(ctx, into, sql, parameters, keyed, limit)
}

func (l *loader) collect(ctx context.Context, into *chunkRows, sql string, parameters [][]byte, keyed []int, limit int) error {
	results := l.conn.PgConn().ExecParams(ctx, sql, parameters, nil, nil, nil)
	width := len(into.layout.convert)
	bytes, stopped := 0, false
	var arena []byte
	for results.NextRow() {
		if bytes > 4*l.run.config.ChunkBytes {
			stopped = true // the rest of the answer is read and dropped
			continue
		}
		values := results.Values()
		row := make([]change.Value, width)
		for i, raw := range values {
			if raw == nil {
				row[i].Presence = change.Null
				continue
			}
			start := len(arena)
			var err error
			if convert := into.layout.convert[i]; convert != nil {
				arena, err = convert(arena, raw)
			} else {
				arena = append(arena, raw...)
			}
			if err != nil {
				results.Close() //nolint:errcheck // the first error is the one to tell
				return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
					Message: fmt.Sprintf("table %s: column %s of a row of the load cannot be decoded", into.layout.name, into.layout.schema.Columns[i].Name)}
			}
			row[i] = change.Value{Presence: change.Present, Text: arena[start:len(arena):len(arena)]}
			bytes += len(raw)
		}
		if cap(arena)-len(arena) < 4096 {
			arena = make([]byte, 0, 256<<10) // rows keep the old one
		}
		into.rows = append(into.rows, row)
		into.last = into.last[:0]
		for _, at := range keyed {
			into.last = append(into.last, string(values[at]))
		}
	}
	if _, err := results.Close(); err != nil {
		return err
	}
	into.end = !stopped && len(into.rows) < limit
	if n := len(into.rows); n > 0 {
		l.rowSize = max(bytes/n, 1)
	}
	return nil
}
