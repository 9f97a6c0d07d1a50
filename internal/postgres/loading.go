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
)

// job is the next thing to do for a load.
type job struct {
	table    *table
	load     *tableLoad
	captured *captured
	turn     int
	at       progress // as it was when the job was handed out
	do       func(*loader, context.Context, *job) error
	alone    bool
	piece    piece
	keys     [][]string
	// window is open already where the mark at which the last piece was delivered
	// is this one's first; before are the transactions on the table until then.
	window *window
	before []uint32
}

// keepLoading runs the sessions that load what is to be loaded.
func (r *run) keepLoading(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.config.LoadSessions {
		group.Go(func() error {
			l := &loader{run: r}
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
			l.job = j
			err = j.do(l, ctx, j)
		}
		why := l.skippable(err)
		err = r.sink.Locked(func() error {
			if j.alone {
				j.load.alone = false
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
			if t.load == nil || !t.load.ready || t.captured == nil || t.load.alone || refused[t] {
				continue
			}
			if best == nil || t.rule().Priority > best.rule().Priority || t.rule().Priority == best.rule().Priority && t.state.Table < best.state.Table {
				best = t
			}
		}
		if best == nil {
			return nil
		}
		if j := best.load.nextJob(r.config); j != nil {
			j.table, j.load, j.captured, j.turn, j.at = best, best.load, best.captured, best.load.turn, best.load.progress
			best.load.alone = best.load.alone || j.alone
			return j
		}
		if refused == nil {
			refused = make(map[*table]bool)
		}
		refused[best] = true
	}
}

func (load *tableLoad) nextJob(c *Config) *job {
	p := &load.progress
	switch {
	case load.alone:
		return nil
	case !p.Began:
		return &job{alone: true, do: (*loader).begin}
	case p.By == byRange && !p.Sized:
		return &job{alone: true, do: (*loader).measure}
	case len(p.Keys) >= refetchBatch || p.Read && len(p.Pieces) == 0 && len(p.Keys) > 0:
		return &job{alone: true, do: (*loader).again, keys: slices.Clone(p.Keys[:min(len(p.Keys), refetchBatch)])}
	case p.By == byKey && !p.Read:
		return &job{alone: true, do: (*loader).nextByKey}
	case p.By == byRange:
		for _, one := range p.Pieces {
			if !slices.Contains(load.out, one) {
				load.out = append(load.out, one)
				return &job{do: (*loader).byPlace, piece: one}
			}
		}
		if p.Next < p.Pages {
			next := min(p.Next+max(int64(c.ChunkBytes)/pageBytes, 1), p.Pages)
			one := piece{From: place{Page: p.Next}, To: place{Page: next}}
			p.Next, p.Read = next, next == p.Pages
			p.Pieces = append(p.Pieces, one)
			load.out = append(load.out, one)
			return &job{do: (*loader).byPlace, piece: one}
		}
	}
	return nil
}

// pageBytes is the usual size of a page (BLCKSZ); another one makes pieces
// larger or smaller, nothing else.
const pageBytes = 8192

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
		return // whoever finds nothing left to load tells
	}
	r.toldLoads = time.Now()
	var names []string
	for _, t := range r.tables {
		if t.load != nil && t.load.progress.Began && t.load.progress.Kind != load.Refetch {
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

// compressible is how much smaller a value may be on disk.
const compressible = 128

// walk decides how a load goes through the table, of so many pages.
func (j *job) walk(key []int, pages int64) string {
	one := j.captured.members[0]
	switch {
	case len(key) == 0:
		return inFull
	case j.captured.mapped && len(one.key) == 0:
		return inFull
	case j.captured.mapped, j.at.Where != "" && len(one.key) > 0, j.captured.rule.ByKey && len(one.key) > 0:
		return byKey
	case j.at.Restarts > 1 && len(one.key) > 0:
		return byKey // by range it could not be done
	case pages <= smallPages && len(one.key) > 0 && !j.captured.mapped:
		return byKey // in one piece, without measuring it first
	}
	return byRange
}

// current reports whether the load that a job belongs to still is the table's;
// the lock is held.
func (j *job) current() bool { return j.table.load == j.load && j.load.turn == j.turn }

// begin puts the void event and the load's beginning on record.
func (l *loader) begin(ctx context.Context, j *job) error {
	if done, err := l.together(ctx, j); done || err != nil {
		return err
	}
	l.job = j
	r := l.run
	now, err := l.layout(ctx)
	if err != nil {
		return err
	}
	by := j.walk(now.schema.Key(), l.pages)
	// A table that cannot be read, or a condition that cannot be used, shows here
	// and not after earlier rows have been declared void.
	if _, err := l.conn.Exec(ctx, "SELECT FROM "+j.from()+j.condition()+" LIMIT 0"); err != nil {
		return err
	}
	estimate := int64(0)
	if l.pages > 0 || j.captured.mapped {
		estimate = l.estimate(ctx, j)
	}
	if by == inFull {
		return l.full(ctx, j, estimate)
	}
	return r.place(ctx, l.conn, func() error {
		if j.current() {
			r.loadBegins(j, now, by, estimate)
			l.lookAhead(j)
		}
		return nil
	})
}

// loadBegins is the beginning at its mark; the lock is held and a unit is open.
func (r *run) loadBegins(j *job, now *layout, by string, estimate int64) {
	t := j.table
	place := r.lastRow
	if t.state.Schema == nil {
		r.adopt(t, now, place)
	}
	p := &t.load.progress
	if p.Kind == load.Full {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place)})
	}
	p.Began, p.By, p.From = true, by, place
	t.state.State, t.state.Note, t.state.RowsDone = engine.StateLoading, p.what(), 0
	t.state.RowsEstimate = estimate
	r.sink.Table(t.progressState())
	r.sink.Report(engine.Report{Level: "info", Event: "load-began", Message: fmt.Sprintf("loading %s %s, about %d rows", t.state.Table, strings.TrimSpace(howItWalks[by]+" "+p.what()), t.state.RowsEstimate)})
	r.tellLoads(false)
}

var howItWalks = map[string]string{byRange: "by range", byKey: "by key", inFull: "in one snapshot, since it has no key"}

// what says which part of a table a load reads; empty for all of it.
func (p *progress) what() string {
	switch {
	case p.Where != "":
		return "where " + p.Where
	case len(p.Leaves) > 0:
		return "from " + strings.Join(p.Leaves, ", ")
	}
	return ""
}

// estimate asks the server's planner how many rows there are to read; zero where
// it will not say.
func (l *loader) estimate(ctx context.Context, j *job) int64 {
	var plan []byte
	var plans []struct {
		Plan struct {
			Rows int64 `json:"Plan Rows"`
		}
	}
	err := l.conn.QueryRow(ctx, "EXPLAIN (FORMAT JSON) SELECT FROM "+j.from()+j.condition()).Scan(&plan)
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
	err := l.conn.QueryRow(ctx, "SELECT pg_relation_filenode($1::text::regclass), pg_relation_size($1::text::regclass) / current_setting('block_size')::bigint", j.relation()).Scan(&file, &pages)
	if err != nil {
		return err
	}
	r, t := l.run, j.table
	return r.place(ctx, l.conn, func() error {
		if !j.current() {
			return nil
		}
		p := &t.load.progress
		p.Sized, p.File, p.Pages, p.Read = true, file, pages, pages == 0
		r.finishIfComplete(j)
		r.sink.Table(t.progressState())
		return nil
	})
}

// nextByKey reads what follows in the order of the key.
func (l *loader) nextByKey(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunkRows) error { return l.readByKey(ctx, into, j.at.After, nil) }, keyTaken)
}

// again reads rows by their keys.
func (l *loader) again(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunkRows) error {
		n, err := l.readAgain(ctx, into, j.keys)
		j.keys = j.keys[:n]
		return err
	}, func(_ *progress, read *chunkRows) {
		j.load.haveRead(j.keys, read.layout.schema, read.rows)
	})
}

// byPlace reads the rows of a piece.
func (l *loader) byPlace(ctx context.Context, j *job) error {
	return l.take(ctx, j, func(into *chunkRows) error { return l.readRange(ctx, into, j.piece) }, func(p *progress, read *chunkRows) {
		p.Pieces = slices.DeleteFunc(p.Pieces, func(one piece) bool { return one == j.piece })
		if !read.end {
			p.Pieces = append(p.Pieces, piece{From: read.lastPlace, To: j.piece.To})
		}
	})
}

// take reads a piece between two marks and puts it into the journal at the second.
func (l *loader) take(ctx context.Context, j *job, read func(*chunkRows) error, taken func(*progress, *chunkRows)) error {
	r := l.run
	if j.window == nil {
		err := r.place(ctx, l.conn, func() error {
			r.openWindow(j)
			return nil
		})
		if err != nil || j.window == nil {
			return err
		}
	}
	w := j.window
	defer r.under(func() { j.load.close(w) })
	rows, err := l.read(ctx, j.before, read)
	if err != nil {
		return err
	}
	return r.place(ctx, l.conn, func() error {
		if j.current() {
			r.deliver(j, w, rows, taken)
		}
		j.load.close(w)
		l.lookAhead(j)
		return nil
	})
}

// openWindow begins a piece at a mark; the lock is held.
func (r *run) openWindow(j *job) {
	if j.current() {
		j.window, j.before = j.load.open(), r.notYetVisible.of(j.table.number)
		if j.keys != nil {
			j.load.asked = make(map[string][]string)
		}
	}
}

// lookAhead takes the next job where the mark that ended the last one can be its
// first: half of the marks are saved, and each costs the source a commit. The
// lock is held.
func (l *loader) lookAhead(j *job) {
	if j.alone {
		j.load.alone, j.alone = false, false
	}
	j.load.out = slices.DeleteFunc(j.load.out, func(one piece) bool { return one == j.piece })
	next := l.run.nextJob()
	if next == nil {
		return
	}
	l.ahead = next
	if p := next.at; p.Began && (p.By == byKey || p.Sized) {
		l.run.openWindow(next)
	}
}

// deliver puts a piece into the journal at its second mark. The lock is held, a
// unit is open.
func (r *run) deliver(j *job, w *window, read *chunkRows, taken func(*progress, *chunkRows)) {
	t := j.table
	if w.voided || !t.load.progress.Began {
		return // read again
	}
	if read.file != 0 && read.file != t.load.progress.File && t.load.progress.By == byRange {
		r.sink.Report(engine.Report{Level: "info", Event: "load-again", Message: t.state.Table + ": its rows have been moved on disk (VACUUM FULL, CLUSTER, ALTER TABLE or TRUNCATE): the load begins anew"})
		t.load.restart()
		r.sink.Table(t.progressState())
		return
	}
	for _, other := range w.layouts {
		if other.schema.Fingerprint() != read.layout.schema.Fingerprint() || known(other.columns()) && !sameSet(other.columns(), read.layout.columns()) {
			return
		}
	}
	place := r.lastRow
	r.adopt(t, read.layout, place)
	if !j.current() {
		return // the new version has changed rows that were read before
	}
	read.rows = layOver(read, w.overlay)
	for _, row := range read.rows {
		r.addExisting(t, read, row, place)
	}
	taken(&t.load.progress, read)
	r.finishIfComplete(j)
	r.sink.Table(t.progressState())
}

// addExisting puts a row of a load into the journal; the lock is held, a unit is
// open.
func (r *run) addExisting(t *table, read *chunkRows, row []change.Value, place LSN) {
	event := change.Row{Operation: change.Existing, Table: t.state.Table, Schema: read.layout.schema, Place: uint64(place), After: row}
	if len(read.tooLarge) > 0 && len(row) > 0 && read.tooLarge[&row[0]] != nil {
		sizes := read.tooLarge[&row[0]]
		r.refuse(t, read.layout, &event, sizes)
		t.load.refused += len(sizes)
	}
	r.sink.Add(&event)
	if t.load.progress.Kind != load.Refetch {
		t.state.RowsDone++
	}
}

// finishIfComplete ends the load of a table of which everything is in the
// journal; the lock is held, a unit is open.
func (r *run) finishIfComplete(j *job) {
	t := j.table
	p := &t.load.progress
	if !p.complete() {
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
		body, _ := json.Marshal(map[string]string{"part": p.what()})
		r.sink.Add(&change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place), Body: body})
		t.state.State, t.state.Note = p.Then, p.ThenNote
	} else {
		if t.load.refused > 0 {
			t.state.State, t.state.Note = engine.StateStale, fmt.Sprintf("%d values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table", t.load.refused)
		}
		r.sink.Add(&change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: t.state.Schema, Place: uint64(place)})
	}
	t.load = nil
	r.sink.Report(engine.Report{Level: "info", Event: "load-done", Message: fmt.Sprintf("%s: %d rows loaded", t.state.Table, t.state.RowsDone)})
	r.tellLoads(false)
	r.wakeLoaders()
}
