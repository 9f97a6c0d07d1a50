package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
)

// job is the next thing to do for a load.
type job struct {
	table    *table
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

// keepLoading runs the sessions that load what is to be loaded.
func (r *run) keepLoading(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.config.LoadSessions {
		group.Go(func() error {
			l := &loader{run: r, Reader: chunk.Reader{Config: r.config, Report: r.sink.Report}}
			defer l.hangUp(ctx)
			return l.work(ctx, n == 0)
		})
	}
	return group.Wait()
}

// work does one job after the other. The first session also sees to the end of a
// run that only loads.
func (l *loader) work(ctx context.Context, first bool) error {
	r := l.run
	for {
		var j *job
		var more chan struct{}
		err := r.sink.Locked(func() error {
			if j, l.ahead = l.ahead, nil; j == nil {
				j = r.nextJob()
			}
			more = r.moreLoads
			if j != nil || !first || !r.config.LoadOnly || !r.allLoaded() {
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
			r.wakeLoaders()
			return nil
		})
		if err != nil {
			return err
		}
	}
}

// nextJob hands out what is to be done next; the lock is held.
func (r *run) nextJob() *job {
	var refused map[*table]bool // those that have nothing to hand out now
	for {
		var best *table
		for _, t := range r.tables {
			if t.load == nil || !t.load.Ready || t.captured == nil || t.load.Alone || refused[t] {
				continue
			}
			if best == nil || t.rule().Priority > best.rule().Priority || t.rule().Priority == best.rule().Priority && t.state.Table < best.state.Table {
				best = t
			}
		}
		if best == nil {
			return nil
		}
		if j := nextJob(best.load, r.config); j != nil {
			j.table, j.load, j.captured, j.turn, j.at = best, best.load, best.captured, best.load.Turn, best.load.Progress
			best.load.Alone = best.load.Alone || j.alone
			return j
		}
		if refused == nil {
			refused = make(map[*table]bool)
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

func (r *run) allLoaded() bool {
	for _, t := range r.tables {
		if t.load != nil || t.state.State == engine.StateNew {
			return false
		}
	}
	return true
}

// giveUp ends a load that cannot go on while others can; the lock is held.
func (r *run) giveUp(j *job, why string) {
	t := j.table
	if t.load != j.load {
		return
	}
	t.load = nil
	t.state.State, t.state.Note = engine.StateNotLoaded, why
	if j.at.Kind == load.Refetch {
		t.state.State = engine.StateStale
	} else if j.at.Kind != load.Full {
		t.state.State, t.state.Note = j.at.Then, j.at.ThenNote
	}
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "error", Event: "load-failed", Message: t.state.Table + ": " + why})
	r.tellLoads(false)
}

// tellLoadsEvery is how often the status page learns what is being loaded, where there
// are many tables.
const tellLoadsEvery = 200 * time.Millisecond

// tellLoads puts what is being loaded on the status page, now or soon; the lock is held.
func (r *run) tellLoads(now bool) {
	if !now && len(r.tables) > 100 && time.Since(r.toldLoads) < tellLoadsEvery {
		return // the session that finds nothing left to load reports
	}
	r.toldLoads = time.Now()
	var names []string
	for _, t := range r.tables {
		if t.load != nil && t.load.Progress.Began && t.load.Progress.Kind != load.Refetch {
			names = append(names, t.state.Table)
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
func (j *job) current() bool { return j.table.load == j.load && j.load.Turn == j.turn }

// begin puts the void event and the load's beginning on record.
func (l *loader) begin(ctx context.Context, j *job) error {
	if done, err := l.together(ctx, j); done || err != nil {
		return err
	}
	l.turnTo(j)
	r := l.run
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
	return r.place(ctx, l.Conn, func() error {
		if j.current() {
			r.loadBegins(j, now, by, estimate)
			l.lookAhead(j)
		}
		return nil
	})
}

// loadBegins is the beginning at its mark; the lock is held and a unit is open.
func (r *run) loadBegins(j *job, now *catalogue.Layout, by string, estimate int64) {
	t := j.table
	place := r.lastRow
	if t.state.Schema == nil {
		r.adopt(t, now, place)
	}
	p := &t.load.Progress
	if p.Kind == load.Full {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place)})
	}
	p.Began, p.By, p.From = true, by, place
	t.state.State, t.state.Note, t.state.RowsDone = engine.StateLoading, p.What(), 0
	t.state.RowsEstimate = estimate
	r.sink.Table(t.progressState())
	r.sink.Report(engine.Report{Level: "info", Event: "load-began", Message: fmt.Sprintf("loading %s %s, about %d rows", t.state.Table, strings.TrimSpace(howItWalks[by]+" "+p.What()), t.state.RowsEstimate)})
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
	r, t := l.run, j.table
	return r.place(ctx, l.Conn, func() error {
		if !j.current() {
			return nil
		}
		p := &t.load.Progress
		p.Sized, p.File, p.Pages, p.Read = true, file, pages, pages == 0
		r.finishIfComplete(j)
		r.sink.Table(t.progressState())
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
	r := l.run
	if j.window == nil {
		err := r.place(ctx, l.Conn, func() error {
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
	return r.place(ctx, l.Conn, func() error {
		if j.current() {
			r.deliver(j, w, rows, taken)
		}
		j.load.Close(w)
		l.lookAhead(j)
		return nil
	})
}

// openWindow begins a piece at a mark; the lock is held.
func (r *run) openWindow(j *job) {
	if j.current() {
		j.window, j.before = j.load.Open(), r.notYetVisible.Of(j.table.number)
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
	next := l.run.nextJob()
	if next == nil {
		return
	}
	l.ahead = next
	if p := next.at; p.Began && (p.By == loads.ByKey || p.Sized) {
		l.run.openWindow(next)
	}
}

// deliver puts a piece into the journal at its second mark. The lock is held, a
// unit is open.
func (r *run) deliver(j *job, w *loads.Window, read *chunk.Rows, taken func(*loads.Progress, *chunk.Rows)) {
	t := j.table
	if w.Voided || !t.load.Progress.Began {
		return // read again
	}
	if read.File != 0 && read.File != t.load.Progress.File && t.load.Progress.By == loads.ByRange {
		r.sink.Report(engine.Report{Level: "info", Event: "load-again", Message: t.state.Table + ": its rows have been moved on disk (VACUUM FULL, CLUSTER, ALTER TABLE or TRUNCATE): the load begins anew"})
		t.load.Restart()
		r.sink.Table(t.progressState())
		return
	}
	for _, other := range w.Layouts {
		if other.Schema.Fingerprint() != read.Layout.Schema.Fingerprint() || catalogue.Known(other.Columns()) && !catalogue.SameSet(other.Columns(), read.Layout.Columns()) {
			return
		}
	}
	place := r.lastRow
	r.adopt(t, read.Layout, place)
	if !j.current() {
		return // the new version has changed rows that were read before
	}
	read.Rows = loads.LayOver(read, w.Overlay)
	for _, row := range read.Rows {
		r.addExisting(t, read, row, place)
	}
	taken(&t.load.Progress, read)
	r.finishIfComplete(j)
	r.sink.Table(t.progressState())
}

// addExisting puts a row of a load into the journal; the lock is held, a unit is
// open.
func (r *run) addExisting(t *table, read *chunk.Rows, row []change.Value, place session.LSN) {
	event := change.Row{Operation: change.Existing, Table: t.state.Table, Schema: read.Layout.Schema, Place: uint64(place), After: row}
	if len(read.TooLarge) > 0 && len(row) > 0 && read.TooLarge[&row[0]] != nil {
		sizes := read.TooLarge[&row[0]]
		r.refuse(t, read.Layout, &event, sizes)
		t.load.Refused += len(sizes)
	}
	r.sink.Add(&event)
	if t.load.Progress.Kind != load.Refetch {
		t.state.RowsDone++
	}
}

// finishIfComplete ends the load of a table of which everything is in the
// journal; the lock is held, a unit is open.
func (r *run) finishIfComplete(j *job) {
	t := j.table
	p := &t.load.Progress
	if !p.Complete() {
		return
	}
	if p.Kind == load.Refetch {
		t.load = nil
		return
	}
	place := r.lastRow
	t.state.State, t.state.Note = engine.StateFollowing, ""
	if p.Kind == load.Full {
		t.state.RowsEstimate = t.state.RowsDone
	}
	if p.Kind != load.Full {
		body, _ := json.Marshal(map[string]string{"part": p.What()})
		r.sink.Add(&change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place), Body: body})
		t.state.State, t.state.Note = p.Then, p.ThenNote
	} else {
		if t.load.Refused > 0 {
			t.state.State, t.state.Note = engine.StateStale, fmt.Sprintf("%d values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table", t.load.Refused)
		}
		r.sink.Add(&change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place)})
	}
	t.load = nil
	r.sink.Report(engine.Report{Level: "info", Event: "load-done", Message: fmt.Sprintf("%s: %d rows loaded", t.state.Table, t.state.RowsDone)})
	r.tellLoads(false)
	r.wakeLoaders()
}
