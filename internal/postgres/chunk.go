package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// chunkRows is what was read between two marks.
type chunkRows struct {
	layout    *layout
	rows      [][]change.Value
	last      []string // the last row's key in the server's own text
	lastPlace place    // where it lies, of a piece by range
	file      uint32   // the table's file, of a piece by range
	end       bool     // the piece has no rows after these
	seen      snapshot
}

// read takes a snapshot that sees every transaction that came before the first
// mark, and reads.
func (l *loader) read(ctx context.Context, before []uint32, read func(*chunkRows) error) (*chunkRows, error) {
	into := new(chunkRows)
	began := time.Now()
	for attempt := 0; ; attempt++ {
		seen, err := l.beginReading(ctx)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(before, func(xid uint32) bool { return !seen.sees(xid) }) {
			into.seen = seen
			if into.layout, err = l.layout(ctx); err != nil {
				return nil, err
			}
			if err := read(into); err != nil {
				return nil, err
			}
			_, err = l.conn.Exec(ctx, "COMMIT")
			return into, err
		}
		if _, err := l.conn.Exec(ctx, "ROLLBACK"); err != nil {
			return nil, err
		}
		if err := l.waitToSee(ctx, attempt, began); err != nil {
			return nil, err
		}
	}
}

// beginReading opens a transaction on the table and takes its snapshot. The lock
// comes before the snapshot: an ALTER in between that rewrites the table would
// leave a piece without rows and no sign of it.
func (l *loader) beginReading(ctx context.Context) (snapshot, error) {
	if _, err := l.conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return snapshot{}, err
	}
	if _, err := l.conn.Exec(ctx, "LOCK TABLE "+l.job.from()+" IN ACCESS SHARE MODE"); err != nil {
		return snapshot{}, err
	}
	var text string
	if err := l.conn.QueryRow(ctx, "SELECT pg_current_snapshot()::text").Scan(&text); err != nil {
		return snapshot{}, err
	}
	return parseSnapshot(text)
}

// waitToSee waits a moment for a commit to become visible.
func (l *loader) waitToSee(ctx context.Context, attempt int, began time.Time) error {
	if attempt > 0 && time.Since(began) > 5*time.Second && attempt%1000 == 0 {
		l.run.sink.Report(engine.Report{Level: "warn", Event: "load-waits", Message: l.job.table.state.Table +
			": waiting for a commit that stands in the log to become visible (does it wait for a standby?)"})
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(min(time.Duration(attempt+1), 10) * time.Millisecond):
		return nil
	}
}

// selection is the columns that a load asks for: what is captured, and what the
// filter looks at besides.
type selection struct {
	layout *layout
	names  []string
	places []int // in layout.raw
}

func selectionOf(l *layout) *selection {
	s := &selection{layout: l}
	add := func(raw int) {
		if !slices.Contains(s.places, raw) {
			s.places = append(s.places, raw)
			s.names = append(s.names, quoted(l.raw[raw].Name))
		}
	}
	for _, raw := range l.from {
		add(raw)
	}
	if l.condition != nil {
		for _, raw := range l.condition.Uses() {
			add(raw)
		}
	}
	return s
}

// limit is how many rows are asked for at once.
func (l *loader) limit() int {
	size := l.rowSize[l.job.table.state.Table]
	if size == 0 {
		return 2000
	}
	return min(max(2*l.run.config.ChunkBytes/size, 1), 50_000)
}

// readByKey reads the rows that follow a key, or those of some keys, inside the
// open transaction.
func (l *loader) readByKey(ctx context.Context, into *chunkRows, after []string, keys [][]string) error {
	s := selectionOf(into.layout)
	keyed := into.layout.schema.Key()
	if len(keyed) == 0 {
		return nil // the key went meanwhile; a changed layout throws this away
	}
	keyNames := make([]string, len(keyed))
	for i, at := range keyed {
		keyNames[i] = s.names[at]
	}
	var parameters [][]byte
	tuple := func(key []string) string {
		marks := make([]string, len(key))
		for i, k := range key {
			parameters = append(parameters, []byte(k))
			marks[i] = fmt.Sprintf("$%d", len(parameters))
		}
		return "(" + strings.Join(marks, ", ") + ")"
	}
	var conditions []string
	if l.job.at.Where != "" {
		conditions = append(conditions, "("+l.job.at.Where+")")
	}
	tail := ""
	limit := 0
	switch {
	case keys != nil:
		tuples := make([]string, len(keys))
		for i, key := range keys {
			tuples[i] = tuple(key)
		}
		conditions = append(conditions, "("+strings.Join(keyNames, ", ")+") IN ("+strings.Join(tuples, ", ")+")")
	case after != nil:
		conditions = append(conditions, "("+strings.Join(keyNames, ", ")+") > "+tuple(after))
	}
	if keys == nil {
		limit = l.limit()
		tail = fmt.Sprintf(" ORDER BY %s LIMIT %d", strings.Join(keyNames, ", "), limit)
	}
	sql := "SELECT " + strings.Join(s.names, ", ") + " FROM " + l.job.from()
	if len(conditions) > 0 {
		sql += " WHERE " + strings.Join(conditions, " AND ")
	}
	n, stopped, err := l.collect(ctx, into, s, sql+tail, parameters, 0, 8*l.run.config.ChunkBytes)
	into.end = keys != nil || !stopped && n < limit
	return err
}

// readRange reads the rows that lie in a piece, inside the open transaction.
func (l *loader) readRange(ctx context.Context, into *chunkRows, p piece) error {
	if err := l.conn.QueryRow(ctx, "SELECT pg_relation_filenode($1::text::regclass)", l.job.relation()).Scan(&into.file); err != nil {
		return err
	}
	s := selectionOf(into.layout)
	limit := 0
	sql := "SELECT " + strings.Join(append([]string{"ctid"}, s.names...), ", ") + " FROM " + l.job.from() +
		fmt.Sprintf(" WHERE ctid > '%s' AND ctid < '%s'", p.From, p.To)
	if l.job.at.Where != "" {
		sql += " AND (" + l.job.at.Where + ")"
	} else {
		// A range of pages may hold far more than its own size, in values that
		// are stored out of line. A scan of a range goes in the order of places.
		limit = 4 * l.limit()
		sql += fmt.Sprintf(" LIMIT %d", limit)
	}
	n, stopped, err := l.collect(ctx, into, s, sql, nil, 1, 8*l.run.config.ChunkBytes)
	into.end = !stopped && (limit == 0 || n < limit)
	return err
}

// String is the place as the server writes a ctid.
func (p place) String() string { return fmt.Sprintf("(%d,%d)", p.Page, p.Row) }

func parsePlace(text []byte) (p place, err error) {
	page, row, found := strings.Cut(strings.Trim(string(text), "()"), ",")
	if !found {
		return p, fmt.Errorf("%q is no place of a row", text)
	}
	if p.Page, err = strconv.ParseInt(page, 10, 64); err != nil {
		return p, err
	}
	p.Row, err = strconv.Atoi(row)
	return p, err
}

// collect runs a statement and takes its rows up to some bytes, or all where most
// is 0; skip columns stand before the selection's. n is how many rows were looked
// at; stopped says that there were more.
func (l *loader) collect(ctx context.Context, into *chunkRows, s *selection, sql string, parameters [][]byte, skip, most int) (n int, stopped bool, err error) {
	results := l.conn.PgConn().ExecParams(ctx, sql, parameters, nil, nil, nil)
	c := collector{layout: into.layout, selection: s}
	for results.NextRow() {
		if most > 0 && c.bytes > most {
			stopped = true // the rest of the answer is read and dropped
			continue
		}
		n++
		values := results.Values()
		row, err := c.row(values[skip:])
		if err != nil {
			results.Close() //nolint:errcheck // the first error is the one to tell
			return n, false, err
		}
		if skip > 0 {
			if into.lastPlace, err = parsePlace(values[0]); err != nil {
				results.Close() //nolint:errcheck // the first error is the one to tell
				return n, false, err
			}
		}
		into.last = into.last[:0]
		for _, at := range into.layout.schema.Key() {
			into.last = append(into.last, string(values[skip+at]))
		}
		if row != nil {
			into.rows = append(into.rows, row)
		}
	}
	if _, err := results.Close(); err != nil {
		return n, false, err
	}
	if n > 0 {
		l.rowSize[l.job.table.state.Table] = max(c.bytes/n, 1)
	}
	return n, stopped, nil
}

// collector makes rows of what the server sends. The rows own their values.
type collector struct {
	layout    *layout
	selection *selection
	arena     []byte
	bytes     int
}

// row is a row as the journal holds it; nil for one that the filter leaves out.
func (c *collector) row(values [][]byte) ([]change.Value, error) {
	l := c.layout
	for _, v := range values {
		c.bytes += len(v)
	}
	if l.condition != nil && !c.admits(values) {
		return nil, nil
	}
	row := make([]change.Value, len(l.from))
	for i := range l.from {
		raw := values[i]
		if raw == nil {
			row[i].Presence = change.Null
			continue
		}
		start := len(c.arena)
		var err error
		if convert := l.convert[i]; convert != nil {
			c.arena, err = convert(c.arena, raw)
		} else {
			c.arena = append(c.arena, raw...)
		}
		if err != nil {
			return nil, &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
				Message: fmt.Sprintf("table %s: column %s of a row of the load cannot be decoded", l.name, l.schema.Columns[i].Name)}
		}
		row[i] = change.Value{Presence: change.Present, Text: c.arena[start:len(c.arena):len(c.arena)]}
	}
	if cap(c.arena)-len(c.arena) < 4096 {
		c.arena = make([]byte, 0, 256<<10) // rows keep the old one
	}
	return row, nil
}

func (c *collector) admits(values [][]byte) bool {
	var scratch []byte
	held, known := c.layout.condition.Holds(func(raw int) change.Value {
		text := values[slices.Index(c.selection.places, raw)]
		if text == nil {
			return change.NullValue()
		}
		convert := c.layout.raw[raw].convert
		if convert == nil {
			return change.Value{Presence: change.Present, Text: text}
		}
		start := len(scratch)
		grown, err := convert(scratch, text)
		if err != nil {
			return change.NullValue()
		}
		scratch = grown
		return change.Value{Presence: change.Present, Text: grown[start:]}
	})
	return held && known
}
