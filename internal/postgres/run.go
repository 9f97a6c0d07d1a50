package postgres

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/guard"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/loading"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/stream"
	"rillmark/internal/postgres/tables"
)

// markPrefix is the prefix of our own messages in the source's log. Any role
// may write such messages, so a nonce that we gave out is what makes one ours.
const markPrefix = session.MarkPrefix

// run is one run of a source. All fields below sink are guarded by the sink's
// lock once the goroutines have started, but for those that name their owner.
type run struct {
	config  *session.Config
	sink    engine.Sink
	control *pgx.Conn // for look-ups by the reading goroutine, under the lock
	resumption
	transaction
	registry
	scratch

	decoder pgoutput.Decoder
	// binary is true where values come in binary form.
	binary bool
	// textAfter counts heartbeats since the slot could have moved past the
	// transaction that made it so.
	textAfter     int
	notYetVisible loads.NotYetVisible
	marks         map[string]*mark
	loads         *loading.Loading
}

// resumption is where the run goes on.
type resumption struct {
	at     checkpoint
	resume position // nothing up to here is taken again
	// resumeIndex is the next event's index in the transaction that resume cuts.
	resumeIndex uint64
	// resumed is true where the slot was there before this run.
	resumed bool
	// known is true once our last heartbeat came by again, or where there is none.
	known bool
}

// transaction is the one that the stream is in.
type transaction struct {
	tx         pgoutput.Begin
	inTx       bool
	origin     string // where it came by replication
	leftOut    bool   // no event of its rows is wanted
	opened     bool   // the sink's transaction has been begun
	lastRow    session.LSN
	lastNumber uint32
}

// registry is what the run knows of tables.
type registry struct {
	relations map[uint32]*relation
	last      *relation // the relation of the newest row
	tables    map[string]*tables.Table
	numbered  []*tables.Table // by their numbers
	// owners are the captured tables by the OIDs that are on record as theirs.
	owners map[uint32]*tables.Table
	// lookups are what the catalogue said of tables, by OID.
	lookups map[uint32]*catalogue.Described
	// moved are the tables that we have moved between publications ourselves, until that is
	// on record.
	moved map[string]bool
	// looks counts the looks at all tables of the source.
	looks int
}

// scratch is room for the row at hand, used again for the next.
type scratch struct {
	writer  rows.Writer
	arena   []byte
	image   [2][]change.Value
	was, is expression.Verdict // of an update
	rekeyed bool               // its key has changed
}

// newRun is a run that knows no table yet.
func newRun(c *session.Config, sink engine.Sink) *run {
	r := &run{config: c, sink: sink, marks: make(map[string]*mark)}
	r.relations, r.tables = make(map[uint32]*relation), make(map[string]*tables.Table)
	r.writer = rows.Writer{Sink: sink, Largest: c.LargestValue, Observe: r.observe, Refused: r.refused}
	var told engine.Seldom
	c.NoText = func(table, column string, text []byte) {
		if told.Now(table + "." + column) {
			sink.Report(engine.Report{Level: "warn", Event: "undecodable-text", Message: fmt.Sprintf("%s: column %s holds bytes that are no UTF-8: % x; they stand in the event as U+FFFD, and so do others of that column (the database's encoding is SQL_ASCII, which takes anything)", table, column, text[:min(len(text), 32)])})
		}
	}
	r.loads = loading.NewLoading(c, sink, r.tables, (*loadingHost)(r))
	return r
}

// relation is a table as the stream announced it.
type relation struct {
	message *pgoutput.Relation
	own     string // its name in the source; layout.name is the one in events
	rule    *rules.Table
	layout  *catalogue.Layout
	table   *tables.Table
	skipped bool // the rules leave it out
	moved   bool // it has come to another table, or left one, since it was announced
	enums   []enum
	strays  []string // labels that the catalogue does not know
	// held are tables of partitions whose rows these may have been, until the first of them.
	held []*tables.Table
}

// own notes whose the tables are that a captured table is made of.
func (r *run) own(t *tables.Table) {
	if r.owners == nil {
		r.owners = make(map[uint32]*tables.Table)
	}
	for oid := range t.ID.Members {
		r.owners[oid] = t
		delete(t.ID.Guests, oid)
	}
	for oid := range t.ID.Guests {
		if r.owners[oid] == nil {
			r.owners[oid] = t
		}
	}
}

// hosts notes that rows of a table carry a root's name, before it is found among the
// root's partitions; false where that is on record.
func (r *run) hosts(t *tables.Table, oid uint32, own string) (isNew bool) {
	if t.ID.Members[oid] != "" || t.ID.Guests[oid] != "" {
		return false
	}
	if t.ID.Guests == nil {
		t.ID.Guests = make(map[uint32]string)
	}
	t.ID.Guests[oid] = own
	r.own(t)
	r.sink.Table(t.Record())
	return true
}

// consistsOf sets which of the source's tables hold a captured table's rows.
func (r *run) consistsOf(t *tables.Table, members map[uint32]string) {
	for oid := range t.ID.Members {
		if r.owners[oid] == t {
			delete(r.owners, oid)
		}
	}
	t.ID.Members = members
	r.own(t)
}

func (r *run) newTable(name string) *tables.Table {
	t := &tables.Table{State: engine.TableState{Table: name, Standing: change.Standing{State: engine.StateNew}}, Number: uint32(len(r.numbered))}
	r.numbered = append(r.numbered, t)
	r.tables[name] = t
	return t
}

// mark is a message of ours that somebody waits for in the stream.
type mark struct {
	// seen runs in the reading goroutine, under the lock, where the mark
	// stands; a unit and the mark's own transaction are open.
	seen func() error
	done chan struct{}
}

func newNonce() string {
	var b [12]byte
	rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
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
	if r.control, err = c.Connect(ctx, "control"); err != nil {
		return err
	}
	defer r.control.Close(context.WithoutCancel(ctx)) //nolint:errcheck // only look-ups went over it
	if err := session.NotOurOwn(ctx, r.control); err != nil {
		return err
	}
	if err := session.Supported(r.control); err != nil {
		return err
	}
	r.resumed = stored != nil && !stored.Making
	for name, state := range start.Tables {
		t := r.newTable(name)
		t.State, t.ID = *state, catalogue.ParseIdentity(state.Identity)
		r.own(t)
	}
	if err := r.publish(ctx, r.control, true); err != nil {
		return err
	}
	if err := r.loads.Resume(start.Tables, r.loads.Find); err != nil {
		return err
	}
	if err := stream.Release(ctx, r.control, c.SlotName(), start.Former); err != nil {
		return c.Explain(err)
	}
	stream, err := stream.Open(ctx, c, start.Reader)
	if err != nil {
		return err
	}
	defer stream.Close()
	if err := r.settle(ctx, stored, stream); err != nil {
		return err
	}
	r.under(func() { sink.Checkpoint(r.checkpoint) })
	r.binary = r.at.Binary
	if err := stream.Start(ctx, c.SlotName(), c.Publications(), r.binary); err != nil {
		return err
	}
	sink.Report(engine.Report{Level: "info", Event: "connected", Doing: "following",
		Message: fmt.Sprintf("following the log of %s from %s", c.Connection.Database, r.at.Position.Commit)})

	group, ctx := guard.WithContext(ctx)
	group.Go(func() error { return r.tooLargeForText(ctx, r.read(ctx, stream)) })
	group.Go(func() error { return stream.Report(ctx, sink) })
	group.Go(func() error { return r.keepHeartbeat(ctx) })
	group.Go(func() error { return r.loads.KeepLoading(ctx) })
	group.Go(func() error { return r.keepPublishing(ctx) })
	group.Go(func() error { return r.loads.KeepReloading(ctx, start.Reloads, r.loads.Find) })
	if start.Once && !c.LoadOnly {
		group.Go(func() error { return r.catchUp(ctx) })
	}
	return group.Wait()
}

// checkpoint is what the sink stores with the events so far; the lock is held.
func (r *run) checkpoint() engine.Checkpoint {
	switch at := r.at.Position; {
	case r.inTx && r.opened:
		r.at.Index = r.sink.Next()
	case !r.opened && at.Commit == r.resume.Commit && at.Kind == r.resume.Kind:
		r.at.Index = r.resumeIndex // nothing new has come of the transaction that was cut
	default:
		r.at.Index = 0
	}
	r.at.Unseen = r.notYetVisible.Stored(func(number uint32) string { return r.numbered[number].State.Table })
	release := r.at.NonceCommit
	if r.at.Nonce == "" {
		release = r.at.Position.Commit
	}
	return engine.Checkpoint{State: r.at.encode(), Release: uint64(release), Place: uint64(r.at.Position.Commit)}
}

// read takes messages off the stream until it ends.
func (r *run) read(ctx context.Context, s *stream.Stream) error {
	stop := context.AfterFunc(ctx, s.Interrupt)
	defer stop()
	var data pgoutput.XLogData
	var message []byte
	var start uint64
	take := func() error { return r.take(ctx, message, session.LSN(start)) } // one for all messages
	for {
		var err error
		if message, start, err = s.Next(&data); err != nil {
			return err
		}
		if message == nil {
			continue
		}
		if err := r.sink.Locked(take); err != nil {
			return err
		}
	}
}

// under runs f, which cannot fail, under the sink's lock.
func (r *run) under(f func()) {
	r.sink.Locked(func() error { //nolint:errcheck // it has none
		f()
		return nil
	})
}

// take handles one message of the plugin; the lock is held.
func (r *run) take(ctx context.Context, data []byte, start session.LSN) error {
	m, err := r.decoder.Decode(data)
	if err != nil {
		return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
			Message: fmt.Sprintf("the message at %s of the log cannot be decoded", start), Fix: "report it with this line; nothing was lost, capture waits there"}
	}
	if r.leftOut {
		switch m.(type) {
		case *pgoutput.Insert, *pgoutput.Update, *pgoutput.Delete, *pgoutput.Truncate:
			return nil
		}
	}
	switch m := m.(type) {
	case *pgoutput.Begin:
		r.tx, r.inTx, r.opened, r.origin, r.leftOut = *m, true, false, "", false
		r.lastRow, r.lastNumber = 0, 0
		return nil
	case *pgoutput.Commit:
		return r.commit()
	case *pgoutput.Relation:
		return r.relate(ctx, m)
	case *pgoutput.Insert:
		if err := r.prepare(ctx, m.Relation, m.New); err != nil {
			return err
		}
		return r.change(m.Relation, start, func(rel *relation) bool { return r.admits(rel, m.New, nil, false) != expression.Fails }, func(rel *relation) error { return r.insert(rel, m, start) })
	case *pgoutput.Update:
		if err := r.prepare(ctx, m.Relation, m.Old, m.New); err != nil {
			return err
		}
		return r.change(m.Relation, start, func(rel *relation) bool { return r.concerns(rel, m) }, func(rel *relation) error { return r.update(rel, m, start) })
	case *pgoutput.Delete:
		if err := r.prepare(ctx, m.Relation, m.Old); err != nil {
			return err
		}
		return r.change(m.Relation, start, func(rel *relation) bool {
			return r.admits(rel, m.Old, nil, m.OldKind == pgoutput.OldKey) != expression.Fails
		}, func(rel *relation) error { return r.delete(rel, m, start) })
	case *pgoutput.Truncate:
		return r.truncate(m, start)
	case *pgoutput.LogicalMessage:
		return r.message(ctx, m, start)
	case *pgoutput.Origin:
		r.origin, r.leftOut = m.Name, r.config.LeaveOut.LeaveOut(m.Name)
		return nil
	default: // Type says nothing that an event needs
		return nil
	}
}

// maxArena is the room for a row's converted values that is kept for the next.
const maxArena = 1 << 20

// prepare makes a table's announcement good again where its rows have another name
// since, rows that came in binary form text, and labels known.
func (r *run) prepare(ctx context.Context, oid uint32, tuples ...[]pgoutput.TupleColumn) error {
	rel := r.relations[oid]
	if rel != nil && rel.moved {
		if err := r.relate(ctx, rel.message); err != nil {
			return err
		}
		rel = r.relations[oid]
	}
	if rel == nil || rel.skipped {
		return nil
	}
	for _, tuple := range tuples {
		if len(tuple) == 0 {
			continue
		}
		if r.binary {
			if err := r.inText(ctx, rel.layout, tuple); err != nil {
				return err
			}
		}
		if err := r.withLabels(ctx, oid, tuple); err != nil {
			return err
		}
		rel = r.relations[oid]
	}
	return nil
}

// arrive moves to the next message of the open transaction and reports whether
// it is new to the journal. For one that will bring events it begins a unit; one
// that will not must not, because a block that is closed before it would be
// closed behind a transaction's last event.
func (r *run) arrive(start session.LSN, brings bool) (isNew bool, err error) {
	if start == r.lastRow {
		r.lastNumber++
	} else {
		r.lastRow, r.lastNumber = start, 0
	}
	next := position{Commit: session.LSN(r.tx.FinalLSN), Kind: kindTransaction, Row: start, Ordinal: r.lastNumber}
	if !next.after(r.resume) {
		return false, nil
	}
	if !r.known {
		return false, r.unknownLog()
	}
	if !brings {
		r.at.Position = next
		return true, nil
	}
	if err := r.sink.Reserve(); err != nil {
		return false, err
	}
	if !r.opened {
		index := uint64(0)
		if next.Commit == r.resume.Commit && next.Kind == r.resume.Kind {
			index = r.resumeIndex
		}
		r.sink.Begin(fmt.Sprint(r.tx.XID), r.origin, r.tx.CommitTime+session.PostgresEpoch, index)
		r.opened = true
	}
	r.at.Position = next
	return true, nil
}

func (r *run) unknownLog() error {
	return &engine.Fault{Code: "other-log", Final: true,
		Message: "the source's log is not the one that was followed before: our last heartbeat is not where it was written (the source may have been restored from a backup)",
		Fix:     session.Anew}
}

func (r *run) commit() error {
	end := position{Commit: session.LSN(r.tx.FinalLSN), Kind: kindTransaction, Row: rowEnd}
	if end.after(r.resume) && !r.known {
		return r.unknownLog()
	}
	if r.opened {
		r.sink.Commit()
	}
	if end.after(r.at.Position) {
		r.at.Position = end
		r.at.XID, r.at.CommittedAt = r.tx.XID, r.tx.CommitTime
	}
	r.inTx, r.opened = false, false
	if r.at.Binary && r.at.BinaryUntil == 0 && end.after(r.resume) {
		r.at.BinaryUntil = session.LSN(r.tx.FinalLSN)
	}
	return nil
}

// backToText goes on in text form, which is faster, once the source no longer
// sends the transaction again that it could not write as text: two heartbeats
// after it, the slot has moved past it. The lock is held.
func (r *run) backToText(ctx context.Context) error {
	if !r.at.Binary || r.at.BinaryUntil == 0 || session.LSN(r.sink.Released()) <= r.at.BinaryUntil {
		return nil
	}
	if r.textAfter++; r.textAfter < 2 {
		return nil
	}
	r.at.Binary, r.at.BinaryUntil = false, 0
	if err := r.sink.Store(ctx); err != nil {
		return err
	}
	return engine.ErrAgain
}

// tooLargeForText has a transaction that the server cannot write as text read
// again in binary form.
func (r *run) tooLargeForText(ctx context.Context, err error) error {
	var fault *engine.Fault
	if !errors.As(err, &fault) || fault.Code != "row-too-large" {
		return err
	}
	if r.binary {
		fault.Final, fault.Fix = true, session.Anew
		return fault
	}
	return r.sink.Locked(func() error {
		r.at.Binary = true // what has come of the transaction comes again, and is passed over
		r.sink.Report(engine.Report{Level: "info", Event: "binary", Message: "the source cannot write a row as text, so large is it: the transaction is read again in binary form"})
		if err := r.sink.Store(ctx); err != nil {
			return err
		}
		return engine.ErrAgain
	})
}

// change is the frame around a row's message. concerns says of a table whose rule
// is filtered whether the row brings an event.
func (r *run) change(oid uint32, start session.LSN, concerns func(*relation) bool, handle func(*relation) error) error {
	rel := r.last
	if rel == nil || rel.message.OID != oid {
		if rel = r.relations[oid]; rel == nil {
			return &engine.Fault{Code: "cannot-decode", Final: true, Message: fmt.Sprintf("the row at %s of the log belongs to table %d, which was not announced", start, oid)}
		}
		r.last = rel
	}
	brings := !rel.skipped
	if brings {
		r.notYetVisible.Note(r.tx.XID, rel.table.Number) // also where it is not new: see [loads.NotYetVisible]
		brings = !rel.rule.Filtered() || concerns(rel)
		if err := rel.layout.GaveUp(); err != nil {
			return err
		}
	}
	isNew, err := r.arrive(start, brings || rel.held != nil)
	if err != nil || !isNew {
		return err
	}
	for _, t := range rel.held {
		r.void(t, states.Unlogged("a partition has come and gone since, and these rows of it were read after that"), start)
	}
	if rel.held = nil; !brings {
		return nil
	}
	r.writer.Next()
	if r.arena = r.arena[:0]; cap(r.arena) > maxArena {
		r.arena = nil // a large row's room is given back
	}
	return handle(rel)
}

// message takes an application's message, or one of ours.
func (r *run) message(ctx context.Context, m *pgoutput.LogicalMessage, start session.LSN) error {
	if m.Prefix == markPrefix {
		return r.ownMessage(m, start)
	}
	if m.Prefix == session.StatementPrefix && m.Transactional {
		return r.statement(ctx, m, start)
	}
	body := change.MessageBody(m.Prefix, m.Content)
	if m.Transactional {
		isNew, err := r.arrive(start, true)
		if err != nil || !isNew {
			return err
		}
		r.sink.Add(&change.Row{Operation: change.Message, Place: uint64(start), Body: body})
		return nil
	}
	at := position{Commit: session.LSN(m.LSN), Kind: kindMessage}
	if !at.after(r.resume) {
		return nil
	}
	if !r.known {
		return r.unknownLog()
	}
	if err := r.sink.Reserve(); err != nil {
		return err
	}
	// It stands for itself: a transaction of one event, without an id, now.
	r.sink.Begin("", "", time.Now().UnixMicro(), 0)
	r.sink.Add(&change.Row{Operation: change.Message, Place: m.LSN, Body: body})
	r.sink.Commit()
	r.at.Position = at
	return nil
}

// ownMessage takes a heartbeat or a mark. Ours are always transactional.
func (r *run) ownMessage(m *pgoutput.LogicalMessage, start session.LSN) error {
	if !m.Transactional {
		return nil
	}
	nonce := string(m.Content)
	if nonce == r.at.Nonce && session.LSN(r.tx.FinalLSN) == r.at.NonceCommit {
		r.known = true
	}
	waiting := r.marks[nonce]
	isNew, err := r.arrive(start, waiting != nil)
	if err != nil || !isNew {
		return err
	}
	if waiting == nil {
		if nonce == session.PresentMark {
			r.sink.Touch() // somebody waits until we have come here
		}
		return nil
	}
	delete(r.marks, nonce)
	if err := waiting.seen(); err != nil {
		return err
	}
	close(waiting.done)
	return nil
}
