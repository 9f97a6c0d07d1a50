// Package loading loads tables beside the stream: it hands the work out to sessions, by
// priority, and puts what they read between two marks into the journal.
//
//   - loading.go hands out and delivers, loader.go is one session.
//   - fullload.go reads tables without a key, together.go many small ones at once.
//   - reloading.go is what is to be read again.
package loading

import (
	"context"
	"encoding/json"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// Loading hands the loads of a run out to the sessions that read, and puts what they
// read into the journal. The sink's lock guards it.
type Loading struct {
	*states.Keeper
	config *session.Config
	sink   engine.Sink
	tables map[string]*tables.Table
	host   host
}

// host is the run that the loads belong to.
type host interface {
	// Place has seen called at a mark of ours in the stream, under the lock and with a
	// unit open.
	Place(ctx context.Context, conn *pgx.Conn, seen func() error) error
	// MarkSession is a session that may write marks.
	MarkSession(ctx context.Context, purpose string) (*pgx.Conn, error)
	// Adopt puts a table's layout on record at a place.
	Adopt(t *tables.Table, l *catalogue.Layout, place session.LSN)
	// Existing adds a row that was read, of which values of these sizes by column were
	// too large and left out.
	// The row is for one outlet alone where only is not 0.
	Existing(l *catalogue.Layout, place session.LSN, row []change.Value, sizes map[string]int64, only int64)
	// LastRow is the newest place in the stream.
	LastRow() session.LSN
	// Hosts notes partitions whose rows are read for a table, and reports whether any was not
	// on record.
	Hosts(t *tables.Table, leaves map[uint32]string) bool
	// Touching are the transactions on a table that a query may not see yet.
	Touching(number uint32) []uint32
}

func NewLoading(c *session.Config, sink engine.Sink, tables map[string]*tables.Table, h host) *Loading {
	all := func(yield func(states.Table) bool) {
		for _, t := range tables {
			if !yield(t) {
				return
			}
		}
	}
	return &Loading{Keeper: &states.Keeper{Sink: sink, Loads: c.Load, LoadOnly: c.LoadOnly, All: all}, config: c, sink: sink, tables: tables, host: h}
}

// under runs f under the sink's lock.
func (r *Loading) under(f func()) {
	r.sink.Locked(func() error { //nolint:errcheck // f has none
		f()
		return nil
	})
}

// job is the next thing to do for a load.
type job struct {
	table    *tables.Table
	load     *loads.TableLoad
	captured *publication.Captured
	turn     int
	at       loads.Progress // as it was when the job was handed out
	do       func(*loader, context.Context, *job) error
	alone    bool
	piece    chunk.Piece
	keys     [][]string
	// window is open already where the mark at which the last piece was delivered
	// is this one's first; before are the transactions on the table until then.
	window *loads.Window
	before []uint32
}

// KeepLoading runs the sessions that load what is to be loaded.
func (r *Loading) KeepLoading(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.config.LoadSessions {
		group.Go(func() error {
			l := &loader{in: r, Reader: chunk.Reader{Config: r.config, Report: r.sink.Report}}
			return states.Work(ctx, r.Keeper, l, n == 0)
		})
	}
	return group.Wait()
}

// Next implements [states.Session].
func (l *loader) Next() (*job, bool) {
	j := l.ahead
	if l.ahead = nil; j == nil {
		j = l.in.nextJob()
	}
	return j, j != nil
}

// Do implements [states.Session].
func (l *loader) Do(ctx context.Context, j *job) error {
	err := l.connect(ctx)
	if err == nil {
		l.turnTo(j)
		err = j.do(l, ctx, j)
	}
	l.why = l.skippable(err)
	return err
}

// Done implements [states.Session].
func (l *loader) Done(j *job, err error) (soon bool, _ error) {
	if j.alone {
		j.load.Alone = false
	}
	switch {
	case err != nil && l.why == "":
		return false, err
	case l.why != "" && j.table.Load == j.load:
		l.in.LoadFailed(j.table, &j.at.Task, l.why)
	}
	l.in.Wake()
	return false, nil
}

// nextJob hands out what is to be done next; the lock is held.
func (r *Loading) nextJob() *job {
	var refused map[*tables.Table]bool // those that have nothing to hand out now
	for {
		best, found := states.First(maps.Values(r.tables), func(t *tables.Table) bool { return t.Load.Ready && !t.Load.Alone && !refused[t] })
		if !found {
			return nil
		}
		if j := nextJob(best.Load, r.config); j != nil {
			j.table, j.load, j.captured, j.turn, j.at = best, best.Load, best.Captured, best.Load.Turn, best.Load.Progress
			best.Load.Alone = best.Load.Alone || j.alone
			return j
		}
		if refused == nil {
			refused = make(map[*tables.Table]bool)
		}
		refused[best] = true
	}
}

func nextJob(load *loads.TableLoad, c *session.Config) *job {
	p := &load.Progress
	switch {
	case load.Alone:
		return nil
	case !p.Began:
		return &job{alone: true, do: (*loader).begin}
	case p.By == loads.ByRange && !p.Sized:
		return &job{alone: true, do: (*loader).measure}
	case len(p.Keys) >= loads.RefetchBatch || p.Read && len(p.Pieces) == 0 && len(p.Keys) > 0:
		return &job{alone: true, do: (*loader).again, keys: slices.Clone(p.Keys[:min(len(p.Keys), loads.RefetchBatch)])}
	case p.By == loads.ByKey && !p.Read:
		return &job{alone: true, do: (*loader).nextByKey}
	case p.By == loads.ByRange:
		for _, one := range p.Pieces {
			if !slices.Contains(load.Out, one) {
				load.Out = append(load.Out, one)
				return &job{do: (*loader).byPlace, piece: one}
			}
		}
		if p.Next < p.Pages {
			next := min(p.Next+max(int64(c.ChunkBytes)/chunk.PageBytes, 1), p.Pages)
			one := chunk.Piece{From: chunk.Place{Page: p.Next}, To: chunk.Place{Page: next}}
			p.Next, p.Read = next, next == p.Pages
			p.Pieces = append(p.Pieces, one)
			load.Out = append(load.Out, one)
			return &job{do: (*loader).byPlace, piece: one}
		}
	}
	return nil
}

// smallPages is up to where a table's rows are one piece.
const smallPages = 16

// walk decides how a load goes through the table, of so many pages.
func (j *job) walk(key []int, pages int64) string {
	one := j.captured.Members[0]
	switch {
	case len(key) == 0:
		return loads.InFull
	case j.captured.Mapped && len(one.Key) == 0:
		return loads.InFull
	case j.captured.Mapped, j.at.Where != "" && len(one.Key) > 0, j.captured.Rule.ByKey && len(one.Key) > 0:
		return loads.ByKey
	case j.at.Restarts > 1 && len(one.Key) > 0:
		return loads.ByKey // by range it could not be done
	case pages <= smallPages && len(one.Key) > 0 && !j.captured.Mapped:
		return loads.ByKey // in one piece, without measuring it first
	}
	return loads.ByRange
}

// current reports whether the load that a job belongs to still is the table's;
// the lock is held.
func (j *job) current() bool { return j.table.Load == j.load && j.load.Turn == j.turn }

// begin puts the void event and the load's beginning on record.
func (l *loader) begin(ctx context.Context, j *job) error {
	if done, err := l.together(ctx, j); done || err != nil {
		return err
	}
	l.turnTo(j)
	r := l.in
	now, err := l.Layout(ctx)
	if err != nil {
		return err
	}
	by := j.walk(now.Schema.Key(), l.Pages)
	// A table that cannot be read, or a condition that cannot be used, shows here
	// and not after earlier rows have been declared void.
	if _, err := l.Conn.Exec(ctx, "SELECT FROM "+l.Target.From()+j.condition()+" LIMIT 0"); err != nil {
		return err
	}
	estimate := int64(0)
	if l.Pages > 0 || j.captured.Mapped {
		estimate = l.estimate(ctx, j)
	}
	if by == loads.InFull {
		return l.full(ctx, j, estimate)
	}
	return r.host.Place(ctx, l.Conn, func() error {
		if j.current() {
			r.loadBegins(j, now, by, estimate)
			l.lookAhead(j)
		}
		return nil
	})
}

// loadBegins is the beginning at its mark; the lock is held and a unit is open.
func (r *Loading) loadBegins(j *job, now *catalogue.Layout, by string, estimate int64) {
	t := j.table
	place := r.host.LastRow()
	if t.State.Schema == nil {
		r.host.Adopt(t, now, place)
	}
	t.Load.Progress.By, t.Load.Progress.From = by, place
	r.LoadBegan(t, uint64(place), howItWalks[by], estimate)
}

var howItWalks = map[string]string{loads.ByRange: "by range", loads.ByKey: "by key", loads.InFull: "in one snapshot, since it has no key"}

// estimate asks the server's planner how many rows there are to read; zero where
// it will not say.
func (l *loader) estimate(ctx context.Context, j *job) int64 {
	var plan []byte
	var plans []struct {
		Plan struct {
			Rows int64 `json:"Plan Rows"`
		}
	}
	err := l.Conn.QueryRow(ctx, "EXPLAIN (FORMAT JSON) SELECT FROM "+l.Target.From()+j.condition()).Scan(&plan)
	if err != nil || json.Unmarshal(plan, &plans) != nil || len(plans) == 0 {
		return 0
	}
	return plans[0].Plan.Rows
}

func (j *job) condition() string {
	if j.at.Where == "" {
		return ""
	}
	return " WHERE (" + j.at.Where + ")"
}

// measure counts the table's pages. It comes after the void event: what is
// written to later pages afterwards is in the stream.
func (l *loader) measure(ctx context.Context, j *job) error {
	var file uint32
	var pages int64
	err := l.Conn.QueryRow(ctx, "SELECT pg_relation_filenode($1::text::regclass), pg_relation_size($1::text::regclass) / current_setting('block_size')::bigint", l.Target.Relation()).Scan(&file, &pages)
	if err != nil {
		return err
	}
	r, t := l.in, j.table
	return r.host.Place(ctx, l.Conn, func() error {
		if !j.current() {
			return nil
		}
		p := &t.Load.Progress
		p.Sized, p.File, p.Pages, p.Read = true, file, pages, pages == 0
		r.finishIfComplete(j)
		r.sink.Table(t.Record())
		return nil
	})
}

// nextByKey reads what follows in the order of the key.
func (l *loader) nextByKey(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunk.Rows) error { return l.ReadByKey(ctx, into, j.at.After, nil) }, keyTaken)
}

// again reads rows by their keys.
func (l *loader) again(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunk.Rows) error {
		n, err := l.ReadAgain(ctx, into, j.keys)
		j.keys = j.keys[:n]
		return err
	}, func(_ *loads.Progress, read *chunk.Rows) {
		j.load.HaveRead(j.keys, read.Layout.Schema, read.Rows)
	})
}

// byPlace reads the rows of a piece.
func (l *loader) byPlace(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunk.Rows) error { return l.ReadRange(ctx, into, j.piece) }, func(p *loads.Progress, read *chunk.Rows) {
		p.Pieces = slices.DeleteFunc(p.Pieces, func(one chunk.Piece) bool { return one == j.piece })
		if !read.End {
			p.Pieces = append(p.Pieces, chunk.Piece{From: read.LastPlace, To: j.piece.To})
		}
	})
}

// take reads a piece between two marks and puts it into the journal at the second.
func (l *loader) take(ctx context.Context, j *job, read func(*chunk.Rows) error, taken func(*loads.Progress, *chunk.Rows)) error {
	r := l.in
	if j.window == nil {
		err := r.host.Place(ctx, l.Conn, func() error {
			r.openWindow(j)
			return nil
		})
		if err != nil || j.window == nil {
			return err
		}
	}
	w := j.window
	defer r.under(func() { j.load.Close(w) })
	rows, err := l.Read(ctx, j.before, read)
	if err != nil {
		return err
	}
	return r.host.Place(ctx, l.Conn, func() error {
		if j.current() {
			r.deliver(j, w, rows, taken)
		}
		j.load.Close(w)
		l.lookAhead(j)
		return nil
	})
}

// openWindow begins a piece at a mark; the lock is held.
func (r *Loading) openWindow(j *job) {
	if j.current() {
		j.window, j.before = j.load.Open(), r.host.Touching(j.table.Number)
		if j.keys != nil {
			j.load.Asked = make(map[string][]string)
		}
	}
}

// lookAhead takes the next job where the mark that ended the last one can be its
// first: half of the marks are saved, and each costs the source a commit. The
// lock is held.
func (l *loader) lookAhead(j *job) {
	if j.alone {
		j.load.Alone, j.alone = false, false
	}
	j.load.Out = slices.DeleteFunc(j.load.Out, func(one chunk.Piece) bool { return one == j.piece })
	next := l.in.nextJob()
	if next == nil {
		return
	}
	l.ahead = next
	if p := next.at; p.Began && (p.By == loads.ByKey || p.Sized) {
		l.in.openWindow(next)
	}
}

// deliver puts a piece into the journal at its second mark. The lock is held, a
// unit is open.
func (r *Loading) deliver(j *job, w *loads.Window, read *chunk.Rows, taken func(*loads.Progress, *chunk.Rows)) {
	t := j.table
	if w.Voided || !t.Load.Progress.Began {
		return // read again
	}
	if r.host.Hosts(t, read.Leaves) {
		return // it is read again: one that is dropped meanwhile has to be known, or its rows stay
	}
	if read.File != 0 && read.File != t.Load.Progress.File && t.Load.Progress.By == loads.ByRange {
		r.sink.Report(engine.Report{Level: "info", Event: "load-again", Message: t.State.Table + ": its rows have been moved on disk (VACUUM FULL, CLUSTER, ALTER TABLE or TRUNCATE): the load begins anew"})
		t.Load.Restart()
		r.sink.Table(t.Record())
		return
	}
	for _, other := range w.Layouts {
		if other.Schema.Fingerprint() != read.Layout.Schema.Fingerprint() || catalogue.Known(other.Columns()) && !catalogue.SameSet(other.Columns(), read.Layout.Columns()) {
			return
		}
	}
	place := r.host.LastRow()
	r.host.Adopt(t, read.Layout, place)
	if !j.current() {
		return // the new version has changed rows that were read before
	}
	read.Rows = loads.LayOver(read, w.Overlay)
	for _, row := range read.Rows {
		r.addExisting(t, read, row, place)
	}
	taken(&t.Load.Progress, read)
	r.finishIfComplete(j)
	r.sink.Table(t.Record())
}

// addExisting puts a row of a load into the journal; the lock is held, a unit is
// open.
func (r *Loading) addExisting(t *tables.Table, read *chunk.Rows, row []change.Value, place session.LSN) {
	only := t.Load.Progress.For.ID
	var sizes map[string]int64
	if len(read.TooLarge) > 0 && len(row) > 0 {
		sizes = read.TooLarge[&row[0]]
		t.Load.Refused += len(sizes)
	}
	r.host.Existing(read.Layout, place, row, sizes, only)
	if t.Load.Progress.Kind != load.Refetch {
		t.State.RowsDone++
	}
}

// finishIfComplete ends the load of a table of which everything is in the
// journal; the lock is held, a unit is open.
func (r *Loading) finishIfComplete(j *job) {
	t := j.table
	if t.Load.Progress.Complete() {
		r.LoadEnded(t, uint64(r.host.LastRow()), t.Load.Refused)
	}
}
