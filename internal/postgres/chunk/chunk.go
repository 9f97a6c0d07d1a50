// Package chunk reads pieces of a table in a snapshot that sees every transaction before a
// mark: by key, by where rows lie, or with a cursor.
package chunk

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/session"
)

// Reader is one session that reads pieces of tables.
type Reader struct {
	Config *session.Config
	// Report takes what a person should know.
	Report func(engine.Report)
	Conn   *pgx.Conn
	// Target is the table that is read now.
	Target Target
	Room   rowRoom
	rows   [][]change.Value
	// Keeps has the rows of one piece kept for the next.
	Keeps bool
	// Guarded tables may have values that are too large to be asked for.
	Guarded bool
	// RowSize is that of the last piece's rows on average, in bytes, by table.
	RowSize map[string]int
	// Pages are the table's, when its layout was looked up last.
	Pages int64
	// Plain tables have small rows: a range of pages holds little more than itself.
	Plain map[string]bool
}

// Target is a table as it is read, or a partition of it.
type Target struct {
	Table string // its name in events
	Leaf  string // the partition that is read; empty for all of the table
	// Mapped says that the rows of its partitions are its own.
	Mapped bool
	Rule   *rules.Table
	// Where is a condition in the source's own SQL; empty for all rows.
	Where string
}

// Relation is what is read, sanitized.
func (t *Target) Relation() string {
	if t.Leaf != "" {
		return session.SanitizedName(t.Leaf)
	}
	return session.SanitizedName(t.Table)
}

// From is the relation in a statement that reads: a mapped table is read with its
// partitions, any other without what inherits from it.
func (t *Target) From() string {
	if t.Mapped && t.Leaf == "" {
		return t.Relation()
	}
	return "ONLY " + t.Relation()
}

// Rows is what was read between two marks.
type Rows struct {
	Layout    *catalogue.Layout
	Rows      [][]change.Value
	Last      []string // the last row's key in the server's own text
	LastPlace Place    // where it lies, of a piece by range
	File      uint32   // the table's file, of a piece by range
	End       bool     // the piece has no rows after these
	Seen      Snapshot
	// Leaves are the partitions that were read, by OID, of a mapped table that is read whole.
	Leaves map[uint32]string
	// TooLarge are the sizes of values that were left out, by the row's first value.
	TooLarge map[*change.Value]map[string]int64
}

// Read takes a snapshot that sees every transaction that came before the first
// mark, and reads.
func (l *Reader) Read(ctx context.Context, before []uint32, read func(*Rows) error) (*Rows, error) {
	into := new(Rows)
	began := time.Now()
	for attempt := 0; ; attempt++ {
		seen, err := l.BeginReading(ctx)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(before, func(xid uint32) bool { return !seen.Sees(xid) }) {
			into.Seen = seen
			if into.Layout, err = l.Layout(ctx); err != nil {
				return nil, err
			}
			if err := read(into); err != nil {
				return nil, err
			}
			if into.Leaves, err = l.Leaves(ctx); err != nil {
				return nil, err
			}
			_, err = l.Conn.Exec(ctx, "COMMIT")
			return into, err
		}
		if _, err := l.Conn.Exec(ctx, "ROLLBACK"); err != nil {
			return nil, err
		}
		if err := l.WaitToSee(ctx, attempt, began); err != nil {
			return nil, err
		}
	}
}

// Leaves are the partitions of a mapped table that is read whole, by OID; nil for any other
// table.
func (l *Reader) Leaves(ctx context.Context) (map[uint32]string, error) {
	if !l.Target.Mapped || l.Target.Leaf != "" {
		return nil, nil
	}
	rows, _ := l.Conn.Query(ctx, `SELECT c.oid, n.nspname, c.relname FROM pg_partition_tree($1::text::regclass) p JOIN pg_class c ON c.oid = p.relid
		JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.isleaf AND c.relkind = 'r'`, l.Target.Relation())
	leaves := make(map[uint32]string)
	var oid uint32
	var schema, table string
	_, err := pgx.ForEachRow(rows, []any{&oid, &schema, &table}, func() error {
		leaves[oid] = change.TableName(schema, table)
		return nil
	})
	return leaves, err
}

// BeginReading opens a transaction on the table and takes its snapshot. The lock
// comes before the snapshot: an ALTER in between that rewrites the table would
// leave a piece without rows and no sign of it.
func (l *Reader) BeginReading(ctx context.Context) (Snapshot, error) {
	if _, err := l.Conn.PgConn().Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; LOCK TABLE "+l.Target.From()+" IN ACCESS SHARE MODE").ReadAll(); err != nil {
		return Snapshot{}, err
	}
	var text string
	if err := l.Conn.QueryRow(ctx, "SELECT pg_current_snapshot()::text").Scan(&text); err != nil {
		return Snapshot{}, err
	}
	return ParseSnapshot(text)
}

// WaitToSee waits a moment for a commit to become visible.
func (l *Reader) WaitToSee(ctx context.Context, attempt int, began time.Time) error {
	if attempt > 0 && time.Since(began) > 5*time.Second && attempt%1000 == 0 {
		l.Report(engine.Report{Level: "warn", Event: "load-waits", Message: l.Target.Table +
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
	layout *catalogue.Layout
	Names  []string
	places []int // in layout.raw
	// sizes are where the answer has the sizes of values that were too large to be
	// asked for, by their own places.
	sizes map[int]int
}

func (s *selection) bare(place int) string { return session.Quoted(s.layout.Raw[s.places[place]].Name) }

func (l *Reader) SelectionOf(layout *catalogue.Layout) *selection {
	s := selectionOf(layout)
	if !l.Guarded {
		return s
	}
	// The size of a value is known without reading it.
	largest := l.Config.LargestValue
	s.sizes = make(map[int]int)
	for i, raw := range s.places {
		switch c := &layout.Raw[raw]; c.OID {
		case catalogue.OIDBytea, catalogue.OIDText, catalogue.OIDVarchar, catalogue.OIDBpchar:
			if c.Key > 0 || !c.Toasted {
				continue
			}
			name := session.Quoted(c.Name)
			s.Names[i] = fmt.Sprintf("CASE WHEN octet_length(%s) <= %d THEN %s END", name, largest, name)
			s.sizes[i] = len(s.Names)
			s.Names = append(s.Names, fmt.Sprintf("CASE WHEN octet_length(%s) > %d THEN octet_length(%s) END", name, largest, name))
		}
	}
	return s
}

func selectionOf(l *catalogue.Layout) *selection {
	s := &selection{layout: l}
	add := func(raw int) {
		if !slices.Contains(s.places, raw) {
			s.places = append(s.places, raw)
			s.Names = append(s.Names, session.Quoted(l.Raw[raw].Name))
		}
	}
	for _, raw := range l.From {
		add(raw)
	}
	if l.Filter != nil {
		for _, raw := range l.Filter.Uses() {
			add(raw)
		}
	}
	return s
}

// Limit is how many rows are asked for at once.
func (l *Reader) Limit() int {
	size := l.RowSize[l.Target.Table]
	if size == 0 {
		return 2000
	}
	return min(max(2*l.Config.ChunkBytes/size, 1), 50_000)
}

// ReadAgain reads the rows of some keys inside the open transaction, and returns
// how many of the keys it had room for.
func (l *Reader) ReadAgain(ctx context.Context, into *Rows, keys [][]string) (int, error) {
	n := min(len(keys), l.Limit())
	for {
		if err := l.ReadByKey(ctx, into, nil, keys[:n]); err != nil || into.End {
			return n, err
		}
		n /= 2
	}
}

// ReadByKey reads the rows that follow a key, or those of some keys, inside the
// open transaction. Of several keys all rows have been read only if into.end.
func (l *Reader) ReadByKey(ctx context.Context, into *Rows, after []string, keys [][]string) error {
	s := l.SelectionOf(into.Layout)
	keyed := into.Layout.Schema.Key()
	if len(keyed) == 0 {
		into.End = true
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
	if l.Target.Where != "" {
		conditions = append(conditions, "("+l.Target.Where+")")
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
		limit = l.Limit()
		tail = fmt.Sprintf(" ORDER BY %s LIMIT %d", strings.Join(keyNames, ", "), limit)
	}
	sql := "SELECT " + strings.Join(s.Names, ", ") + " FROM " + l.Target.From()
	if len(conditions) > 0 {
		sql += " WHERE " + strings.Join(conditions, " AND ")
	}
	most := 8 * l.Config.ChunkBytes
	if len(keys) == 1 {
		most = 0 // it is one row, or a few where the key is a rule's: all or nothing
	}
	n, stopped, err := l.Collect(ctx, into, s, sql+tail, parameters, 0, most)
	into.End = !stopped && (keys != nil || n < limit)
	return err
}

// ReadRange reads the rows that lie in a piece, inside the open transaction.
func (l *Reader) ReadRange(ctx context.Context, into *Rows, p Piece) error {
	if err := l.Conn.QueryRow(ctx, "SELECT pg_relation_filenode($1::text::regclass)", l.Target.Relation()).Scan(&into.File); err != nil {
		return err
	}
	s := l.SelectionOf(into.Layout)
	table := l.Target.Table
	where := fmt.Sprintf(" FROM %s WHERE ctid > '%s' AND ctid < '%s'", l.Target.From(), p.From, p.To)
	if l.Target.Where != "" {
		where += " AND (" + l.Target.Where + ")"
	}
	most := 8 * l.Config.ChunkBytes
	if l.Plain[table] {
		_, stopped, err := l.Collect(ctx, into, s, "SELECT "+strings.Join(s.Names, ", ")+where, nil, 0, most)
		if err != nil || !stopped {
			into.End = true
			return err
		}
	}
	// A range of pages may hold far more than its own size, in values that are
	// stored out of line. A scan of a range goes in the order of places; asking for
	// them costs the server a fifth, so where rows are small it is not done.
	limit := 4 * l.Limit()
	into.Rows = nil
	n, stopped, err := l.Collect(ctx, into, s, fmt.Sprintf("SELECT ctid, %s%s LIMIT %d", strings.Join(s.Names, ", "), where, limit), nil, 1, most)
	into.End = !stopped && n < limit
	l.Plain[table] = into.End && n*l.RowSize[table] < most/2
	return err
}

// String is the place as the server writes a ctid.
func (p Place) String() string { return fmt.Sprintf("(%d,%d)", p.Page, p.Row) }

func parsePlace(text []byte) (p Place, err error) {
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

// Collect runs a statement and takes its rows up to some bytes, or all where most
// is 0; skip columns stand before the selection's. n is how many rows were looked
// at; stopped says that there were more.
func (l *Reader) Collect(ctx context.Context, into *Rows, s *selection, sql string, parameters [][]byte, skip, most int) (n int, stopped bool, err error) {
	results := l.Conn.PgConn().ExecParams(ctx, sql, parameters, nil, nil, nil)
	into.TooLarge = nil
	c := collector{layout: into.Layout, selection: s, room: &l.Room}
	into.Rows = nil
	if !l.Keeps {
		l.Room.Reset()
		into.Rows = l.rows[:0]
	}
	last := make([][]byte, max(len(into.Layout.Schema.Key()), 1))
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
			into.Rows = append(into.Rows, row)
			if s.sizes != nil {
				into.noteLarge(s, row, values[skip:])
			}
		}
		// The last row's place or key is kept; until the end any may be the last.
		if skip > 0 {
			last[0] = append(last[0][:0], values[0]...)
			continue
		}
		for i, at := range into.Layout.Schema.Key() {
			last[i] = append(last[i][:0], values[at]...)
		}
	}
	l.rows = into.Rows
	if _, err := results.Close(); err != nil {
		return n, false, err
	}
	switch {
	case n == 0:
	case skip > 0:
		if into.LastPlace, err = parsePlace(last[0]); err != nil {
			return n, false, err
		}
	default:
		into.Last = make([]string, len(into.Layout.Schema.Key()))
		for i := range into.Last {
			into.Last[i] = string(last[i])
		}
	}
	if n > 0 {
		l.RowSize[l.Target.Table] = max(c.bytes/n, 1)
	}
	return n, stopped, nil
}

// noteLarge marks the values of a row that were too large to be asked for.
func (into *Rows) noteLarge(s *selection, row []change.Value, values [][]byte) {
	for i := range row {
		at, guarded := s.sizes[i]
		if !guarded || values[at] == nil {
			continue
		}
		size, _ := strconv.ParseInt(string(values[at]), 10, 64)
		row[i] = change.Value{}
		if into.TooLarge == nil {
			into.TooLarge = make(map[*change.Value]map[string]int64)
		}
		if into.TooLarge[&row[0]] == nil {
			into.TooLarge[&row[0]] = make(map[string]int64)
		}
		into.TooLarge[&row[0]][into.Layout.Schema.Columns[i].Name] = size
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

// GiveBack gives the memory of rows back, while there is nothing to read.
func (r *Reader) GiveBack() { r.Room = rowRoom{} }

const (
	textRoom  = 256 << 10
	valueRoom = 4096
)

func (r *rowRoom) Reset() {
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
	layout    *catalogue.Layout
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
	if l.Filter != nil && !c.admits(values) {
		return nil, l.GaveUp()
	}
	row := c.room.newRow(len(l.From))
	for i := range l.From {
		raw := values[i]
		if raw == nil {
			row[i].Presence = change.Null
			continue
		}
		room := c.room.next()
		start := len(room)
		var err error
		if convert := l.Convert[i]; convert != nil {
			room, err = convert(room, raw)
		} else {
			room = append(room, raw...)
		}
		if err != nil {
			return nil, &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
				Message: fmt.Sprintf("table %s: column %s of a row of the load cannot be decoded", l.Name, l.Schema.Columns[i].Name)}
		}
		row[i] = change.Value{Presence: change.Present, Text: room[start:len(room):len(room)]}
		c.room.keep(room)
	}
	return row, nil
}

func (c *collector) admits(values [][]byte) bool {
	var scratch []byte
	return c.layout.Verdict(func(raw int) change.Value {
		text := values[slices.Index(c.selection.places, raw)]
		if text == nil {
			return change.NullValue()
		}
		return c.layout.Raw[raw].Value(&scratch, text)
	}) == expression.Holds
}

// Layout is the table's layout as the loader's session sees it now.
func (l *Reader) Layout(ctx context.Context) (*catalogue.Layout, error) {
	var oid uint32
	var aside int64 // what is stored out of line, perhaps compressed
	if err := l.Conn.QueryRow(ctx, "SELECT oid, coalesce(pg_relation_size(nullif(reltoastrelid, 0)), 0), pg_relation_size(oid) / $2 FROM pg_class WHERE oid = $1::text::regclass", pgx.QueryExecModeCacheStatement, l.Target.Relation(), PageBytes).Scan(&oid, &aside, &l.Pages); err != nil {
		return nil, err
	}
	l.Guarded = l.Target.Mapped || aside > l.Config.LargestValue/Compressible
	return catalogue.Current(ctx, l.Config, l.Conn, oid, l.Target.Table, l.Target.Rule)
}

// PageBytes is the usual size of a page (BLCKSZ); another one makes pieces
// larger or smaller, nothing else.
const PageBytes = 8192

// Compressible is how much smaller a value may be on disk.
const Compressible = 128

// Piece is a range of row places: behind From and before To.
type Piece struct {
	From Place `json:"from"`
	To   Place `json:"to"`
}

// Place is where a row lies: a page and a number on it, as ctid has them.
type Place struct {
	Page int64 `json:"page"`
	Row  int   `json:"row,omitempty"`
}
