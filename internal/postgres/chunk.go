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
	// tooLarge are the sizes of values that were left out, by the row's first value.
	tooLarge map[*change.Value]map[string]int64
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
	if _, err := l.conn.PgConn().Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; LOCK TABLE "+l.job.from()+" IN ACCESS SHARE MODE").ReadAll(); err != nil {
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
	// sizes are where the answer has the sizes of values that were too large to be
	// asked for, by their own places.
	sizes map[int]int
}

func (s *selection) bare(place int) string { return quoted(s.layout.raw[s.places[place]].Name) }

func (l *loader) selectionOf(layout *layout) *selection {
	s := selectionOf(layout)
	if !l.guarded {
		return s
	}
	// The size of a value is known without reading it.
	largest := l.run.config.LargestValue
	s.sizes = make(map[int]int)
	for i, raw := range s.places {
		switch c := &layout.raw[raw]; c.oid {
		case oidBytea, oidText, oidVarchar, oidBpchar:
			if c.Key > 0 || !c.toasted {
				continue
			}
			name := quoted(c.Name)
			s.names[i] = fmt.Sprintf("CASE WHEN octet_length(%s) <= %d THEN %s END", name, largest, name)
			s.sizes[i] = len(s.names)
			s.names = append(s.names, fmt.Sprintf("CASE WHEN octet_length(%s) > %d THEN octet_length(%s) END", name, largest, name))
		}
	}
	return s
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

// readAgain reads the rows of some keys inside the open transaction, and returns
// how many of the keys it had room for.
func (l *loader) readAgain(ctx context.Context, into *chunkRows, keys [][]string) (int, error) {
	n := min(len(keys), l.limit())
	for {
		if err := l.readByKey(ctx, into, nil, keys[:n]); err != nil || into.end {
			return n, err
		}
		n /= 2
	}
}

// readByKey reads the rows that follow a key, or those of some keys, inside the
// open transaction. Of several keys all rows have been read only if into.end.
func (l *loader) readByKey(ctx context.Context, into *chunkRows, after []string, keys [][]string) error {
	s := l.selectionOf(into.layout)
	keyed := into.layout.schema.Key()
	if len(keyed) == 0 {
		into.end = true
		return nil // the key went meanwhile; a changed layout throws this away
	}
	keyNames := make([]string, len(keyed))
	for i, at := range keyed {
		keyNames[i] = s.bare(at)
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
	most := 8 * l.run.config.ChunkBytes
	if len(keys) == 1 {
		most = 0 // it is one row, or a few where the key is a rule's: all or nothing
	}
	n, stopped, err := l.collect(ctx, into, s, sql+tail, parameters, 0, most)
	into.end = !stopped && (keys != nil || n < limit)
	return err
}

// readRange reads the rows that lie in a piece, inside the open transaction.
func (l *loader) readRange(ctx context.Context, into *chunkRows, p piece) error {
	if err := l.conn.QueryRow(ctx, "SELECT pg_relation_filenode($1::text::regclass)", l.job.relation()).Scan(&into.file); err != nil {
		return err
	}
	s := l.selectionOf(into.layout)
	table := l.job.table.state.Table
	where := fmt.Sprintf(" FROM %s WHERE ctid > '%s' AND ctid < '%s'", l.job.from(), p.From, p.To)
	if l.job.at.Where != "" {
		where += " AND (" + l.job.at.Where + ")"
	}
	most := 8 * l.run.config.ChunkBytes
	if l.plain[table] {
		_, stopped, err := l.collect(ctx, into, s, "SELECT "+strings.Join(s.names, ", ")+where, nil, 0, most)
		if err != nil || !stopped {
			into.end = true
			return err
		}
	}
	// A range of pages may hold far more than its own size, in values that are
	// stored out of line. A scan of a range goes in the order of places; asking for
	// them costs the server a fifth, so where rows are small it is not done.
	limit := 4 * l.limit()
	into.rows = nil
	n, stopped, err := l.collect(ctx, into, s, fmt.Sprintf("SELECT ctid, %s%s LIMIT %d", strings.Join(s.names, ", "), where, limit), nil, 1, most)
	into.end = !stopped && n < limit
	l.plain[table] = into.end && n*l.rowSize[table] < most/2
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
	into.tooLarge = nil
	c := collector{layout: into.layout, selection: s, room: &l.room}
	into.rows = nil
	if !l.keeps {
		l.room.reset()
		into.rows = l.rows[:0]
	}
	last := make([][]byte, max(len(into.layout.schema.Key()), 1))
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
		if row != nil {
			into.rows = append(into.rows, row)
			if s.sizes != nil {
				into.noteLarge(s, row, values[skip:])
			}
		}
		// The last row's place or key is kept; until the end any may be the last.
		if skip > 0 {
			last[0] = append(last[0][:0], values[0]...)
			continue
		}
		for i, at := range into.layout.schema.Key() {
			last[i] = append(last[i][:0], values[at]...)
		}
	}
	l.rows = into.rows
	if _, err := results.Close(); err != nil {
		return n, false, err
	}
	switch {
	case n == 0:
	case skip > 0:
		if into.lastPlace, err = parsePlace(last[0]); err != nil {
			return n, false, err
		}
	default:
		into.last = make([]string, len(into.layout.schema.Key()))
		for i := range into.last {
			into.last[i] = string(last[i])
		}
	}
	if n > 0 {
		l.rowSize[l.job.table.state.Table] = max(c.bytes/n, 1)
	}
	return n, stopped, nil
}

// noteLarge marks the values of a row that were too large to be asked for.
func (into *chunkRows) noteLarge(s *selection, row []change.Value, values [][]byte) {
	for i := range row {
		at, guarded := s.sizes[i]
		if !guarded || values[at] == nil {
			continue
		}
		size, _ := strconv.ParseInt(string(values[at]), 10, 64)
		row[i] = change.Value{}
		if into.tooLarge == nil {
			into.tooLarge = make(map[*change.Value]map[string]int64)
		}
		if into.tooLarge[&row[0]] == nil {
			into.tooLarge[&row[0]] = make(map[string]int64)
		}
		into.tooLarge[&row[0]][into.layout.schema.Columns[i].Name] = size
	}
}

// rowRoom is memory for the rows of a piece, used again for the next: by then the
// journal has its own copy of them.
type rowRoom struct {
	texts  [][]byte
	values [][]change.Value
	// text and row are the pieces of memory in use, of which the first used ones
	// are full.
	text, row int
}

const (
	textRoom  = 256 << 10
	valueRoom = 4096
)

func (r *rowRoom) reset() {
	r.text, r.row = 0, 0
	for i := range r.texts {
		r.texts[i] = r.texts[i][:0]
	}
	for i := range r.values {
		r.values[i] = r.values[i][:0]
	}
}

// newRow is a row of omitted values.
func (r *rowRoom) newRow(width int) []change.Value {
	for {
		if r.row == len(r.values) {
			r.values = append(r.values, make([]change.Value, 0, max(valueRoom, width)))
		}
		room := r.values[r.row]
		if n := len(room); cap(room)-n >= width {
			r.values[r.row] = room[:n+width]
			row := room[n : n+width : n+width]
			clear(row)
			return row
		}
		r.row++
	}
}

// next is memory to append a text to; keep takes it back with the text.
func (r *rowRoom) next() []byte {
	for ; ; r.text++ {
		if r.text == len(r.texts) {
			r.texts = append(r.texts, make([]byte, 0, textRoom))
		}
		if room := r.texts[r.text]; cap(room)-len(room) >= 4096 {
			return room
		}
	}
}

func (r *rowRoom) keep(room []byte) {
	if cap(room) > 4*textRoom {
		r.texts[r.text] = make([]byte, 0, textRoom) // the row alone keeps a large value's memory
		return
	}
	r.texts[r.text] = room
}

// collector makes rows of what the server sends, in the loader's memory.
type collector struct {
	layout    *layout
	selection *selection
	room      *rowRoom
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
	row := c.room.newRow(len(l.from))
	for i := range l.from {
		raw := values[i]
		if raw == nil {
			row[i].Presence = change.Null
			continue
		}
		room := c.room.next()
		start := len(room)
		var err error
		if convert := l.convert[i]; convert != nil {
			room, err = convert(room, raw)
		} else {
			room = append(room, raw...)
		}
		if err != nil {
			return nil, &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
				Message: fmt.Sprintf("table %s: column %s of a row of the load cannot be decoded", l.name, l.schema.Columns[i].Name)}
		}
		row[i] = change.Value{Presence: change.Present, Text: room[start:len(room):len(room)]}
		c.room.keep(room)
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
