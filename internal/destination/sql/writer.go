package sql

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// Writer delivers one outlet over one session. A transaction of its own is open while one of
// the source's is not complete: readers see all of it or nothing.
type Writer struct {
	db      Database
	options *Options
	outlet  destination.Outlet
	kept    func(table string) Keep
	record  *Record
	// onRecord are the tables of the record as they are committed; it is replaced, never changed.
	onRecord map[string]*TableState
	// saved is what the tables were at savepoints, by their names.
	saved    map[string]map[string]*TableState
	tables   map[string]*Table
	open     bool // a transaction is
	durable  int64
	reached  int64           // the newest message that has been written, or refused
	recorded time.Time       // when record.Offset was put on record
	cautious map[string]int  // tables whose new rows were there lately: batches until it is tried again
	leftover map[string]bool // tables that go once the transaction is over
	net      Net
	fetched  map[string]bool // rows that are read again, since the last commit, by table and key
	plan     *[]string       // where statements that define tables are only noted; see [Plan]
	// touched are the tables, by their names in the source, that the open transaction has
	// written; noted where definitions are no part of transactions.
	touched map[string]bool
	// unfit are the events of the messages at hand that their tables cannot take, as far as is known:
	// from each on its table is held, in the order of the messages.
	unfit map[unfitAt]*tableError
}

// Begin makes a session the one that writes for an outlet. It becomes the writer's own.
func Begin(ctx context.Context, db Database, options *Options, outlet destination.Outlet) (*Writer, error) {
	w := &Writer{db: db, options: options, outlet: outlet, tables: make(map[string]*Table), cautious: make(map[string]int), saved: make(map[string]map[string]*TableState), leftover: make(map[string]bool), fetched: make(map[string]bool), touched: make(map[string]bool)}
	err := w.begin(ctx)
	if err != nil {
		db.Close() //nolint:errcheck // the first error is the one to report
		return nil, db.Explained(err)
	}
	return w, nil
}

func (w *Writer) begin(ctx context.Context) (err error) {
	if w.kept, err = w.options.Kept(); err != nil {
		return err
	}
	if w.record, err = w.db.TakeOver(ctx, w.outlet); err != nil {
		return err
	}
	if w.record.Tables == nil {
		w.record.Tables = make(map[string]*TableState)
	}
	w.onRecord = maps.Clone(w.record.Tables)
	w.letPass()
	w.tellHeld()
	if w.record.Run != w.outlet.Run {
		if err := w.rewound(ctx); err != nil {
			return err
		}
	}
	w.durable, w.reached = w.record.Offset, w.record.Offset
	return nil
}

// rewound begins again: what the tables are does not matter any more, but for versions of
// later offsets, which would come again.
func (w *Writer) rewound(ctx context.Context) error {
	r := w.record
	r.Run, r.Offset, r.TablesChanged = w.outlet.Run, w.outlet.Committed, true
	if err := w.db.Begin(ctx); err != nil {
		return err
	}
	if err := w.takeBack(ctx); err != nil {
		return err
	}
	for source, state := range r.Tables {
		now := *state
		now.Rewound, now.Held, now.Lacks = true, nil, ""
		r.Tables[source] = &now
	}
	if err := w.db.WriteRecord(ctx, r); err != nil {
		return err
	}
	w.tablesRecorded()
	return w.exec(ctx, "COMMIT")
}

// ErrFenced ends a delivery that another session has taken over.
var ErrFenced = &engine.Fault{Code: "taken-over", Message: "another session writes for this outlet now; what was not committed is written by that one"}

// SessionName is the name of an outlet's session, by which a later one of the same outlet
// finds it.
func SessionName(o destination.Outlet) string {
	name := "rillmark outlet " + o.Name
	return name[:min(len(name), 63)]
}

func (w *Writer) log(level, event, message string) {
	if w.outlet.Log != nil {
		w.outlet.Log(level, event, message)
	}
}

// Delivered implements [destination.Writer].
func (w *Writer) Delivered() int64 { return w.durable }

// MidTransaction reports whether a transaction of the source is not complete here.
func (w *Writer) MidTransaction() bool { return w.open }

// passedEvery is how often the offset is put on record where only events have passed that
// are no rows for this outlet.
const passedEvery = 10 * time.Second

// Flush implements [destination.Writer]. What is part of an open transaction is durable only
// with the rest of it.
func (w *Writer) Flush(ctx context.Context, last bool) (int64, error) {
	if w.open || w.durable == w.record.Offset || !last && time.Since(w.recorded) < passedEvery {
		return w.durable, nil
	}
	r := *w.record
	r.Offset = w.durable
	if err := w.db.WriteRecord(ctx, &r); err != nil {
		return 0, w.db.Explained(err)
	}
	*w.record = r
	w.recorded = time.Now()
	w.tablesRecorded()
	return w.durable, nil
}

// Close implements [destination.Writer].
func (w *Writer) Close() error { return w.db.Close() }

// Send implements [destination.Writer].
func (w *Writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	refused, err := w.send(ctx, batch)
	if err == nil {
		return refused, nil
	}
	if w.open {
		w.open = false
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		w.db.Exec(last, "ROLLBACK") //nolint:errcheck // the first error is the one to report
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return nil, w.db.Explained(err)
}

func (w *Writer) send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	if written, err := w.atOnce(ctx, batch); written || err != nil {
		return nil, err
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

// fewest rows go to the server with the offset, in one go.
const (
	fewest      = 32
	fewestBytes = 64 << 10
)

// atOnce writes few rows of whole transactions, of tables that are as they were.
func (w *Writer) atOnce(ctx context.Context, batch *encode.Batch) (bool, error) {
	n := len(batch.Messages)
	if w.open || w.record.TablesChanged || n == 0 || n > fewest || batch.Messages[n-1].Offset > batch.Whole || batch.Bytes() > fewestBytes {
		return false, nil
	}
	messages, bindings := make([]*encode.Message, 0, fewest), make([]*Binding, 0, fewest)
	for i := range batch.Messages {
		m := &batch.Messages[i]
		t := w.tables[m.Table]
		if !m.Operation.IsRow() || t == nil || t.loading != "" || !t.bound.fits(m.Schema) || m.Rekeyed != nil {
			return false, nil
		}
		if len(t.bound.Key) == 0 && t.Keep != Versions && m.Before != nil {
			return false, nil // it holds the table
		}
		messages, bindings = append(messages, m), append(bindings, t.bound)
	}
	if slices.ContainsFunc(messages, leavesOut) {
		byTable := make(map[*Binding][]*encode.Message)
		for i, b := range bindings {
			byTable[b] = append(byTable[b], messages[i])
		}
		for b, of := range byTable {
			if lacking, err := w.lacking(ctx, b, of); err != nil || len(lacking) > 0 {
				return false, err
			}
		}
	}
	r := *w.record
	r.Offset, r.Committed = max(batch.Whole, w.durable), messages[n-1].Committed
	written, err := w.db.AtOnce(ctx, bindings, messages, &r)
	if written {
		*w.record = r
		w.done(r.Offset)
		w.durable = max(w.durable, batch.Last)
	}
	return written, err
}

func (w *Writer) commit(ctx context.Context, offset int64) error {
	w.record.Offset = offset
	if err := w.db.WriteRecord(ctx, w.record); err != nil {
		return err
	}
	if err := w.exec(ctx, "COMMIT"); err != nil {
		return err
	}
	w.open = false
	clear(w.touched)
	w.done(offset)
	for name := range w.leftover {
		if err := w.exec(ctx, "DROP TABLE IF EXISTS "+name); err != nil {
			return err
		}
		delete(w.leftover, name)
	}
	return nil
}

// done notes that everything up to an offset is committed, and the record with it.
func (w *Writer) done(offset int64) {
	w.durable, w.recorded = offset, time.Now()
	w.reached = max(w.reached, offset)
	clear(w.fetched)
	w.tablesRecorded()
}

func (w *Writer) tablesRecorded() {
	if w.record.TablesChanged {
		w.record.TablesChanged, w.onRecord = false, maps.Clone(w.record.Tables)
	}
}

func (w *Writer) exec(ctx context.Context, statement string) error {
	_, err := w.db.Exec(ctx, statement)
	return err
}

func (w *Writer) begun(ctx context.Context) error {
	if w.open {
		return nil
	}
	err := w.db.Begin(ctx)
	w.open = err == nil
	return err
}

// segment writes messages behind a savepoint. What the database refuses is kept as a dead
// letter before the offset that passes it can be committed.
func (w *Writer) segment(ctx context.Context, batch *encode.Batch, from, to int, behind *destination.Behind) ([]destination.Refusal, error) {
	if err := w.bindAll(ctx, batch.Messages[from:to]); err != nil {
		return nil, err
	}
	if err := w.begun(ctx); err != nil {
		return nil, err
	}
	if err := w.savepoint(ctx, "part"); err != nil {
		return nil, err
	}
	w.record.Committed = batch.Messages[to-1].Committed
	err := w.applied(ctx, batch.Messages[from:to], fewRows)
	if w.db.IsUnique(err) {
		// Values may be unique only once all rows are written: together they are.
		if err := w.rollbackTo(ctx, "part"); err != nil {
			return nil, err
		}
		err = w.applied(ctx, batch.Messages[from:to], 0)
	}
	if err == nil {
		return nil, w.exec(ctx, "RELEASE SAVEPOINT part")
	}
	if !w.db.RefusesRow(err) || engine.IsFinal(err) {
		return nil, err
	}
	if err := w.rollbackTo(ctx, "part"); err != nil {
		return nil, err
	}
	refused, err := w.oneByOne(ctx, batch, from, to, behind)
	if err == nil && len(refused) > 0 {
		err = w.outlet.KeepRefused(ctx, batch, refused)
	}
	if err == nil {
		err = w.noteRefused(ctx, batch, refused)
	}
	if err != nil {
		return nil, err
	}
	return refused, w.exec(ctx, "RELEASE SAVEPOINT part")
}

// applied applies messages behind the savepoint part; tables that cannot take theirs are held from
// there on, and the others written without them.
func (w *Writer) applied(ctx context.Context, messages []encode.Message, few int) error {
	defer func() { w.unfit = nil }()
	for {
		err := w.apply(ctx, messages, few)
		one := new(tableError)
		if !errors.As(err, &one) || w.unfit[unfitAt{one.source, one.offset}] != nil {
			return err
		}
		w.hold(one) // to be told; what is on record of it is taken back, too
		if err := w.rollbackTo(ctx, "part"); err != nil {
			return err
		}
		if w.unfit == nil {
			w.unfit = make(map[unfitAt]*tableError)
		}
		w.unfit[unfitAt{one.source, one.offset}] = one
	}
}

// oneByOne finds out which messages are refused, and writes the others.
func (w *Writer) oneByOne(ctx context.Context, batch *encode.Batch, from, to int, behind *destination.Behind) (refused []destination.Refusal, err error) {
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
			one := new(tableError)
			held := errors.As(err, &one)
			if !held && (!w.db.RefusesRow(err) || engine.IsFinal(err)) {
				return nil, err
			}
			if rolling := w.rollbackTo(ctx, "one"); rolling != nil {
				return nil, rolling
			}
			if held {
				w.hold(one)
				continue
			}
			err = w.db.Refusal(m.Table, err)
		}
		for ; i < end; i++ {
			refused = append(refused, destination.Refusal{Index: i, Err: err})
			behind.Refused(&batch.Messages[i])
		}
	}
	return refused, nil
}

// rollbackTo takes back what was done since a savepoint. Tables may have been made or
// altered since: they are looked at again.
func (w *Writer) rollbackTo(ctx context.Context, savepoint string) error {
	if w.db.TransactionalDefinitions() {
		clear(w.tables)
	}
	w.db.Undone()
	w.record.Tables = maps.Clone(w.saved[savepoint])
	return w.exec(ctx, "ROLLBACK TO SAVEPOINT "+savepoint)
}

func (w *Writer) savepoint(ctx context.Context, name string) error {
	w.saved[name] = maps.Clone(w.record.Tables)
	return w.exec(ctx, "SAVEPOINT "+name)
}

// fewRows are written one after another rather than at once.
const fewRows = 100

// apply writes messages in their order, as far as that can be seen: rows of one table
// between two events about whole tables may go together, where they are more than few.
func (w *Writer) apply(ctx context.Context, messages []encode.Message, few int) error {
	var runs []*run
	byTable := make(map[string]*run)
	flush := func() error {
		for _, r := range runs {
			if err := w.rows(ctx, r, few); err != nil {
				return w.of(r.table, r.messages[0].Offset, err)
			}
		}
		runs = runs[:0]
		clear(byTable)
		return nil
	}
	for i := range messages {
		m := &messages[i]
		if one := w.unfit[unfitAt{m.Table, m.Offset}]; one != nil {
			if err := flush(); err != nil {
				return err
			}
			w.passOver(one)
		}
		if m.Operation.IsRow() {
			if w.isHeld(m) {
				continue
			}
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
			return w.of(m.Table, m.Offset, err)
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
func (w *Writer) event(ctx context.Context, m *encode.Message) error {
	if passed, err := w.passes(ctx, m); passed || err != nil {
		return err
	}
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

func (w *Writer) rows(ctx context.Context, r *run, few int) error {
	b, err := w.bind(ctx, r.table, r.schema)
	if err != nil {
		return err
	}
	w.rowsCome(r.table)
	if err := w.noteLoading(ctx, b, r); err != nil {
		return err
	}
	messages, err := w.fetch(ctx, b, r.messages)
	switch {
	case err != nil:
		return err
	case b.Keep == Versions && len(messages) > few:
		return w.versions(ctx, b, messages)
	case len(messages) > few:
		return w.setwise(ctx, b, messages)
	}
	return w.db.Single(ctx, b, messages)
}

// Keyless is the fault of a change to a row that cannot be found.
func Keyless(m *encode.Message) error {
	return &engine.Fault{Code: codeNoKey, Final: true, Message: fmt.Sprintf("%s has no key, and its rows are changed and deleted: the row of the %s at offset %d cannot be found in the target", m.Table, m.Operation, m.Offset),
		Fix: "give the table a key in the source's rules, keep its rows as versions, or let the outlet take inserts only (operations)"}
}

// list joins quoted names.
func list(names []string) string { return strings.Join(names, ", ") }
