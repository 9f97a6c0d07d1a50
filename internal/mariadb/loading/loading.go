// Package loading loads tables beside the log: its sessions read chunks in snapshots and put
// them into the journal where the log has been taken far enough.
package loading

import (
	"context"
	"errors"
	"maps"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/values"
	"rillmark/internal/mariadb/wire"
)

// loader is one session that loads tables.
type loader struct {
	in     *Loading
	conn   *wire.Conn
	reader *catalogue.Reader
	writer rows.Writer // projects rows, and adds none
	raw    []change.Value
	ahead  *ahead // what was read before it was asked for; nil without
	free   []*buffers
}

// job is one chunk of a load.
type job struct {
	table  *loads.Table
	load   *loads.TableLoad
	turn   int
	at     loads.Progress // as it was when the job was handed out
	limit  int
	listed *catalogue.Table
	layout *rows.Layout
	// version is the table's when it was looked up.
	version int
	// sound is set where it was known of an earlier chunk what its snapshot saw.
	sound bool
	// ready is the chunk, where it has been read already; nil where not.
	ready *ahead
}

// current reports whether the load that a job belongs to still is the table's, and the
// table what it was; the lock is held.
func (j *job) current() bool {
	return j.table.Load == j.load && j.load.Turn == j.turn && j.table.Version == j.version
}

// Loading hands the loads of a run out to the sessions that read, and puts what they read
// into the journal. The sink's lock guards it.
type Loading struct {
	Host    Host
	Config  *session.Config
	Sink    engine.Sink
	States  *states.Keeper
	Tables  map[string]*loads.Table
	Past    *loads.History
	Garbled *loads.Garbled
}

// Host is the run that the loads belong to. But for Place, StandStill and Unit its methods are
// called under the sink's lock, and but for Reached and LayoutOf with a unit open.
type Host interface {
	// Reached is the place in the log behind which nothing has been observed yet.
	Reached() stream.Place
	// Place runs f where the log has been taken up to a place at least, between two groups,
	// with the lock held and a transaction of its own open.
	Place(ctx context.Context, until stream.Place, f func() error) error
	// StandStill has the log stand still where it has been taken up to a place at least,
	// between two groups, if may, called under the lock there, allows it; release lets it go
	// on, and is nil where may does not.
	StandStill(ctx context.Context, until stream.Place, may func() bool) (release func(), err error)
	// Unit is Place while the log stands still.
	Unit(f func() error) error
	// At is the place of the open unit, as events have it.
	At() uint64
	// Adopt makes a version the table's current one.
	Adopt(t *loads.Table, l *rows.Layout, filled []bool)
	// LayoutOf is what the rules make of a table's columns.
	LayoutOf(t *loads.Table, columns []*values.Column) (*rows.Layout, error)
	// Existing adds a row that was read, of which values of these sizes by column were too
	// large and left out.
	Existing(t *loads.Table, l *rows.Layout, row []change.Value, sizes map[string]int64)
}

// under runs f under the sink's lock.
func (r *Loading) under(f func()) {
	r.Sink.Locked(func() error { //nolint:errcheck // f has none
		f()
		return nil
	})
}

// Keep runs the sessions that load what is to be loaded.
func (r *Loading) Keep(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.Config.LoadSessions {
		group.Go(func() error {
			l := &loader{in: r, writer: rows.Writer{Sink: r.Sink, Largest: r.Config.LargestValue}}
			return states.Work(ctx, r.States, l, n == 0)
		})
	}
	return group.Wait()
}

func (l *loader) connect(ctx context.Context) (err error) {
	if l.conn != nil {
		return nil
	}
	if l.conn, err = l.in.Config.Connect(ctx, "load"); err != nil {
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
	l.conn, l.ahead, l.free = nil, nil, nil
}

// Next implements [states.Session].
func (l *loader) Next() (*job, bool) {
	r := l.in
	best, found := states.First(maps.Values(r.Tables), func(t *loads.Table) bool { return !t.Load.Taken })
	if !found {
		return nil, false
	}
	one := best.Load
	one.Taken = true
	one.Record(r.Host.Reached())
	if one.Limit == 0 {
		one.Limit = 200 // the first chunk shows how large rows are
	}
	j := &job{table: best, load: one, turn: one.Turn, at: one.Progress, limit: one.Limit, sound: one.Sound != stream.Place{}}
	if l.ahead.of(j) {
		j.ready = l.ahead
	}
	l.ahead = nil
	return j, true
}

// Do implements [states.Session].
func (l *loader) Do(ctx context.Context, j *job) error {
	err := l.connect(ctx)
	if err == nil {
		err = l.read(ctx, j)
	}
	if wire.Code(err) == noColumn && l.hasOthers(ctx, j) {
		err = errAgain
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
	j.load.Taken = false
	why := l.skippable(err)
	switch {
	case err == nil, why == again:
		return err != nil, nil
	case why == "":
		return false, err
	case j.table.Load == j.load:
		l.in.States.LoadFailed(j.table, &j.at.Task, why)
	}
	return false, nil
}

// noColumn is the server's code for a column that is not there.
const noColumn = 1054

// hasOthers reports whether a table has other columns by now than its load asks for, as it may
// while the log has not come to the statement that altered it. They are looked up again then.
// Otherwise it is the load's condition that names a column which is not there.
func (l *loader) hasOthers(ctx context.Context, j *job) bool {
	if j.at.Where != "" && wire.Code(l.conn.Exec(ctx, selecting(j.listed, j.layout)+" LIMIT 0")) != noColumn {
		return false
	}
	l.in.under(func() { j.load.Listed = nil })
	return true
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
		return "the login may not read it: GRANT SELECT, and LOCK TABLES for a table that is not InnoDB's, to " + l.in.Config.User
	case errors.As(err, &fault):
		if fault.Code == "unknown-type" {
			return fault.Message
		}
		return ""
	case wire.Code(err) == 1064, wire.Code(err) == noColumn, wire.Code(err) == 1305: // syntax, unknown column or function
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
	if j.ready == nil {
		one := &ahead{load: j.load, turn: j.turn, version: j.version, after: j.at.After}
		if err := l.see(ctx, j, &one.snapshot); err != nil {
			return err
		}
		if err := l.readOne(ctx, j, one); err != nil {
			return err
		}
		j.ready = one
	}
	return l.put(ctx, j)
}

// see takes a snapshot, or locks a table whose storage engine has none.
func (l *loader) see(ctx context.Context, j *job, s *loads.Snapshot) error {
	name := wire.Name(j.listed.Database) + "." + wire.Name(j.listed.Table)
	if !j.listed.Transactional() {
		return s.Lock(ctx, l.conn, name, 2)
	}
	var sound bool
	l.in.under(func() { sound = j.load.Sound != stream.Place{} })
	if !sound {
		// Nothing is known of what a snapshot sees: a lock, given back at once, shows that
		// every commit up to a place is visible. Where somebody writes, it is not waited for:
		// a group will end soon, which shows as much.
		var first loads.Snapshot
		err := first.Lock(ctx, l.conn, name, 0)
		if err == nil {
			err = first.End(ctx, l.conn)
		}
		switch {
		case err == nil:
			l.in.under(func() {
				if j.load.Floor.Before(first.At) || j.load.Floor == first.At {
					j.load.Sound = first.At
				}
			})
		case !session.IsDenied(err) && !session.IsPassing(err):
			return err
		}
	}
	return s.Begin(ctx, l.conn)
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
	err := l.in.Host.Place(ctx, stream.Place{}, func() error {
		if !j.current() {
			return errAgain
		}
		l.in.loadBegins(j)
		return nil
	})
	j.at.Began = true
	return err
}

// loadBegins puts a load's beginning on record; the lock is held and a unit is open.
func (r *Loading) loadBegins(j *job) {
	t := j.table
	if t.State.Schema == nil {
		r.Host.Adopt(t, j.layout, j.listed.Filled)
	}
	t.Load.Progress.After = nil
	t.Listed = j.listed
	r.States.LoadBegan(t, r.Host.At(), "", j.listed.Rows)
}

// longUnsure is after how many snapshots of which nothing is known it is said that the load
// waits.
const longUnsure = 20

// noteWait says what a load waits for that does not know what its snapshots see; the lock is
// held.
func (l *loader) noteWait(j *job, known bool) {
	if known {
		j.load.Unsure = 0
		return
	}
	if j.load.Unsure++; j.load.Unsure == longUnsure {
		l.in.Sink.Report(engine.Report{Level: "warn", Event: "load-waits", Message: j.table.State.Table + ": its load waits for the server's next commit, which shows what a snapshot sees. A lock of an instant would show it, too; " +
			"the login needs LOCK TABLES for it, and a distributed transaction that is prepared (XA RECOVER lists them) holds it up"})
	}
}

// deliver puts a chunk into the journal. The lock is held, a unit is open.
func (l *loader) deliver(j *job, s *loads.Snapshot, c *chunk) error {
	r, t := l.in, j.table
	if !j.current() || !t.Load.Progress.Began {
		return errAgain
	}
	low, known := r.Past.Low(s, j.load.Sound)
	l.noteWait(j, known)
	if !known || low.Before(j.load.Floor) {
		return errAgain // what lies before it was not kept: the next snapshot is later
	}
	changes, ddl := j.load.Between(low)
	if ddl {
		return errAgain
	}
	r.Host.Adopt(t, c.layout, c.listed.Filled)
	if !j.current() {
		return errAgain // the new version has changed rows that were read before
	}
	t.Listed = c.listed
	for _, row := range loads.LayOver(c.rows, c.layout.Schema, changes) {
		r.addExisting(t, c, row)
	}
	j.load.Sound = low
	j.load.Prune(low)
	p := &t.Load.Progress
	p.After = c.after
	j.load.Limit = l.limitAfter(j, c)
	if c.end {
		r.loadEnds(t)
	}
	r.Sink.Table(t.Record())
	return nil
}

// addExisting puts a row of a load into the journal; the lock is held, a unit is open.
func (r *Loading) addExisting(t *loads.Table, c *chunk, row []change.Value) {
	var large map[string]int64
	if len(c.large) > 0 && len(row) > 0 {
		large = c.large[&row[0]]
		t.Load.Refused += len(large)
	}
	r.Host.Existing(t, c.layout, row, large)
	t.State.RowsDone++
}

// loadEnds ends a load of which everything is in the journal; the lock is held, a unit is
// open.
func (r *Loading) loadEnds(t *loads.Table) {
	r.States.LoadEnded(t, r.Host.At(), t.Load.Refused)
	t.KeyNote()
}
