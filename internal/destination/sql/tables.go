package sql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// look reads the definition of the table for a table of the source, which has no columns
// where it is not there.
func (w *Writer) look(ctx context.Context, source string) (*Table, error) {
	schema, name, err := w.options.Place(source, w.db.LongestName())
	if err != nil {
		return nil, err
	}
	t := &Table{Source: source, Schema: schema, Name: name, SQL: w.db.Quote(schema) + "." + w.db.Quote(name), Keep: w.kept(source)}
	if err := w.db.Look(ctx, t); err != nil {
		return nil, err
	}
	if t.NotTable {
		return nil, &engine.Fault{Code: "no-table", Final: true, Message: t.SQL + " is no table", Fix: "rename it, or give the outlet another name for " + source}
	}
	return t, nil
}

// lookAgain reads the definition of a table once more.
func (w *Writer) lookAgain(ctx context.Context, t *Table) error {
	now, err := w.look(ctx, t.Source)
	if err == nil {
		t.Columns, t.Uniques, t.Primary, t.PrimaryName, t.Indexes = now.Columns, now.Uniques, now.Primary, now.PrimaryName, now.Indexes
	}
	return err
}

// tableFor is the table for rows of a table of the source, made where there is none.
func (w *Writer) tableFor(ctx context.Context, source string, schema *change.Schema) (*Table, error) {
	if t := w.tables[source]; t != nil {
		return t, nil
	}
	if schema != nil && len(schema.Columns) == 0 && w.kept(source) == Current {
		return nil, &engine.Fault{Code: codeNoColumns, Message: source + " has no columns: there is nothing to keep", Fix: "give it one"}
	}
	t, err := w.look(ctx, source)
	if err != nil {
		return nil, err
	}
	for _, other := range w.tables {
		if other.SQL == t.SQL {
			return nil, w.sameTable(other.Source, source, t.SQL)
		}
	}
	if err := w.claim(ctx, t); err != nil {
		return nil, err
	}
	state := w.record.Tables[source]
	if err := w.asBefore(t, state); err != nil {
		return nil, err
	}
	switch {
	case len(t.Columns) == 0:
		if err := w.create(ctx, t, schema); err != nil {
			return nil, err
		}
		if state == nil {
			state = t.fresh()
		}
	case state == nil:
		if state, err = w.meet(ctx, t, schema); err != nil {
			return nil, err
		}
	}
	t.loading = state.Loading
	if w.record.Tables[source] == nil || state.Rewound {
		now := *state
		now.Reading = now.Reading || w.record.Tables[source] == nil
		now.Rewound = false
		w.setState(source, &now)
	}
	w.tables[source] = t
	return t, nil
}

func (w *Writer) sameTable(one, other, target string) error {
	return &engine.Fault{Code: "same-table", Final: true, Message: fmt.Sprintf("%s and %s would both be written into %s", one, other, target),
		Fix: fmt.Sprintf("give the outlet templates in %s.schema and %[1]s.table that keep them apart, name one of them in %[1]s.renamed_tables, or leave it out", w.options.kind)}
}

func (w *Writer) setState(source string, state *TableState) {
	w.record.Tables[source], w.record.TablesChanged = state, true
}

// rowsCome says that rows of a table are written from now on.
func (w *Writer) rowsCome(source string) {
	if state := w.record.Tables[source]; state.Untouched {
		now := *state
		now.Untouched = false
		w.setState(source, &now)
	}
}

// claim refuses a table that another outlet writes.
func (w *Writer) claim(ctx context.Context, t *Table) error {
	other, err := w.db.Other(ctx, t.SQL)
	if err != nil || other == "" {
		return err
	}
	schema, name := w.options.OffsetsTable()
	return &engine.Fault{Code: "same-table", Final: true, Message: fmt.Sprintf("the outlet %s writes %s already", other, t.SQL),
		Fix: fmt.Sprintf("give this outlet another schema or names of its own, or leave the table out; if %s is gone for good, DELETE FROM %s.%s WHERE outlet = %s", other, w.db.Quote(schema), w.db.Quote(name), w.db.Literal(other))}
}

// fresh is the state of a table that nothing is under way in.
func (t *Table) fresh() *TableState { return &TableState{Target: t.SQL, Keep: t.Keep} }

// asBefore refuses a table that is not the one that the outlet has written so far: rows
// would be missing there.
func (w *Writer) asBefore(t *Table, state *TableState) error {
	again := "add another outlet, or `rillmark outlet rewind " + w.outlet.Name + " --to beginning`"
	switch {
	case state == nil:
		return nil
	case state.Target != t.SQL:
		return &engine.Fault{Code: "other-table", Final: true, Message: fmt.Sprintf("the rows of %s are in %s, and the outlet now names %s", t.Source, state.Target, t.SQL),
			Fix: "give the outlet its former names again, or rename the table and say so in " + w.options.Offsets + "; for a table that begins anew, add another outlet"}
	case state.Keep != t.Keep:
		return &engine.Fault{Code: "other-table", Final: true, Message: fmt.Sprintf("the rows of %s are kept as %s, and the outlet now says %s", t.Source, state.Keep, t.Keep),
			Fix: "set it back, or add another outlet with names of its own"}
	case len(t.Columns) == 0 && !state.Rewound:
		return &engine.Fault{Code: "table-gone", Final: true, Message: fmt.Sprintf("%s is gone, and with it the rows that the outlet has written", t.SQL), Fix: "bring it back from a backup, or " + again}
	}
	return nil
}

// meet decides what becomes of the rows of a table that the outlet comes to for the first
// time.
func (w *Writer) meet(ctx context.Context, t *Table, schema *change.Schema) (*TableState, error) {
	state := t.fresh()
	state.Untouched = true
	filled, err := w.db.Filled(ctx, t, "true")
	switch {
	case err != nil || !filled:
		return state, err
	case w.options.Present == "keep":
		state.Kept = true
		return state, nil
	case w.options.Present == "refuse":
		return nil, w.hasRows(t)
	}
	if err := w.alter(ctx, t, schema); err != nil {
		return nil, err
	}
	return state, w.beginReload(ctx, t, schema, state)
}

func (w *Writer) hasRows(t *Table) error {
	return &engine.Fault{Code: "table-has-rows", Final: true, Message: fmt.Sprintf("%s has rows that the outlet did not write", t.SQL),
		Fix: fmt.Sprintf("empty it, or set %s.present in the outlet: replace removes, once the load is complete, what the source does not have; keep leaves them", w.options.kind)}
}

// definable says why a table is not made or altered where that is so.
func (w *Writer) definable(what string, statements ...string) error {
	if w.options.Definitions == "follow" {
		if w.planned(statements...) {
			return errPlanned
		}
		return nil
	}
	return &engine.Fault{Code: "definition-needed", Final: true, Message: fmt.Sprintf("%s is not as the source's rows need it, and the outlet's definitions are fixed", what),
		Fix: "run this on the database, then `rillmark outlet resume " + w.outlet.Name + "`: " + strings.Join(statements, "; ")}
}

// onlyPlanned has TypeOf say what a type needs, and do nothing.
func onlyPlanned(string, ...string) error { return errPlanned }

// define runs statements that make or alter a table, within the open transaction where the
// database can. Elsewhere what is open is committed first, and each statement can be run
// again: it is made from what is there.
func (w *Writer) define(ctx context.Context, t *Table, statements ...string) error {
	if len(statements) == 0 {
		return nil
	}
	if err := w.definable(t.SQL, statements...); err != nil {
		if errors.Is(err, errPlanned) {
			return nil
		}
		return err
	}
	if err := w.settle(ctx); err != nil {
		return err
	}
	w.db.Redefined()
	for _, statement := range statements {
		if err := w.exec(ctx, statement); err != nil {
			if w.db.RefusesDefinition(err) || w.db.RefusesRow(err) {
				return &engine.Fault{Code: codeDefinitionRefused, Final: true, Cause: err, Message: "the database refuses: " + statement,
					Fix: "alter the table by hand so that it holds the source's rows, then `rillmark outlet resume " + w.outlet.Name + "`"}
			}
			return err
		}
	}
	return nil
}

// settle commits what is written so far, with the offset, where the next statement would
// commit it without.
func (w *Writer) settle(ctx context.Context) error {
	if w.db.TransactionalDefinitions() || !w.open && !w.record.TablesChanged {
		return nil
	}
	if err := w.begun(ctx); err != nil {
		return err
	}
	return w.commit(ctx, max(w.reached, w.durable))
}

// create makes a table as the rows of a schema version need it.
func (w *Writer) create(ctx context.Context, t *Table, schema *change.Schema) error {
	statements, err := w.db.MakeSchema(ctx, t.Schema)
	if err != nil {
		return err
	}
	for i := range schema.Columns {
		c := &schema.Columns[i]
		kind, before, err := w.db.TypeOf(ctx, schema, c, w.definable)
		if err != nil {
			return err
		}
		statements = appendNew(statements, before)
		t.Columns = append(t.Columns, &Column{Name: c.Name, Kind: kind, NotNull: c.Key > 0 || !c.Nullable && t.Keep == Current})
	}
	for _, c := range w.db.Own(t.Keep) {
		if t.Column(c.Name) != nil {
			return w.ownColumn(t, c.Name)
		}
		t.Columns = append(t.Columns, c)
	}
	key := keyNames(schema)
	if t.Keep == Versions {
		statements = append(statements, w.db.Create(t, nil)...)
		if len(key) > 0 {
			statements = append(statements, w.db.VersionsIndex(t, w.quoted(key)))
		}
	} else {
		statements = append(statements, w.db.Create(t, w.quoted(key))...)
	}
	if err := w.define(ctx, t, statements...); err != nil || w.plan != nil {
		return err
	}
	if err := w.lookAgain(ctx, t); err != nil {
		return err
	}
	w.log("info", "table-made", "made "+t.SQL+" for "+t.Source)
	return nil
}

func keyNames(schema *change.Schema) []string {
	var key []string
	for _, i := range schema.Key() {
		key = append(key, schema.Columns[i].Name)
	}
	return key
}

func (w *Writer) quoted(names []string) []string {
	all := make([]string, len(names))
	for i, name := range names {
		all[i] = w.db.Quote(name)
	}
	return all
}

// appendNew appends statements that are not among them yet: two columns may need one type.
func appendNew(statements, more []string) []string {
	for _, one := range more {
		if !slices.Contains(statements, one) {
			statements = append(statements, one)
		}
	}
	return statements
}

func (w *Writer) ownColumn(t *Table, name string) error {
	return &engine.Fault{Code: "column-taken", Final: true, Message: fmt.Sprintf("%s has a column %s of its own, which rows kept as %s need for something else", t.Source, name, t.Keep),
		Fix: "keep its rows as current, or leave the column out by a rule of the source"}
}
