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
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/load"
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
	config *session.Config
	sink   engine.Sink
	tables map[string]*tables.Table
	host   host

	toldLoads time.Time     // when the status page learnt what is being loaded
	MoreLoads chan struct{} // closed and made anew when there is more to load
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
	// Touching are the transactions on a table that a query may not see yet.
	Touching(number uint32) []uint32
}

func NewLoading(c *session.Config, sink engine.Sink, tables map[string]*tables.Table, h host) *Loading {
	return &Loading{config: c, sink: sink, tables: tables, host: h, MoreLoads: make(chan struct{})}
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
			defer l.hangUp(ctx)
			return l.work(ctx, n == 0)
		})
	}
	return group.Wait()
}

// work does one job after the other. The first session also sees to the end of a
// run that only loads.
func (l *loader) work(ctx context.Context, first bool) error {
	r := l.in
	for {
		var j *job
		var more chan struct{}
		err := r.sink.Locked(func() error {
			if j, l.ahead = l.ahead, nil; j == nil {
				j = r.nextJob()
			}
			more = r.MoreLoads
			if j != nil || !first || !r.config.LoadOnly || !r.AllLoaded() {
				return nil
			}
			if err := r.sink.StoreWhole(ctx); err != nil {
				return err
			}
			return engine.ErrComplete
		})
		if err != nil {
			return err
		}
		if j == nil {
			r.under(func() {
				r.tellLoads(true)
			})
			l.hangUp(ctx)
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-more:
			}
			continue
		}
		if err = l.connect(ctx); err == nil {
			l.turnTo(j)
			err = j.do(l, ctx, j)
		}
		why := l.skippable(err)
		err = r.sink.Locked(func() error {
			if j.alone {
				j.load.Alone = false
			}
			if err != nil && why == "" {
				return err
			}
			if why != "" {
				r.giveUp(j, why)
			}
			r.WakeLoaders()
			return nil
		})
		if err != nil {
			return err
		}
	}
}

// nextJob hands out what is to be done next; the lock is held.
func (r *Loading) nextJob() *job {
	var refused map[*tables.Table]bool // those that have nothing to hand out now
	for {
		var best *tables.Table
		for _, t := range r.tables {
			if t.Load == nil || !t.Load.Ready || t.Captured == nil || t.Load.Alone || refused[t] {
				continue
			}
			if best == nil || t.Rule().Priority > best.Rule().Priority || t.Rule().Priority == best.Rule().Priority && t.State.Table < best.State.Table {
				best = t
			}
		}
		if best == nil {
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

func (r *Loading) AllLoaded() bool {
	for _, t := range r.tables {
		if t.Load != nil || t.State.State == engine.StateNew {
			return false
		}
	}
	return true
}

// giveUp ends a load that cannot go on while others can; the lock is held.
func (r *Loading) giveUp(j *job, why string) {
	t := j.table
	if t.Load != j.load {
		return
	}
	t.Load = nil
	t.State.State, t.State.Note = engine.StateNotLoaded, why
	if j.at.Kind == load.Refetch {
		t.State.State = engine.StateStale
	} else if j.at.Apart() {
		t.State.State, t.State.Note = j.at.Then, j.at.ThenNote
	}
	r.sink.Table(t.ProgressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "error", Event: "load-failed", Message: t.State.Table + ": " + why})
	r.tellLoads(false)
}

// tellLoadsEvery is how often the status page learns what is being loaded, where there
// are many tables.
const tellLoadsEvery = 200 * time.Millisecond

// tellLoads puts what is being loaded on the status page, now or soon; the lock is held.
func (r *Loading) tellLoads(now bool) {
	if !now && len(r.tables) > 100 && time.Since(r.toldLoads) < tellLoadsEvery {
		return // the session that finds nothing left to load reports
	}
	r.toldLoads = time.Now()
	var names []string
	for _, t := range r.tables {
		if t.Load != nil && t.Load.Progress.Began && t.Load.Progress.Kind != load.Refetch {
			names = append(names, t.State.Table)
		}
	}
	sort.Strings(names)
	doing := "following"
	switch {
	case len(names) > 3:
		doing = fmt.Sprintf("following, and loading %d tables", len(names))
	case len(names) > 0:
		doing = "following, and loading " + strings.Join(names, ", ")
	}
	r.sink.Report(engine.Report{Doing: doing})
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
	p := &t.Load.Progress
	if p.Kind == load.Full {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.State.Table, Schema: t.State.Schema, Place: uint64(place), For: p.For.ID})
	}
	p.Began, p.By, p.From = true, by, place
	t.State.State, t.State.Note, t.State.RowsDone = engine.StateLoading, p.What(), 0
	t.State.RowsEstimate = estimate
	r.sink.Table(t.ProgressState())
	r.sink.Report(engine.Report{Level: "info", Event: "load-began", Message: fmt.Sprintf("loading %s %s, about %d rows", t.State.Table, strings.TrimSpace(howItWalks[by]+" "+p.What()), t.State.RowsEstimate)})
	r.tellLoads(false)
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
		r.sink.Table(t.ProgressState())
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
	if read.File != 0 && read.File != t.Load.Progress.File && t.Load.Progress.By == loads.ByRange {
		r.sink.Report(engine.Report{Level: "info", Event: "load-again", Message: t.State.Table + ": its rows have been moved on disk (VACUUM FULL, CLUSTER, ALTER TABLE or TRUNCATE): the load begins anew"})
		t.Load.Restart()
		r.sink.Table(t.ProgressState())
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
	r.sink.Table(t.ProgressState())
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
	p := &t.Load.Progress
	if !p.Complete() {
		return
	}
	if p.Kind == load.Refetch {
		t.Load = nil
		return
	}
	place := r.host.LastRow()
	t.State.State, t.State.Note = engine.StateFollowing, ""
	if p.Kind == load.Full {
		t.State.RowsEstimate = t.State.RowsDone
	}
	event := change.Row{Operation: change.Loaded, Table: t.State.Table, Schema: t.State.Schema, Place: uint64(place), For: p.For.ID}
	if p.Kind != load.Full {
		event.Body, _ = json.Marshal(map[string]string{"part": p.What()}) // it is text
	}
	r.sink.Add(&event)
	if p.Apart() {
		t.State.State, t.State.Note = p.Then, p.ThenNote
	}
	if t.Load.Refused > 0 && t.State.State == engine.StateFollowing {
		t.State.State, t.State.Note = engine.StateStale, fmt.Sprintf("%d values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table", t.Load.Refused)
	}
	t.Load = nil
	r.sink.Report(engine.Report{Level: "info", Event: "load-done", Message: fmt.Sprintf("%s: %d rows loaded", t.State.Table, t.State.RowsDone)})
	r.tellLoads(false)
	r.WakeLoaders()
}
