package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
)

// A load reads a table in chunks by key while the table is followed. A commit
// stands in the log, and can reach us, before a query can see it, so that a
// chunk between two marks in the stream is laid over with the transactions that
// its snapshot did not see; tableLoad holds what the stream knows for that, and
// keepLoading does the reading.

// progress is how far a table's load is; it is stored with the events.
type progress struct {
	// Began is true once the void event stands in the journal.
	Began bool `json:"began"`
	// After is the key of the last row that was read, in the server's own text.
	After []string `json:"after,omitempty"`
	// Again are keys to be read again, one by one: rows whose key changed while
	// the log left out one of their values.
	Again [][]string `json:"again,omitempty"`
	// Read is true once all chunks but those of Again are in the journal.
	Read bool `json:"read,omitempty"`
	// From is where in the log the load began.
	From LSN `json:"from"`
}

// maxAgain bounds progress.Again; a load that needs more begins anew.
const maxAgain = 1000

// maxOverlay bounds what a chunk holds of the stream between its marks.
const maxOverlay = 16 << 20

// tableLoad is a table's load as the stream sees it; the sink's lock guards it.
type tableLoad struct {
	progress progress
	// ready is false until nobody writes to the table any more who began before
	// it was published.
	ready bool

	// Between a chunk's marks:
	collecting bool
	voided     bool // truncated or too much to hold: read the chunk again
	layouts    []*layout
	overlay    []overlaid
	held       int
}

// overlaid is one change between a chunk's marks.
type overlaid struct {
	xid       uint32
	operation change.Operation
	key       string // of the row before the change
	newKey    string // where the key changed
	rekeyed   bool
	after     []change.Value
}

// wantLoad gives a table a load, which begins once releaseLoad says so.
func (r *run) wantLoad(t *table) {
	if t.load != nil {
		return
	}
	load := new(tableLoad)
	if t.state.Progress != nil {
		if err := json.Unmarshal(t.state.Progress, &load.progress); err != nil {
			load.progress = progress{} // begin anew: the void event makes that safe
		}
	}
	t.load = load
}

// releaseLoad lets a table's load begin.
func (r *run) releaseLoad(t *table) {
	t.load.ready = true
	select {
	case r.newTables <- struct{}{}:
	default:
	}
}

// progressState is the table's state with its load's progress.
func (t *table) progressState() engine.TableState {
	t.state.Progress = nil
	if t.load != nil {
		encoded, err := json.Marshal(t.load.progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.state.Progress = encoded
	}
	return t.state
}

func (l *tableLoad) relationChanged(now *layout) {
	if l.collecting {
		l.layouts = append(l.layouts, now)
	}
}

func (l *tableLoad) observe(xid uint32, from *layout, row *change.Row) {
	if !l.collecting || l.voided {
		return
	}
	image := row.After
	if row.Operation == change.Delete {
		image = row.Before
	}
	key := make([]change.Value, 0, 4)
	for _, i := range from.schema.Key() {
		key = append(key, image[i])
	}
	l.keep(overlaid{xid: xid, operation: row.Operation, key: change.RowKey(key), after: change.CloneImage(row.After)})
}

func (l *tableLoad) observeRekey(xid uint32, _ *layout, oldKey, newKey, after []change.Value) {
	if l.collecting && !l.voided {
		l.keep(overlaid{xid: xid, operation: change.Update, key: change.RowKey(oldKey), newKey: change.RowKey(newKey), rekeyed: true, after: change.CloneImage(after)})
	}
}

func (l *tableLoad) keep(o overlaid) {
	l.held += 128 + len(o.key) + len(o.newKey)
	for _, v := range o.after {
		l.held += 32 + len(v.Text)
	}
	if l.held > maxOverlay {
		l.voided, l.overlay = true, nil
		return
	}
	l.overlay = append(l.overlay, o)
}

func (l *tableLoad) observeTruncate() {
	if l.collecting {
		l.voided, l.overlay = true, nil
	}
}

// readAgain asks for a row to be read by its new key.
func (l *tableLoad) readAgain(from *layout, raw []pgoutput.TupleColumn) {
	key := make([]string, 0, 4)
	for _, i := range from.schema.Key() {
		key = append(key, string(raw[i].Data))
	}
	if len(l.progress.Again) >= maxAgain {
		l.progress = progress{} // too many: the load begins anew, with a void event
		l.voided = true
		return
	}
	l.progress.Again = append(l.progress.Again, key)
}

// keepLoading loads what is to be loaded, one table after the other.
func (r *run) keepLoading(ctx context.Context) error {
	var conn *pgx.Conn
	for {
		t := r.nextLoad()
		if t == nil {
			if conn != nil {
				conn.Close(ctx) //nolint:errcheck // nothing is open on it
				conn = nil
			}
			if err := r.waitForLoads(ctx); err != nil {
				return err
			}
			continue
		}
		if conn == nil {
			var err error
			if conn, err = r.markSession(ctx, "load"); err != nil {
				return err
			}
			defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
			// Rows that row-level security would hide are an error, not missing.
			if _, err := conn.Exec(ctx, "SET row_security = off"); err != nil {
				return err
			}
		}
		if err := r.loadTable(ctx, conn, t); err != nil {
			return err
		}
	}
}

func (r *run) nextLoad() *table {
	r.sink.Lock()
	defer r.sink.Unlock()
	names := make([]string, 0, len(r.tables))
	for name, t := range r.tables {
		if t.load != nil && t.load.ready {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	sort.Strings(names)
	return r.tables[names[0]]
}

func (r *run) waitForLoads(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-r.newTables:
		return nil
	}
}

// loadTable loads one table from where its progress stands.
func (r *run) loadTable(ctx context.Context, conn *pgx.Conn, t *table) error {
	name := t.state.Table
	l := &loader{run: r, conn: conn, table: t, started: time.Now()}
	r.sink.Report(engine.Report{Level: "info", Event: "load-began", Doing: "loading " + name, Message: "loading " + name + l.resumes()})
	for {
		done, err := l.step(ctx)
		if skipped := l.skippable(err); skipped != "" {
			r.giveUp(t, skipped)
			break
		}
		if err != nil {
			return err
		}
		if done {
			r.sink.Report(engine.Report{Level: "info", Event: "load-done",
				Message: fmt.Sprintf("%s: %d rows loaded in %s", name, l.rowsDone(), time.Since(l.started).Round(time.Millisecond))})
			break
		}
	}
	r.sink.Report(engine.Report{Doing: "following"})
	return nil
}

func (r *run) giveUp(t *table, why string) {
	r.sink.Lock()
	defer r.sink.Unlock()
	t.load = nil
	t.state.State, t.state.Note, t.state.Progress = engine.StateFailed, why, nil
	r.sink.Table(t.state)
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "error", Event: "load-failed", Message: t.state.Table + ": " + why})
}

// loader reads one table.
type loader struct {
	run     *run
	conn    *pgx.Conn
	table   *table
	started time.Time
	rowSize int // of the last chunk's rows on average, in bytes
}

func (l *loader) resumes() string {
	l.run.sink.Lock()
	defer l.run.sink.Unlock()
	if l.table.load != nil && l.table.load.progress.After != nil {
		return fmt.Sprintf(", going on after %d rows", l.table.state.RowsDone)
	}
	return ""
}

func (l *loader) rowsDone() int64 {
	l.run.sink.Lock()
	defer l.run.sink.Unlock()
	return l.table.state.RowsDone
}

// layout is the table's layout as the loader's session sees it now.
func (l *loader) layout(ctx context.Context) (*layout, error) {
	var oid uint32
	if err := l.conn.QueryRow(ctx, "SELECT $1::text::regclass::oid", l.sanitized()).Scan(&oid); err != nil {
		return nil, err
	}
	return catalogueLayout(ctx, l.conn, oid, l.table.state.Table)
}

// skippable is why a table cannot be loaded while others can; empty for an error
// that concerns the connection.
func (l *loader) skippable(err error) string {
	var server *pgconn.PgError
	if !errors.As(err, &server) {
		return ""
	}
	if l.conn.PgConn().TxStatus() != 'I' {
		l.conn.Exec(context.Background(), "ROLLBACK") //nolint:errcheck // a broken connection shows at its next use
	}
	switch server.Code {
	case "42501":
		if strings.Contains(server.Message, "pg_logical_emit_message") {
			return "the login may not write the messages that a load needs: GRANT EXECUTE ON FUNCTION pg_logical_emit_message(boolean, text, text) TO " + quoted(l.run.config.Connection.User)
		}
		return server.Message + ": GRANT SELECT ON " + l.sanitized() + " TO " + quoted(l.run.config.Connection.User)
	case "42P01":
		return "the table is gone"
	case "25006":
		return "the source is a standby, where the marks of a load cannot be written: load from its primary"
	}
	return ""
}

func (l *loader) sanitized() string {
	schema, name, _ := strings.Cut(l.table.state.Table, ".")
	return pgx.Identifier{schema, name}.Sanitize()
}

// step does the next piece of the load and reports whether it was the last.
func (l *loader) step(ctx context.Context) (done bool, err error) {
	r, t := l.run, l.table
	r.sink.Lock()
	load := t.load
	if load == nil { // dropped, or no longer chosen
		r.sink.Unlock()
		return true, nil
	}
	at := load.progress
	r.sink.Unlock()
	switch {
	case !at.Began:
		return false, l.begin(ctx)
	case at.Read && len(at.Again) > 0:
		return l.chunk(ctx, at.Again[0], true)
	default:
		return l.chunk(ctx, at.After, false)
	}
}

// begin puts the void event and the load's beginning on record.
func (l *loader) begin(ctx context.Context) error {
	r, t := l.run, l.table
	now, err := l.layout(ctx)
	if err != nil {
		return err
	}
	return r.place(ctx, l.conn, func() error {
		if t.load == nil {
			return nil
		}
		place := r.lastRow
		if t.state.Schema == nil {
			r.adopt(t, now, place)
		}
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place)})
		t.load.progress = progress{Began: true, From: place}
		t.state.State, t.state.Note, t.state.RowsDone = engine.StateLoading, "", 0
		r.sink.Table(t.progressState())
		return nil
	})
}

// chunk reads rows after a key, or the one row of a key, and puts them into the
// journal at the second mark.
func (l *loader) chunk(ctx context.Context, key []string, one bool) (done bool, err error) {
	r, t := l.run, l.table
	var before []uint32
	err = r.place(ctx, l.conn, func() error {
		if t.load == nil {
			return nil
		}
		t.load.collecting, t.load.voided = true, false
		t.load.overlay, t.load.layouts, t.load.held = nil, nil, 0
		before = r.unseen.of(t.number)
		return nil
	})
	if err != nil {
		return false, err
	}
	read, err := l.read(ctx, before, key, one)
	if err != nil {
		return false, err
	}
	err = r.place(ctx, l.conn, func() error {
		done = t.load == nil
		if !done {
			done = l.deliver(read, one)
		}
		return nil
	})
	return done, err
}

// deliver puts a chunk into the journal at its second mark, and reports whether
// the load is complete. The lock is held, a unit is open.
func (l *loader) deliver(read *chunkRows, one bool) (done bool) {
	r, t, load := l.run, l.table, l.table.load
	load.collecting = false
	overlay := load.overlay
	load.overlay = nil
	if load.voided || !load.progress.Began {
		return false // read again
	}
	for _, other := range load.layouts {
		if other.schema.Fingerprint() != read.layout.schema.Fingerprint() {
			return false
		}
	}
	place := r.lastRow
	r.adopt(t, read.layout, place)
	if len(read.layout.schema.Key()) == 0 {
		t.load = nil
		t.state.State, t.state.Note = engine.StateFollowing, noKey+"rows that exist already are not loaded"
		r.sink.Table(t.progressState())
		return true
	}
	for _, row := range layOver(read, overlay) {
		r.sink.Add(&change.Row{Operation: change.Existing, Table: t.state.Table, Schema: read.layout.schema, Place: uint64(place), After: row})
		t.state.RowsDone++
	}
	if one {
		load.progress.Again = load.progress.Again[1:]
	} else {
		if len(read.rows) > 0 {
			load.progress.After = slices.Clone(read.last)
		}
		load.progress.Read = read.end
	}
	if load.progress.Read && len(load.progress.Again) == 0 {
		r.sink.Add(&change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: read.layout.schema, Place: uint64(place)})
		t.load = nil
		t.state.State, t.state.Note = engine.StateFollowing, ""
		done = true
	}
	r.sink.Table(t.progressState())
	return done
}

// layOver applies to a chunk what came in the stream between its marks and what
// its snapshot did not see.
func layOver(read *chunkRows, overlay []overlaid) [][]change.Value {
	overlay = slices.DeleteFunc(overlay, func(o overlaid) bool { return read.seen.sees(o.xid) })
	if len(overlay) == 0 {
		return read.rows
	}
	keyed := read.layout.schema.Key()
	byKey := make(map[string]int, len(read.rows))
	key := make([]change.Value, len(keyed))
	for i, row := range read.rows {
		for j, at := range keyed {
			key[j] = row[at]
		}
		byKey[change.RowKey(key)] = i
	}
	for _, o := range overlay {
		i, found := byKey[o.key]
		if !found {
			continue // its own event in the journal is all there is to it
		}
		if o.operation == change.Delete {
			read.rows[i] = nil
			delete(byKey, o.key)
			continue
		}
		for column, v := range o.after {
			if v.Presence != change.Omitted {
				read.rows[i][column] = v
			}
		}
		if o.rekeyed {
			delete(byKey, o.key)
			byKey[o.newKey] = i
		}
	}
	return slices.DeleteFunc(read.rows, func(row []change.Value) bool { return row == nil })
}
