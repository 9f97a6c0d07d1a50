package sql

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// What one table cannot take holds that table alone: its events are passed over from there on,
// and the others go on. It is outside the promise of whole transactions meanwhile. A load of all
// of its rows leads on, and so do leaving it out, and letting it pass on somebody's word, who
// then answers for what was passed over.

// Hold says why the events of a table are passed over.
type Hold struct {
	// Offset is the first event that the table could not take.
	Offset int64  `json:"offset"`
	Code   string `json:"code"`
	Why    string `json:"why"`
	Fix    string `json:"fix,omitempty"`
}

// holdable are the faults that concern one table, whatever the others are like.
var holdable = []string{codeNoKey, codeDefinitionRefused, codeNoUniqueKey, "column-taken", codeLoadRefused, codeNoColumns, CodeKeysEqual, CodeNoSuchName}

const (
	// CodeNoSuchName is the code of a fault of a [Database] over a name that it takes for nothing.
	CodeNoSuchName = "no-such-name"
	// CodeKeysEqual is the code of a fault over keys that are two in the source and one here.
	CodeKeysEqual = "keys-equal"
)

const (
	codeNoKey             = "no-key"
	codeNoUniqueKey       = "no-unique-key"
	codeDefinitionRefused = "definition-refused"
	codeLoadRefused       = "load-refused"
	codeNoColumns         = "no-columns"
)

// tableError is an error that concerns one table of the source, from an event on.
type tableError struct {
	source string
	offset int64
	err    error
}

func (e *tableError) Error() string { return e.err.Error() }
func (e *tableError) Unwrap() error { return e.err }

// of says of an error which table it is about, where that table can be held for it.
func (w *Writer) of(source string, offset int64, err error) error {
	if err == nil || w.plan != nil || source == "" {
		return err
	}
	var known *tableError
	if errors.As(err, &known) {
		return err
	}
	var fault *engine.Fault
	if !errors.As(err, &fault) || !slices.Contains(holdable, fault.Code) {
		return err
	}
	if fault.Code == codeNoUniqueKey || fault.Code == CodeKeysEqual {
		if known := w.onRecord[source]; known == nil || known.Target == "" || known.Untouched {
			return err // it was never right, and nothing has been written: somebody has to see to it first
		}
	}
	return &tableError{source, offset, err}
}

// unfitAt is an event, by which its table is found.
type unfitAt struct {
	source string
	offset int64
}

// isHeld reports whether an event is passed over since its table is held from one before it on.
func (w *Writer) isHeld(m *encode.Message) bool {
	state := w.record.Tables[m.Table]
	return state != nil && state.Held != nil && m.Offset >= state.Held.Offset
}

// hold has the events of a table passed over from one on, and says so.
func (w *Writer) hold(e *tableError) {
	held := w.passOver(e)
	w.log("error", "table-held", fmt.Sprintf("%s is held at offset %d, the other tables go on: %s. Fix: %s", e.source, held.Offset, held.Why, held.Fix))
}

// passOver is hold for an error that has been told.
func (w *Writer) passOver(e *tableError) *Hold {
	held := &Hold{Offset: e.offset, Code: codeDefinitionRefused, Why: e.err.Error()}
	var fault *engine.Fault
	if errors.As(e.err, &fault) {
		said := *fault
		said.Fix = ""
		held.Code, held.Why = fault.Code, said.Error()
	}
	held.Fix = fmt.Sprintf("`rillmark outlet load %s --tables %s` once the cause is gone; or leave the table out; or `rillmark outlet resume %[1]s --let-pass %[3]d`, which goes on without what was passed over", w.outlet.Name, change.Argument(e.source), e.offset)
	if fault != nil && fault.Code != codeDefinitionRefused && fault.Fix != "" {
		held.Fix = fault.Fix + "; then " + held.Fix
	}
	state := &TableState{Keep: w.kept(e.source)}
	if before := w.record.Tables[e.source]; before != nil {
		copied := *before
		state = &copied
	}
	state.Held = held
	delete(w.tables, e.source)
	w.setState(e.source, state)
	w.tellHeld()
	return held
}

// tellHeld says which tables are not what the source's are.
func (w *Writer) tellHeld() {
	if w.outlet.Held == nil {
		return
	}
	var all []destination.Held
	for _, source := range slices.Sorted(maps.Keys(w.record.Tables)) {
		switch state := w.record.Tables[source]; {
		case state.Held != nil:
			all = append(all, destination.Held{Table: source, Offset: state.Held.Offset, Code: state.Held.Code, Why: state.Held.Why, Fix: state.Held.Fix})
		case state.Lacks != "":
			all = append(all, destination.Held{Table: source, Code: "values-missing", Why: state.Lacks, Fix: fmt.Sprintf("`rillmark outlet load %s --tables %s`", w.outlet.Name, change.Argument(source))})
		}
	}
	w.outlet.Held(all)
}

// letPass goes on with tables that somebody has let pass.
func (w *Writer) letPass() {
	for source, state := range w.record.Tables {
		if state.Held == nil || state.Held.Offset > w.outlet.LetPass {
			continue
		}
		now := *state
		now.Held, now.Lacks = nil, fmt.Sprintf("it was held at offset %d, and let pass: what came in between is not here", state.Held.Offset)
		if now.Target == "" {
			delete(w.record.Tables, source) // it was never made
			w.record.TablesChanged = true
		} else {
			w.setState(source, &now)
		}
		w.log("warn", "table-passes", fmt.Sprintf("%s goes on behind offset %d, as somebody has said", source, state.Held.Offset))
	}
}

// passes reports whether an event is passed over since its table is held. The beginning of a load
// of all rows ends that: the table gets the definition that they need, whatever it is like.
func (w *Writer) passes(ctx context.Context, m *encode.Message) (bool, error) {
	if !w.isHeld(m) {
		return false, nil
	}
	state := *w.record.Tables[m.Table]
	if m.Operation != change.Void || m.Schema == nil || state.Held.Offset == m.Offset {
		return true, nil // that very event is what the table cannot take
	}
	state.Held = nil
	if state.Target == "" {
		delete(w.record.Tables, m.Table)
		w.record.TablesChanged = true
	} else {
		state.Loading, state.Since = "", 0
		w.setState(m.Table, &state)
	}
	delete(w.tables, m.Table)
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return false, err
	}
	if err := w.reconcile(ctx, t, m); err != nil {
		return false, err
	}
	w.log("info", "table-loads", m.Table+" is held no longer: all of its rows are loaded")
	w.tellHeld()
	return false, nil
}

// reconcile gives a table of which it is not known what its rows have followed the definition of
// a version. All rows that are there are void.
func (w *Writer) reconcile(ctx context.Context, t *Table, m *encode.Message) error {
	for i := range m.Schema.Columns {
		c := &m.Schema.Columns[i]
		known := t.Column(c.Name)
		if known == nil || known.Generated {
			continue
		}
		if err := w.retypeOne(ctx, t, m, c, known, true); err != nil {
			return err
		}
	}
	if err := w.alter(ctx, t, m.Schema); err != nil {
		return err
	}
	key := keyNames(m.Schema)
	if t.Keep == Versions || (len(key) == 0 || t.isUnique(key)) && !leftKey(t, m.Schema) {
		return nil
	}
	statement := w.db.Rekey(t, w.quoted(key), false)
	if statement == "" {
		return nil
	}
	if refused, err := w.tried(ctx, t, statement); err != nil || refused == nil {
		if err = w.lookedAgain(ctx, t, err); err != nil || w.plan != nil {
			return err
		}
		return w.alter(ctx, t, m.Schema) // the former key's columns may be null now
	}
	// Rows that are there have no such key, or share one: they are void.
	if err := w.begun(ctx); err != nil {
		return err
	}
	if err := w.exec(ctx, "DELETE FROM "+t.SQL); err != nil {
		return err
	}
	if err := w.lookedAgain(ctx, t, w.define(ctx, t, statement)); err != nil || w.plan != nil {
		return err
	}
	return w.alter(ctx, t, m.Schema)
}

// leftKey reports whether a table's primary key has a column for which rows of a version have no
// value, and which gives them none: the key is that of a table which is no more.
func leftKey(t *Table, now *change.Schema) bool {
	return slices.ContainsFunc(t.Primary, func(name string) bool {
		known := t.Column(name)
		if known == nil || known.Generated || known.Defaulted || slices.Contains(t.Keep.Own(), name) {
			return false
		}
		c := now.Column(name)
		return c == nil || c.Nullable
	})
}

func (w *Writer) lookedAgain(ctx context.Context, t *Table, err error) error {
	if err != nil || w.plan != nil {
		return err
	}
	return w.lookAgain(ctx, t)
}

// tried runs a statement that makes or alters a table and may be refused for what is in it:
// refused says so, and nothing has come of it then.
func (w *Writer) tried(ctx context.Context, t *Table, statements ...string) (refused, err error) {
	transactional := w.db.TransactionalDefinitions() && w.plan == nil
	if transactional {
		if err := w.begun(ctx); err != nil {
			return nil, err
		}
		if err := w.exec(ctx, "SAVEPOINT tried"); err != nil {
			return nil, err
		}
	}
	err = w.define(ctx, t, statements...)
	var fault *engine.Fault
	if err != nil && (!errors.As(err, &fault) || fault.Code != codeDefinitionRefused) {
		return nil, err
	}
	if !transactional {
		return err, nil
	}
	if err != nil {
		w.db.Undone()
		return err, w.exec(ctx, "ROLLBACK TO SAVEPOINT tried")
	}
	return nil, w.exec(ctx, "RELEASE SAVEPOINT tried")
}

// retypeOne gives a column the type of a source's column, if it has another one: by the server's
// own conversion, by way of its text, and last as another column under its name, beside which the
// former one stays or goes, as the outlet says. Where all rows are void, they go before that.
func (w *Writer) retypeOne(ctx context.Context, t *Table, m *encode.Message, c *change.Column, known *Column, void bool) error {
	kind, prior, err := w.db.TypeOf(ctx, m.Schema, c, w.definable)
	if err != nil {
		return err
	}
	if known.Kind == kind {
		return nil
	}
	other := *known
	other.Kind = kind
	refused, err := w.retyped(ctx, t, &other, prior)
	if err == nil && refused != nil && void && t.Keep == Current {
		if err = w.begun(ctx); err == nil {
			err = w.exec(ctx, "DELETE FROM "+t.SQL)
		}
		if err == nil {
			refused, err = w.retyped(ctx, t, &other, prior)
		}
	}
	if err != nil {
		return err
	}
	if refused != nil && slices.Contains(t.Primary, known.Name) {
		return refused
	}
	if refused != nil {
		if err := w.makeWay(ctx, t, m.Offset, known.Name); err != nil {
			return err
		}
		added := &Column{Name: c.Name, Kind: kind}
		if err := w.define(ctx, t, w.db.AddColumn(t, added)); err != nil {
			return err
		}
		t.Columns = append(t.Columns, added)
		return w.lacks(ctx, t, m, fmt.Sprintf("column %s is %s now, which its former values could not become: rows have none until the table is loaded again", c.Name, kind))
	}
	known.Kind = kind
	if w.plan != nil {
		return nil
	}
	return w.lookAgain(ctx, t) // its collation may be another
}

// retyped tries the ways to give a column another type, one after the other.
func (w *Writer) retyped(ctx context.Context, t *Table, c *Column, prior []string) (refused, err error) {
	for n, way := range w.db.Retype(t, c) {
		statements := []string{way}
		if n == 0 {
			statements = append(slices.Clone(prior), way)
		}
		if refused, err = w.tried(ctx, t, statements...); err != nil || refused == nil {
			return nil, err
		}
	}
	return refused, nil
}

// lacks notes that rows of a table lack values, and has all of them read for this outlet alone,
// where that can be and no load is under way that brings them.
func (w *Writer) lacks(ctx context.Context, t *Table, m *encode.Message, why string) error {
	state := *w.record.Tables[t.Source]
	if w.plan != nil || state.Loading != "" || state.Since > 0 {
		return nil
	}
	state.Lacks = why
	w.setState(t.Source, &state)
	w.log("warn", "values-missing", t.Source+": "+why)
	w.tellHeld()
	if w.outlet.ReadAgain == nil {
		return nil
	}
	return w.outlet.ReadAgain(ctx, m.Schema, nil)
}

// makeWay takes a column out of the way of another one that comes under its name: it gets another
// name, or goes, as the outlet says of columns that the source has dropped.
func (w *Writer) makeWay(ctx context.Context, t *Table, offset int64, name string) error {
	known := t.Column(name)
	if w.options.DroppedColumns == "drop" {
		if err := w.define(ctx, t, w.db.DropColumn(t, known.Name)); err != nil {
			return err
		}
		t.Columns = slices.DeleteFunc(t.Columns, func(c *Column) bool { return c == known })
		return nil
	}
	end := fmt.Sprintf("_until_%d", max(offset, 0))
	to := cut(known.Name, w.db.LongestName()-len(end)) + end
	if t.Column(to) != nil {
		return nil // it was done, and the service ended before the rest was
	}
	if err := w.define(ctx, t, w.db.Rename(t, []change.Rename{{From: known.Name, To: to}})...); err != nil {
		return err
	}
	w.log("info", "column-aside", fmt.Sprintf("column %s of %s, which the source has no longer, is called %s now: another one has come under its name", known.Name, t.SQL, to))
	known.Name = to
	return nil
}
