package mariadb

import (
	"context"
	"errors"
	"maps"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// loader is one session that loads tables.
type loader struct {
	run    *run
	conn   *wire.Conn
	reader *catalogue.Reader
	writer rows.Writer // projects rows, and adds none
	raw    []change.Value
	arena  []byte
	images []change.Value
}

// job is one chunk of a load.
type job struct {
	table  *table
	load   *tableLoad
	turn   int
	at     progress // as it was when the job was handed out
	limit  int
	listed *catalogue.Table
	layout *rows.Layout
	// version is the table's when it was looked up.
	version int
}

// current reports whether the load that a job belongs to still is the table's, and the
// table what it was; the lock is held.
func (j *job) current() bool {
	return j.table.load == j.load && j.load.turn == j.turn && j.table.version == j.version
}

// keepLoading runs the sessions that load what is to be loaded.
func (r *run) keepLoading(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.config.LoadSessions {
		group.Go(func() error {
			l := &loader{run: r, writer: rows.Writer{Sink: r.sink, Largest: r.config.LargestValue}}
			return states.Work(ctx, r.states, l, n == 0)
		})
	}
	return group.Wait()
}

func (l *loader) connect(ctx context.Context) (err error) {
	if l.conn != nil {
		return nil
	}
	if l.conn, err = l.run.config.Connect(ctx, "load"); err != nil {
		return err
	}
	l.reader, err = catalogue.NewReader(ctx, l.conn)
	return err
}

// HangUp implements [states.Session].
func (l *loader) HangUp(context.Context) {
	if l.conn != nil {
		l.conn.Close()
	}
	l.conn = nil
}

// Next implements [states.Session].
func (l *loader) Next() (*job, bool) {
	r := l.run
	best, found := states.First(maps.Values(r.tables), func(t *table) bool { return !t.load.taken })
	if !found {
		return nil, false
	}
	one := best.load
	one.taken = true
	from := r.at.place
	if r.tx.open {
		from = r.tx.end // what of the open group has been taken is not kept
	}
	one.record(from)
	if one.limit == 0 {
		one.limit = 200 // the first chunk shows how large rows are
	}
	return &job{table: best, load: one, turn: one.turn, at: one.progress, limit: one.limit}, true
}

// Do implements [states.Session].
func (l *loader) Do(ctx context.Context, j *job) error {
	err := l.connect(ctx)
	if err == nil {
		err = l.read(ctx, j)
	}
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil && l.skippable(err) != "" {
		l.HangUp(ctx) // whatever the session is in the middle of
	}
	return err
}

// Done implements [states.Session].
func (l *loader) Done(j *job, err error) (soon bool, _ error) {
	j.load.taken = false
	why := l.skippable(err)
	switch {
	case err == nil, why == again:
		return err != nil, nil
	case why == "":
		return false, err
	case j.table.load == j.load:
		l.run.states.LoadFailed(j.table, &j.at.Task, why)
	}
	return false, nil
}

// again is why a job is handed out once more.
const again = "again"

var (
	errNoTable = errors.New("the table is not there")
	errAgain   = errors.New("the chunk has to be read again")
)

// skippable is why a load cannot go on while others can; empty where the run ends with it.
func (l *loader) skippable(err error) string {
	var fault *engine.Fault
	switch {
	case errors.Is(err, errAgain), errors.Is(err, errNoTable), session.IsNoTable(err), session.IsPassing(err):
		return again // if it is gone, the log says so soon
	case session.IsDenied(err):
		return "the login may not read it: GRANT SELECT, and LOCK TABLES for a table that is not InnoDB's, to " + l.run.config.User
	case errors.As(err, &fault):
		if fault.Code == "unknown-type" {
			return fault.Message
		}
		return ""
	case wire.Code(err) == 1064, wire.Code(err) == 1054, wire.Code(err) == 1305: // syntax, unknown column or function
		return "its rows cannot be read: " + err.Error()
	case damaged[wire.Code(err)]:
		return "its rows cannot be read: " + err.Error() + ". Mend the table on the server (CHECK TABLE says what it is), then reload it with `rillmark source reload`"
	}
	return ""
}

// damaged are the server's errors of a table whose file is damaged, or not there.
var damaged = map[uint16]bool{1016: true, 1017: true, 1030: true, 1033: true, 1034: true, 1194: true, 1195: true, 1296: true, 1712: true, 1812: true, 1814: true, 1815: true, 1877: true, 1932: true}

// read reads one chunk and puts it into the journal.
func (l *loader) read(ctx context.Context, j *job) error {
	if err := l.layoutOf(ctx, j); err != nil {
		return err
	}
	if !walkable(j.listed, j.layout) {
		return l.doWhole(ctx, j)
	}
	if !j.at.Began {
		if err := l.begin(ctx, j); err != nil {
			return err
		}
	}
	var s snapshot
	if err := l.see(ctx, j, &s); err != nil {
		return err
	}
	l.arena, l.images = nil, nil
	l.writer.Fresh()
	c, err := l.rows(ctx, j, j.limit, nil)
	if err != nil {
		return err
	}
	if err := s.end(ctx, l.conn); err != nil {
		return err
	}
	return l.place(ctx, s.ended, func() error { return l.deliver(j, &s, c) })
}

// see takes a snapshot, or locks a table whose storage engine has none.
func (l *loader) see(ctx context.Context, j *job, s *snapshot) error {
	name := wire.Name(j.listed.Database) + "." + wire.Name(j.listed.Table)
	if !j.listed.Transactional() {
		return s.lock(ctx, l.conn, name, 2)
	}
	var sound bool
	l.run.under(func() { sound = j.load.sound != stream.Place{} })
	if !sound {
		// Nothing is known of what a snapshot sees: a lock, given back at once, shows that
		// every commit up to a place is visible. Where somebody writes, it is not waited for:
		// a group will end soon, which shows as much.
		var first snapshot
		err := first.lock(ctx, l.conn, name, 0)
		if err == nil {
			err = first.end(ctx, l.conn)
		}
		switch {
		case err == nil:
			l.run.under(func() {
				if j.load.floor.Before(first.at) || j.load.floor == first.at {
					j.load.sound = first.at
				}
			})
		case !session.IsDenied(err) && !session.IsPassing(err):
			return err
		}
	}
	return s.begin(ctx, l.conn)
}

// place runs f where the log has been taken up to a place at least, between two groups,
// with the lock held and a transaction of its own open.
func (l *loader) place(ctx context.Context, until stream.Place, f func() error) error {
	r := l.run
	if err := r.await(ctx, until); err != nil {
		return err
	}
	if err := r.awaitWhole(ctx); err != nil {
		return err
	}
	r.writing.Lock()
	defer r.writing.Unlock()
	return r.sink.Locked(func() error {
		if err := r.sink.Reserve(); err != nil {
			return err
		}
		r.sink.Begin("", "", time.Now().UnixMicro(), 0)
		r.tx.place = r.at.place.Number()
		err := f()
		r.sink.Commit()
		return err
	})
}

// awaitWhole waits until the transaction is complete that the last run cut.
func (r *run) awaitWhole(ctx context.Context) error {
	select {
	case <-r.whole:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// begin puts the void event and the load's beginning on record.
func (l *loader) begin(ctx context.Context, j *job) error {
	// A condition that cannot be used shows here, not after rows have been declared void.
	probe := selecting(j.listed, j.layout)
	if j.at.Where != "" {
		probe += " WHERE (" + j.at.Where + ")"
	}
	if err := l.conn.Exec(ctx, probe+" LIMIT 0"); err != nil {
		return err
	}
	err := l.place(ctx, stream.Place{}, func() error {
		if !j.current() {
			return errAgain
		}
		l.run.loadBegins(j)
		return nil
	})
	j.at.Began = true
	return err
}

// loadBegins puts a load's beginning on record; the lock is held and a unit is open.
func (r *run) loadBegins(j *job) {
	t := j.table
	if t.state.Schema == nil {
		r.adopt(t, j.layout, j.listed.Filled)
	}
	t.load.progress.After = nil
	t.listed = j.listed
	r.states.LoadBegan(t, r.tx.place, "", j.listed.Rows)
}

// longUnsure is after how many snapshots of which nothing is known it is said that the load
// waits.
const longUnsure = 20

// noteWait says what a load waits for that does not know what its snapshots see; the lock is
// held.
func (l *loader) noteWait(j *job, known bool) {
	if known {
		j.load.unsure = 0
		return
	}
	if j.load.unsure++; j.load.unsure == longUnsure {
		l.run.sink.Report(engine.Report{Level: "warn", Event: "load-waits", Message: j.table.state.Table + ": its load waits for the server's next commit, which shows what a snapshot sees. A lock of an instant would show it, too; " +
			"the login needs LOCK TABLES for it, and a distributed transaction that is prepared (XA RECOVER lists them) holds it up"})
	}
}

// deliver puts a chunk into the journal. The lock is held, a unit is open.
func (l *loader) deliver(j *job, s *snapshot, c *chunk) error {
	r, t := l.run, j.table
	if !j.current() || !t.load.progress.Began {
		return errAgain
	}
	low, known := r.past.low(s, j.load.sound)
	l.noteWait(j, known)
	if !known || low.Before(j.load.floor) {
		return errAgain // what lies before it was not kept: the next snapshot is later
	}
	changes, ddl := j.load.between(low)
	if ddl {
		return errAgain
	}
	r.adopt(t, c.layout, c.listed.Filled)
	if !j.current() {
		return errAgain // the new version has changed rows that were read before
	}
	t.listed = c.listed
	for _, row := range load.LayOver(c.rows, c.layout.Schema, changes, (*overlaid).change) {
		r.addExisting(t, c, row)
	}
	j.load.sound = low
	j.load.prune(low)
	p := &t.load.progress
	p.After = c.after
	if n := len(c.rows); n > 0 {
		j.load.limit = min(max(r.config.ChunkBytes/max(c.bytes/n, 1), 20), 50_000, 4*j.limit)
	}
	if c.end {
		r.loadEnds(t)
	}
	r.sink.Table(t.Record())
	return nil
}

// addExisting puts a row of a load into the journal; the lock is held, a unit is open.
func (r *run) addExisting(t *table, c *chunk, row []change.Value) {
	var large map[string]int64
	if len(c.large) > 0 && len(row) > 0 {
		large = c.large[&row[0]]
		t.load.refused += len(large)
	}
	r.tx.observing = nil
	r.writer.Existing(c.layout, r.tx.place, row, large, t.load.progress.For.ID)
	t.state.RowsDone++
}

// loadEnds ends a load of which everything is in the journal; the lock is held, a unit is
// open.
func (r *run) loadEnds(t *table) {
	r.states.LoadEnded(t, r.tx.place, t.load.refused)
	t.keyNote()
}
