package postgresql

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

var _ destination.Destination = (*Destination)(nil)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Order: true, Whole: true}
}

// writer delivers one outlet over one session. A transaction of its own is open while one of
// the source's is not complete: readers see all of it or nothing.
type writer struct {
	*Destination
	outlet destination.Outlet
	kept   func(table string) sql.Keep
	conn   *pgx.Conn
	epoch  int64
	state  state
	// stateChanged says that the tables of the state are not those on record.
	stateChanged bool
	// saved is what the tables were at savepoints, by their names. What a table's state is
	// does not change: it is replaced.
	saved      map[string]map[string]*tableState
	stages     map[string]bool // the tables that rows are staged in, as long as they are there
	tables     map[string]*table
	fires      bool      // triggers and foreign keys act for our rows
	open       bool      // a transaction is
	committed  time.Time // at the source, of the newest event
	durable    int64
	recorded   time.Time         // when state.Offset was put on record
	prepared   map[string]string // names of prepared statements by their text
	statements int               // that were ever prepared
	net        sql.Net
	buffer     []byte
	cautious   map[string]int // tables whose new rows were there lately: batches until it is tried again
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	w := &writer{Destination: d, outlet: o, tables: make(map[string]*table), prepared: make(map[string]string), cautious: make(map[string]int), saved: make(map[string]map[string]*tableState), stages: make(map[string]bool)}
	var err error
	if w.kept, err = d.options.kept(); err != nil {
		return nil, err
	}
	if w.conn, err = d.connect(ctx, w.application()); err != nil {
		return nil, err
	}
	if err := w.start(ctx); err != nil {
		w.Close() //nolint:errcheck // the first error is the one to tell
		return nil, explained(err)
	}
	return w, nil
}

func (w *writer) start(ctx context.Context) error {
	w.fires = true
	if w.options.Triggers == "skip" {
		_, err := w.conn.Exec(ctx, "SET session_replication_role = replica")
		var refused *pgconn.PgError
		if err != nil && (!errors.As(err, &refused) || refused.Code != "42501") {
			return err
		}
		w.fires = err != nil
	}
	if err := w.begin(ctx); err != nil {
		return err
	}
	w.durable = w.state.Offset
	return nil
}

// application is the session's name, by which a later one of the same outlet finds it.
func (w *writer) application() string {
	name := "rillmark outlet " + w.outlet.Name
	return name[:min(len(name), 63)]
}

func (w *writer) log(level, event, message string) {
	if w.outlet.Log != nil {
		w.outlet.Log(level, event, message)
	}
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.durable }

// MidTransaction reports whether a transaction of the source is not complete here.
func (w *writer) MidTransaction() bool { return w.open }

// passedEvery is how often the offset is put on record where only events have passed that
// are no rows for this outlet.
const passedEvery = 10 * time.Second

// Flush implements [destination.Writer]. What is part of an open transaction is durable only
// with the rest of it.
func (w *writer) Flush(ctx context.Context, last bool) (int64, error) {
	if w.open || w.durable == w.state.Offset || !last && time.Since(w.recorded) < passedEvery {
		return w.durable, nil
	}
	if err := w.writeState(ctx, w.durable); err != nil {
		return 0, explained(err)
	}
	w.state.Offset, w.recorded = w.durable, time.Now()
	return w.durable, nil
}

// Close implements [destination.Writer].
func (w *writer) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	return w.conn.Close(ctx)
}

// Send implements [destination.Writer].
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	refused, err := w.send(ctx, batch)
	if err == nil {
		return refused, nil
	}
	if w.open {
		w.open = false
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		w.conn.Exec(last, "ROLLBACK") //nolint:errcheck // the first error is the one to tell
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return nil, explained(err)
}

func (w *writer) send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	if !w.stateChanged {
		written, err := w.atOnce(ctx, batch)
		if err != nil {
			return nil, err
		}
		if written {
			w.durable = max(w.durable, batch.Last)
			return nil, nil
		}
	}
	whole := batch.Whole
	if w.options.Transactions == "split" {
		whole = batch.Last
	}
	cut := len(batch.Messages)
	for cut > 0 && batch.Messages[cut-1].Offset > whole {
		cut--
	}
	behind := destination.NewBehind(w.outlet.Wait)
	refused, err := w.part(ctx, batch, 0, cut, behind)
	if err != nil {
		return nil, err
	}
	if w.open && whole > 0 {
		if err := w.commit(ctx, max(whole, w.durable)); err != nil {
			return nil, err
		}
	}
	more, err := w.part(ctx, batch, cut, len(batch.Messages), behind)
	if err != nil {
		return nil, err
	}
	if !w.open {
		w.durable = max(w.durable, batch.Last) // nothing behind the commit is waiting
	}
	return append(refused, more...), nil
}

func (w *writer) commit(ctx context.Context, offset int64) error {
	if err := w.writeState(ctx, offset); err != nil {
		return err
	}
	if err := w.exec(ctx, "COMMIT"); err != nil {
		return err
	}
	w.open = false
	w.done(offset)
	return nil
}

// done notes that everything up to an offset is committed, and the state with it.
func (w *writer) done(offset int64) {
	w.durable, w.state.Offset, w.stateChanged, w.recorded = offset, offset, false, time.Now()
}

// part writes messages from one index to before another, in the open transaction, or one
// that it opens. What the database refuses is kept as a dead letter before the offset that
// passes it can be committed.
func (w *writer) part(ctx context.Context, batch *encode.Batch, from, to int, behind *destination.Behind) ([]destination.Refusal, error) {
	if from == to {
		return nil, nil
	}
	if !w.open {
		begin := "BEGIN"
		if w.fires { // a row may come before the one that it refers to
			begin += "; SET CONSTRAINTS ALL DEFERRED"
		}
		if err := w.exec(ctx, begin); err != nil {
			return nil, err
		}
		w.open = true
	}
	if err := w.savepoint(ctx, "part"); err != nil {
		return nil, err
	}
	w.committed = batch.Messages[to-1].Committed
	err := w.apply(ctx, batch.Messages[from:to], fewRows)
	if isUnique(err) {
		// Values may be unique only once all rows are written: together they are.
		if err := w.rollbackTo(ctx, "part"); err != nil {
			return nil, err
		}
		err = w.apply(ctx, batch.Messages[from:to], 0)
	}
	if err == nil {
		return nil, w.exec(ctx, "RELEASE SAVEPOINT part")
	}
	if !refusesRow(err) || engine.IsFinal(err) {
		return nil, err
	}
	if err := w.rollbackTo(ctx, "part"); err != nil {
		return nil, err
	}
	var refused []destination.Refusal
	for i, end := from, 0; i < to; i = end {
		m := &batch.Messages[i]
		end = i + 1
		if m.Operation == change.Delete && m.Rekeyed != nil && end < to && batch.Messages[end].Rekeyed != nil {
			end++ // both halves of a changed key
		}
		err := error(nil)
		waits := behind.Waits(m) || behind.Waits(&batch.Messages[end-1])
		if !waits {
			if err = w.savepoint(ctx, "one"); err != nil {
				return nil, err
			}
			if err = w.apply(ctx, batch.Messages[i:end], fewRows); err == nil {
				if err = w.exec(ctx, "RELEASE SAVEPOINT one"); err != nil {
					return nil, err
				}
				continue
			}
			if !refusesRow(err) || engine.IsFinal(err) {
				return nil, err
			}
			if rolling := w.rollbackTo(ctx, "one"); rolling != nil {
				return nil, rolling
			}
			err = refusal(m.Table, err)
		}
		for ; i < end; i++ {
			refused = append(refused, destination.Refusal{Index: i, Err: err})
			behind.Refused(&batch.Messages[i])
		}
	}
	if len(refused) > 0 {
		if err := w.outlet.KeepRefused(ctx, batch, refused); err != nil {
			return nil, err
		}
	}
	return refused, w.exec(ctx, "RELEASE SAVEPOINT part")
}

// rollbackTo takes back what was done since a savepoint. Tables may have been made or
// altered since: they are looked at again.
func (w *writer) rollbackTo(ctx context.Context, savepoint string) error {
	clear(w.tables)
	clear(w.stages)
	w.state.Tables = maps.Clone(w.saved[savepoint])
	return w.exec(ctx, "ROLLBACK TO SAVEPOINT "+savepoint)
}

func (w *writer) savepoint(ctx context.Context, name string) error {
	w.saved[name] = maps.Clone(w.state.Tables)
	return w.exec(ctx, "SAVEPOINT "+name)
}

func (w *writer) exec(ctx context.Context, statement string) error {
	_, err := w.conn.PgConn().Exec(ctx, statement).ReadAll()
	return err
}

// fewRows are written one after another rather than at once.
const fewRows = 100

// apply writes messages in their order, as far as that can be seen: rows of one table
// between two events about whole tables may go together, where they are more than few.
func (w *writer) apply(ctx context.Context, messages []encode.Message, few int) error {
	var runs []*run
	byTable := make(map[string]*run)
	flush := func() error {
		for _, r := range runs {
			if err := w.rows(ctx, r, few); err != nil {
				return err
			}
		}
		runs = runs[:0]
		clear(byTable)
		return nil
	}
	for i := range messages {
		m := &messages[i]
		if m.Operation.IsRow() {
			r := byTable[m.Table]
			if r == nil || r.schema != m.Schema && r.schema.Fingerprint() != m.Schema.Fingerprint() {
				if r != nil { // rows of another version: those before go first
					if err := flush(); err != nil {
						return err
					}
				}
				r = &run{table: m.Table, schema: m.Schema}
				byTable[m.Table] = r
				runs = append(runs, r)
			}
			r.messages = append(r.messages, m)
			continue
		}
		if err := flush(); err != nil {
			return err
		}
		if err := w.event(ctx, m); err != nil {
			return err
		}
	}
	return flush()
}

// run is messages of rows of one table and schema version.
type run struct {
	table    string
	schema   *change.Schema
	messages []*encode.Message
}

// event does what an event means that is no row.
func (w *writer) event(ctx context.Context, m *encode.Message) error {
	switch m.Operation {
	case change.Definition:
		return w.schemaEvent(ctx, m)
	case change.Truncate:
		return w.truncate(ctx, m)
	case change.Void:
		return w.void(ctx, m)
	case change.Loaded:
		return w.loaded(ctx, m)
	default: // an application's message is no row of a table
		return nil
	}
}

func (w *writer) rows(ctx context.Context, r *run, few int) error {
	b, err := w.bind(ctx, r)
	if err != nil {
		return err
	}
	if err := w.noteLoading(ctx, b, r); err != nil {
		return err
	}
	switch {
	case b.keep == sql.Versions && len(r.messages) > few:
		return w.versions(ctx, b, r.messages)
	case len(r.messages) > few:
		return w.setwise(ctx, b, r.messages)
	}
	return w.single(ctx, b, r.messages)
}

// keyless is the fault of a change to a row that cannot be found.
func keyless(m *encode.Message) error {
	return &engine.Fault{Code: "no-key", Final: true, Message: fmt.Sprintf("%s has no key, and its rows are changed and deleted: the row of the %s at offset %d cannot be found in the target", m.Table, m.Operation, m.Offset),
		Fix: "give the table a key in the source's rules, keep its rows as versions, or let the outlet take inserts only (operations)"}
}
