package mariadb

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"strconv"
	"sync"
	"time"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loading"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// run is one run of a source. Its fields are guarded by the sink's lock once the goroutines
// have started, but for those that name their owner.
type run struct {
	config *session.Config
	sink   engine.Sink
	// control is for look-ups by the goroutine that reads the log, under the lock.
	control *wire.Conn
	reader  *catalogue.Reader
	server  uint32 // the number of the server we are connected to
	// lowerCase says that it keeps the names of databases and tables in lower case.
	lowerCase bool

	at position
	// resumed is the position of an earlier run, until its newest group has come by again;
	// nil for none.
	resumed *checkpoint
	// skip is how many rows of the next group are in the journal already.
	skip uint64
	// skipIndex is the next event's index in the transaction that the last run cut.
	skipIndex uint64

	// stored is the place that was reached when the position was last stored for its own sake.
	stored stream.Place

	group group // owned by the goroutine that reads the log
	// kept are groups of prepared transactions, of so many bytes.
	kept      map[binlog.XID]*group
	keptBytes int

	tables   map[string]*loads.Table
	bindings map[uint64]*binding
	// foreign are the foreign keys by which tables change with others.
	foreign []catalogue.Cascade
	// children are the tables that change with others, by the names of those.
	children map[string][]child
	writer   rows.Writer
	tx       transaction
	waits    []*wait
	// states keeps what the tables are; past is what is remembered of the log while they are
	// loaded.
	states  *states.Keeper
	past    loads.History
	garbled loads.Garbled
	// whole is closed once the transaction is complete that the last run cut: nothing else may
	// come into the journal before.
	whole chan struct{}
	cut   bool // it is not closed yet
	// writing is held by who writes transactions into the journal: the goroutine that reads
	// the log from a group's beginning to its end, a session that loads for a chunk. It is
	// taken before the sink's lock.
	writing sync.Mutex
}

// transaction is the one that is being written.
type transaction struct {
	open    bool // a group is being taken, be it without events so far
	begun   bool // the sink's transaction has been begun
	id      string
	origin  string
	leftOut bool // no event of its rows is wanted
	time    int64
	ordinal uint64 // rows so far
	// statement is the text behind the rows at hand, until it is in the journal; session is
	// the number of the session that ran the newest statement on a table's definition.
	statement string
	session   uint32
	digest    uint32
	place     uint64
	end       stream.Place // of the group
	image     [2][]change.Value
	arena     []byte
	// announced are the tables that the statement at hand has announced.
	announced map[string]bool
	// observing is the table whose row is being written.
	observing *loads.Table
}

// wait is somebody who waits until the log has been taken up to a place.
type wait struct {
	until stream.Place
	done  chan struct{}
}

func newNonce() string {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

func newRun(c *session.Config, sink engine.Sink) *run {
	r := &run{config: c, sink: sink, tables: make(map[string]*loads.Table), bindings: make(map[uint64]*binding)}
	r.writer = rows.Writer{Sink: sink, Largest: c.LargestValue, Observe: r.observe, Refused: r.refused}
	r.states = &states.Keeper{Sink: sink, Loads: c.Load, LoadOnly: c.LoadOnly, All: r.all}
	return r
}

func (r *run) all(yield func(states.Table) bool) {
	for _, t := range r.tables {
		if !yield(t) {
			return
		}
	}
}

func (r *run) find(name string) (states.Table, bool) {
	t, found := r.tables[name]
	return t, found
}

// Run implements [engine.Engine].
func Run(ctx context.Context, c *session.Config, start engine.Start, sink engine.Sink) error {
	c.Defaults()
	err := capture(ctx, c, start, sink)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return c.Explain(err)
}

func capture(ctx context.Context, c *session.Config, start engine.Start, sink engine.Sink) error {
	r := newRun(c, sink)
	stored, err := parseCheckpoint(start.Checkpoint)
	if err != nil {
		return err
	}
	sink.Report(engine.Report{Preparing: true, Doing: "connecting"})
	if err := r.connect(ctx); err != nil {
		return err
	}
	defer r.control.Close()
	if err := r.settle(ctx, stored); err != nil {
		return err
	}
	for name, state := range start.Tables {
		r.restore(name, state)
	}
	if err := r.refresh(ctx, r.reader, true); err != nil {
		return err
	}
	if err := r.states.Resume(start.Tables, r.find); err != nil {
		return err
	}
	s, err := r.open(ctx)
	if err != nil {
		return err
	}
	defer r.hangUp(ctx, s)
	r.under(func() { sink.Checkpoint(r.checkpoint) })
	if stored == nil {
		// From here on a table's load and the log are one story: that has to be known.
		if err := sink.Locked(func() error { return sink.Store(ctx) }); err != nil {
			return err
		}
	}
	sink.Report(engine.Report{Level: "info", Event: "connected", Doing: "following",
		Message: fmt.Sprintf("following the log of %s from %s", c.Where(), orBeginning(r.at.state()))})

	group, ctx := guard.WithContext(ctx)
	group.Go(func() error { return r.read(ctx, s) })
	group.Go(func() error { return r.keepRefreshing(ctx) })
	group.Go(func() error {
		l := &loading.Loading{Host: r, Config: r.config, Sink: r.sink, States: r.states, Tables: r.tables, Past: &r.past, Garbled: &r.garbled}
		return l.Keep(ctx)
	})
	group.Go(func() error { return r.states.KeepReloading(ctx, start.Reloads, r.find) })
	if start.Once && !c.LoadOnly {
		group.Go(func() error { return r.catchUp(ctx) })
	}
	return group.Wait()
}

func orBeginning(state string) string {
	if state == "" {
		return "its beginning"
	}
	return state
}

// connect opens the session for look-ups and sees that the server is one that can be read.
func (r *run) connect(ctx context.Context) (err error) {
	if r.control, err = r.config.Connect(ctx, "control"); err != nil {
		return err
	}
	if err = r.serverFits(ctx); err == nil {
		r.reader, err = catalogue.NewReader(ctx, r.control)
	}
	if err != nil {
		r.control.Close()
	}
	return err
}

// serverFits refuses a server whose log does not say what capture needs.
func (r *run) serverFits(ctx context.Context) error {
	row, err := r.control.Row(ctx, 6, "SELECT @@global.log_bin, @@global.binlog_format, @@global.binlog_row_image, @@global.binlog_row_metadata, @@global.server_id, @@global.lower_case_table_names")
	if err != nil {
		return err
	}
	where := r.config.Where()
	id, _ := strconv.ParseUint(row[4], 10, 32) // the server's own number
	r.server, r.lowerCase = uint32(id), row[5] == "1"
	switch {
	case row[0] != "1":
		return &engine.Fault{Code: "log-off", Message: "the source at " + where + " writes no binary log", Fix: "set log_bin, server_id and binlog_format = ROW in the server's configuration, and restart it"}
	case row[1] != "ROW":
		return &engine.Fault{Code: "log-format", Message: fmt.Sprintf("the source at %s logs statements, not rows (binlog_format is %s)", where, row[1]),
			Fix: "SET GLOBAL binlog_format = 'ROW', and the same in the server's configuration; sessions that are open keep the old one until they end"}
	case row[3] != "FULL":
		return &engine.Fault{Code: "log-metadata", Message: fmt.Sprintf("the source at %s does not log the names of columns (binlog_row_metadata is %s)", where, row[3]),
			Fix: "SET GLOBAL binlog_row_metadata = 'FULL', and the same in the server's configuration"}
	}
	return nil
}

// settle decides where the log is followed from.
func (r *run) settle(ctx context.Context, stored *checkpoint) error {
	r.whole = make(chan struct{})
	if r.cut = stored != nil && stored.Open != ""; !r.cut {
		close(r.whole)
	}
	if stored != nil {
		r.at.checkpoint = *stored
		gtids, err := stream.ParseGTIDs(stored.GTIDs)
		if err != nil {
			return fmt.Errorf("reading the source's position: %w", err)
		}
		r.at.gtids, r.at.before, r.at.digest, r.at.file = gtids, stored.Before, stored.Digest, stored.File
		r.at.place = stream.Place{File: stream.FileNumber(stored.File), Offset: stored.Offset}
		if stored.Server != r.server {
			r.at.place, r.at.file = stream.Place{}, "" // another server's files
		}
		r.skip, r.skipIndex = stored.Rows, stored.Index
		if stored.Last != "" {
			r.resumed = stored
		}
		return nil
	}
	r.at.Reader = newNonce()
	if r.config.From != "" {
		gtids, err := stream.ParseGTIDs(r.config.From)
		r.at.gtids = gtids
		return err
	}
	return r.startNow(ctx)
}

// readerID is the number by which the server knows us: the one in the definition, or one
// that is this source's own from its first run on.
func (r *run) readerID() uint32 {
	if r.config.ReaderID != 0 {
		return r.config.ReaderID
	}
	return session.ReaderID(r.at.Reader)
}

// readerName is what the server lists us under.
func (r *run) readerName() string { return "rillmark-" + r.config.Source + "-" + r.at.Reader }

// startNow begins where the log ends.
func (r *run) startNow(ctx context.Context) error {
	for {
		before, err := r.control.Row(ctx, 2, "SHOW BINLOG STATUS")
		if err != nil {
			return err
		}
		now, err := r.control.Row(ctx, 1, "SELECT @@global.gtid_binlog_pos")
		if err != nil {
			return err
		}
		after, err := stream.LogEnd(ctx, r.control)
		if err != nil {
			return err
		}
		if r.at.place = stream.PlaceOf(before[0], before[1]); r.at.place != after {
			continue // something was written meanwhile
		}
		r.at.file = before[0]
		r.at.gtids, err = stream.ParseGTIDs(now[0])
		return err
	}
}

// open asks for the log. A run that goes on reads its newest group once more, where the
// server still has it.
func (r *run) open(ctx context.Context) (*stream.Stream, error) {
	from := r.at.gtids
	if r.resumed != nil {
		before, err := stream.ParseGTIDs(r.resumed.Before)
		if err != nil {
			return nil, fmt.Errorf("reading the source's position: %w", err)
		}
		from = before
	}
	return stream.Open(ctx, r.config, stream.Options{ID: r.readerID(), Name: r.readerName(), From: from, Statements: r.config.Statements})
}

// hangUp ends a reading of the log on the server, too, which would notice at its next
// heartbeat and keep its files for us until then.
func (r *run) hangUp(ctx context.Context, s *stream.Stream) {
	s.Close()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	r.control.Exec(ctx, fmt.Sprintf("KILL %d", s.Session())) //nolint:errcheck // it may have gone
}

// checkpoint is what the sink stores with the events so far; the lock is held.
func (r *run) checkpoint() engine.Checkpoint {
	r.at.Server = r.server
	if r.tx.begun {
		r.at.Open, r.at.Rows, r.at.Index = r.tx.id, r.tx.ordinal, r.sink.Next()
	}
	place := r.at.place.Number()
	return engine.Checkpoint{State: r.at.encoded(), Release: place, Place: place}
}

// under runs f, which cannot fail, under the sink's lock.
func (r *run) under(f func()) {
	r.sink.Locked(func() error { //nolint:errcheck // it has none
		f()
		return nil
	})
}

// read takes events off the log until it ends.
func (r *run) read(ctx context.Context, s *stream.Stream) error {
	stop := context.AfterFunc(ctx, s.Interrupt)
	defer stop()
	for {
		e, err := s.Next()
		if err != nil && session.IsLogGone(err) && r.resumed != nil && r.resumed.Before != r.resumed.GTIDs {
			// The newest group is purged already; what comes behind it may not be.
			r.sink.Report(engine.Report{Level: "warn", Event: "unverified", Message: "the group that was read last has been purged: that the log is the one that was followed before cannot be verified"})
			r.hangUp(ctx, s)
			stop()
			r.resumed = nil
			if s, err = r.open(ctx); err != nil {
				return err
			}
			stop = context.AfterFunc(ctx, s.Interrupt)
			defer r.hangUp(ctx, s) //nolint:gocritic // once in a run
			continue
		}
		if err != nil {
			return err
		}
		if err := r.take(ctx, s, e); err != nil {
			return err
		}
	}
}

// reached moves on to a place behind whole groups and wakes who waits for it; the lock is
// held.
func (r *run) reached(place stream.Place, file string) {
	if !r.at.place.Before(place) {
		return // what the server sends before it comes to the position
	}
	r.at.place, r.at.file = place, file
	kept := r.waits[:0]
	for _, w := range r.waits {
		if place.Before(w.until) {
			kept = append(kept, w)
			continue
		}
		close(w.done)
	}
	r.waits = kept
}

// await waits until the log has been taken up to a place.
func (r *run) await(ctx context.Context, until stream.Place) error {
	var w *wait
	r.under(func() {
		if r.at.place.Before(until) {
			w = &wait{until, make(chan struct{})}
			r.waits = append(r.waits, w)
		}
	})
	if w == nil {
		return nil
	}
	select {
	case <-w.done:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// catchUp ends a run that is to end so: with nothing left to load, once all that was
// committed before is in the journal.
func (r *run) catchUp(ctx context.Context) error {
	for loaded := false; !loaded; {
		var more <-chan struct{}
		r.under(func() { loaded, more = r.states.AllLoaded(), r.states.More() })
		if loaded {
			break
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-more:
		}
	}
	conn, err := r.config.Connect(ctx, "position")
	if err != nil {
		return err
	}
	defer conn.Close()
	now, err := stream.LogEnd(ctx, conn)
	if err != nil {
		return err
	}
	if err := r.await(ctx, now); err != nil {
		return err
	}
	return r.sink.Locked(func() error {
		if err := r.sink.StoreWhole(ctx); err != nil {
			return err
		}
		return engine.ErrCaughtUp
	})
}

// rule is the one that captures a table; nil where none does.
func (r *run) rule(name string) *rules.Table { return r.config.Rules.For(name) }
