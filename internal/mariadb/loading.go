package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// loads hands loads out to the sessions that read; the sink's lock guards it.
type loads struct {
	more chan struct{} // closed and made anew when there is more to load
	// past is what is remembered of the log while tables are loaded.
	past history
	// wanted is set while any table has a load.
	wanted bool
	// told is when the status page learnt what is being loaded.
	told time.Time
}

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

// wakeLoaders has every session look for something to read; the lock is held.
func (r *run) wakeLoaders() {
	r.loads.wanted = !r.allLoaded()
	close(r.loads.more)
	r.loads.more = make(chan struct{})
}

func (r *run) allLoaded() bool {
	for _, t := range r.tables {
		if t.load != nil {
			return false
		}
	}
	return true
}

// keepLoading runs the sessions that load what is to be loaded.
func (r *run) keepLoading(ctx context.Context) error {
	group, ctx := guard.WithContext(ctx)
	for n := range r.config.LoadSessions {
		group.Go(func() error {
			l := &loader{run: r, writer: rows.Writer{Sink: r.sink, Largest: r.config.LargestValue}}
			defer l.hangUp()
			return l.work(ctx, n == 0)
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

func (l *loader) hangUp() {
	if l.conn != nil {
		l.conn.Close()
	}
	l.conn = nil
}

// work does one job after the other. The first session also sees to the end of a run that
// only loads.
func (l *loader) work(ctx context.Context, first bool) error {
	r := l.run
	for {
		var j *job
		var more chan struct{}
		err := r.sink.Locked(func() error {
			j, more = r.nextJob(), r.loads.more
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
			r.under(func() { r.tellLoads(true) })
			l.hangUp()
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-more:
			}
			continue
		}
		if err = l.connect(ctx); err == nil {
			err = l.do(ctx, j)
		}
		why := ""
		if err != nil && ctx.Err() == nil {
			if why = l.skippable(err); why != "" {
				l.hangUp() // whatever the session is in the middle of
			}
		}
		err = r.sink.Locked(func() error {
			j.load.taken = false
			if err != nil && why == "" {
				return err
			}
			if why != "" && why != again {
				r.giveUp(j, why)
			}
			return nil
		})
		if err != nil {
			return err
		}
		if why == again {
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
}

// nextJob hands out what is to be done next: of the table with the highest priority; the
// lock is held.
func (r *run) nextJob() *job {
	var best *table
	for _, t := range r.tables {
		if t.load == nil || t.load.taken || t.rule == nil {
			continue
		}
		if best == nil || t.rule.Priority > best.rule.Priority || t.rule.Priority == best.rule.Priority && t.state.Table < best.state.Table {
			best = t
		}
	}
	if best == nil {
		return nil
	}
	l := best.load
	l.taken = true
	from := r.at.place
	if r.tx.open {
		from = r.tx.end // what of the open group has been taken is not kept
	}
	l.record(from)
	if l.limit == 0 {
		l.limit = 200 // the first chunk shows how large rows are
	}
	return &job{table: best, load: l, turn: l.turn, at: l.progress, limit: l.limit}
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
	}
	return ""
}

// giveUp ends a load that cannot go on while others can; the lock is held.
func (r *run) giveUp(j *job, why string) {
	t := j.table
	if t.load != j.load {
		return
	}
	t.load = nil
	t.state.State, t.state.Note = engine.StateNotLoaded, why
	if j.at.apart() {
		t.state.State, t.state.Note = j.at.Then, j.at.ThenNote
	}
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "error", Event: "load-failed", Message: t.state.Table + ": " + why})
	r.tellLoads(true)
	r.wakeLoaders()
}

// tellLoads puts what is being loaded on the status page; the lock is held.
func (r *run) tellLoads(now bool) {
	if !now && time.Since(r.loads.told) < 200*time.Millisecond {
		return
	}
	r.loads.told = time.Now()
	var names []string
	for _, t := range r.tables {
		if t.load != nil && t.load.progress.Began {
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

// do reads one chunk and puts it into the journal.
func (l *loader) do(ctx context.Context, j *job) error {
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
	c, err := l.read(ctx, j, j.limit, nil)
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
	p := &t.load.progress
	if p.Kind == load.Full {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.state.Table, Schema: t.state.Schema, Place: r.tx.place, For: p.For.ID})
	}
	p.Began, p.After = true, nil
	t.listed = j.listed
	t.state.State, t.state.Note, t.state.RowsDone, t.state.RowsEstimate = engine.StateLoading, p.what(), 0, j.listed.Rows
	r.sink.Table(t.progressState())
	r.sink.Report(engine.Report{Level: "info", Event: "load-began", Message: strings.TrimSpace(fmt.Sprintf("loading %s %s", t.state.Table, p.what())) + fmt.Sprintf(", about %d rows", j.listed.Rows)})
	r.tellLoads(false)
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

// what says which part of a table a load reads; empty for all of it.
func (p *progress) what() string {
	return load.Ask{Where: p.Where, For: p.For}.What()
}

// deliver puts a chunk into the journal. The lock is held, a unit is open.
func (l *loader) deliver(j *job, s *snapshot, c *chunk) error {
	r, t := l.run, j.table
	if !j.current() || !t.load.progress.Began {
		return errAgain
	}
	low, known := r.loads.past.low(s, j.load.sound)
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
	for _, row := range layOver(c.rows, c.layout.Schema, changes) {
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
	r.sink.Table(t.progressState())
	r.tellLoads(false)
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
	p := t.load.progress
	event := change.Row{Operation: change.Loaded, Table: t.state.Table, Schema: t.state.Schema, Place: r.tx.place, For: p.For.ID}
	refused := t.load.refused
	t.load = nil
	t.state.State, t.state.Note = engine.StateFollowing, ""
	if p.Kind == load.Full {
		t.state.RowsEstimate = t.state.RowsDone
	} else {
		event.Body, _ = json.Marshal(map[string]string{"part": p.what()}) // it is text
	}
	if p.apart() {
		t.state.State, t.state.Note = p.Then, p.ThenNote
	} else {
		t.keyNote()
	}
	if refused > 0 && t.state.State == engine.StateFollowing {
		t.state.State, t.state.Note = engine.StateStale, fmt.Sprintf("%d values larger than largest_value were left out: raise it, or leave the columns out by a rule, and reload the table", refused)
	}
	r.sink.Add(&event)
	r.sink.Report(engine.Report{Level: "info", Event: "load-done", Message: fmt.Sprintf("%s: %d rows loaded", t.state.Table, t.state.RowsDone)})
	r.tellLoads(true)
	r.wakeLoaders()
}

// keepReloading takes requests to read tables anew.
func (r *run) keepReloading(ctx context.Context, reloads <-chan engine.Reload) error {
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case one := <-reloads:
			err := r.sink.Locked(func() error {
				if err := r.reload(one.Table, one.Ask); err != nil {
					return err
				}
				return r.sink.StoreWhole(ctx)
			})
			one.Done <- err
			if err != nil && !errors.Is(err, engine.ErrCannotLoad) {
				return err
			}
		}
	}
}

// reload begins a load of a table that is followed; the lock is held.
func (r *run) reload(name string, ask load.Ask) error {
	t := r.tables[name]
	if ask.Drop {
		return r.drop(t, ask.For)
	}
	if t == nil || t.rule == nil || engine.Away(t.state.State) || (ask != load.Ask{}) && t.load != nil {
		return engine.ErrCannotLoad
	}
	t.load = &tableLoad{}
	if (ask != load.Ask{}) {
		t.load.progress = progress{Where: ask.Where, For: ask.For, Then: t.state.State, ThenNote: t.state.Note}
	}
	if ask.Where != "" {
		t.load.progress.Kind = load.Part
	}
	t.state.State, t.state.Note, t.state.RowsDone = engine.StateToLoad, "", 0
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.wakeLoaders()
	return nil
}

// drop ends the load of a table for an outlet that is no more; the lock is held. A chunk that is
// being read comes to nothing.
func (r *run) drop(t *table, whose load.Audience) error {
	if t == nil || t.load == nil || whose.ID == 0 || t.load.progress.For.ID != whose.ID {
		return engine.ErrCannotLoad
	}
	p := t.load.progress
	t.load = nil
	t.state.State, t.state.Note = p.Then, p.ThenNote
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "info", Event: "load-dropped", Message: t.state.Table + ": the outlet " + whose.Name + ", for which it was loaded, is no more"})
	r.wakeLoaders()
	return nil
}
