package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/stream"
)

// step is something to do at a place of the log; brings says that it adds an event.
type step struct {
	brings bool
	do     func()
}

// statement takes a statement on tables; it has a number in its group. All that it brings
// is one unit.
func (r *run) statement(ctx context.Context, s *stream.Stream, e stream.Event, number int) error {
	if r.group.head.Extra&(binlog.AlterStart|binlog.AlterRollback) != 0 {
		return nil // an ALTER in two steps holds from its second on
	}
	text, q, err := r.statementOf(e)
	if err != nil {
		return s.CannotDecode(err)
	}
	r.tx.session = q.Thread
	effects := r.effects(text, q)
	var steps []step
	for _, effect := range effects {
		if err := r.reference(ctx, effect); err != nil {
			return err
		}
		more, err := r.effect(ctx, effect, text, fmt.Sprintf("%s:%d", s.File(), s.Place().Offset))
		if err != nil {
			return err
		}
		steps = append(steps, more...)
	}
	return r.perform(steps, number)
}

// effects is what a statement of the log does.
func (r *run) effects(text string, q binlog.Query) []statement.Effect {
	return statement.Read(text, string(q.Database), statement.Mode{ANSIQuotes: q.Mode&binlog.ModeANSIQuotes != 0, NoBackslashes: q.Mode&binlog.ModeNoBackslashes != 0, LowerCase: r.lowerCase, Lossy: q.Mode&binlog.ModeStrict == 0})
}

// perform does steps that are new to the journal, in one unit.
func (r *run) perform(steps []step, number int) error {
	if len(steps) == 0 {
		return nil
	}
	isNew, err := r.arrive(uint64(number)<<32|(1<<32-1), slices.ContainsFunc(steps, func(s step) bool { return s.brings }))
	if err != nil || !isNew {
		return err
	}
	for _, s := range steps {
		s.do()
	}
	return nil
}

func (r *run) captured(name statement.Table) *loads.Table {
	t := r.tables[change.TableName(name.Database, name.Name)]
	if t == nil || t.ChosenBy == nil {
		return nil
	}
	return t
}

// effect is what one effect of a statement is to do. at is where it stands, for people.
func (r *run) effect(ctx context.Context, e statement.Effect, text, at string) ([]step, error) {
	var steps []step
	switch e.Kind {
	case statement.Create:
		return r.created(ctx, e, text)
	case statement.Alter:
		for _, name := range e.Tables {
			if t := r.captured(name); t != nil && !engine.Away(t.State.State) {
				one, err := r.altered(ctx, t, e, text)
				if err != nil {
					return nil, err
				}
				steps = append(steps, one)
			}
		}
	case statement.Drop:
		for _, name := range e.Tables {
			if t := r.captured(name); t != nil && !engine.Away(t.State.State) {
				steps = append(steps, step{t.State.Schema != nil, func() { r.goes(t, r.printable(t, text)) }})
			}
		}
	case statement.DropDatabase:
		for _, t := range r.tables {
			if strings.EqualFold(t.Name.Database, e.Database) && t.ChosenBy != nil && !engine.Away(t.State.State) {
				steps = append(steps, step{t.State.Schema != nil, func() { r.goes(t, r.printable(t, text)) }})
			}
		}
	case statement.Rename:
		return r.renames(e, text), nil
	case statement.Truncate:
		for _, name := range e.Tables {
			if t := r.captured(name); t != nil && !r.tx.leftOut {
				one, err := r.truncated(ctx, t)
				if err != nil {
					return nil, err
				}
				steps = append(steps, one)
			}
		}
	case statement.Rewrite:
		for _, name := range e.Tables {
			if t := r.captured(name); t != nil && !engine.Away(t.State.State) {
				steps = append(steps, step{t.State.Schema != nil, func() { r.void(t, states.Unlogged("rows came or went without an event, by a statement at "+at)) }})
			}
		}
	case statement.Repair:
		for _, name := range e.Tables {
			t := r.captured(name)
			if t == nil || engine.Away(t.State.State) {
				continue
			}
			listed, err := r.reader.Find(ctx, t.Name.Database, t.Name.Name)
			if err != nil {
				return nil, err
			}
			if listed != nil && !listed.Transactional() {
				steps = append(steps, step{t.State.Schema != nil, func() {
					r.void(t, states.Unlogged("it was repaired by a statement at "+at+", which takes rows that cannot be read"))
				}})
			}
		}
	case statement.Rows:
		why := "a statement in statement format at " + at + " may have changed its rows without events"
		mentioned := make([]*loads.Table, 0, len(e.Tables))
		for _, name := range e.Tables {
			if t := r.captured(name); t != nil {
				mentioned = append(mentioned, t)
			}
		}
		if len(mentioned) > 0 {
			steps = append(steps, step{false, func() { r.doubt(why, mentioned) }})
		}
	case statement.Unknown:
		steps = append(steps, step{false, func() {
			r.doubt("a statement at "+at+" was not understood, and may have changed any table", nil)
		}})
	case statement.Nothing, statement.Commit, statement.Rollback, statement.Savepoint, statement.RollbackTo, statement.XACommit, statement.XARollback:
	}
	return steps, nil
}

// maxStatement bounds the text that goes into an event, in bytes.
const maxStatement = 16 << 10

// printable is a statement's text as far as it may be shown: not where a rule keeps
// columns of a table private, since their values may stand in it.
func (r *run) printable(t *loads.Table, text string) string {
	if t.ChosenBy.Private() {
		words := strings.Fields(text)
		return strings.ToUpper(strings.Join(words[:min(2, len(words))], " "))
	}
	return text[:min(len(text), maxStatement)]
}

// disturbed notes that a table's definition has changed at the place at hand: its table
// maps are void, and so is what a load is reading.
func (r *run) disturbed(t *loads.Table) {
	t.Version++
	if t.Load != nil {
		t.Load.Disturb(r.tx.end)
	}
}

// created takes a CREATE TABLE: whatever had the name before is no more, and the rows of
// the new one are in the log.
func (r *run) created(ctx context.Context, e statement.Effect, text string) ([]step, error) {
	name := change.TableName(e.Tables[0].Database, e.Tables[0].Name)
	rule := r.rule(name)
	if rule == nil || isOurs(e.Tables[0].Database) {
		return nil, nil
	}
	t := r.tables[name]
	there := t != nil && !engine.Away(t.State.State) && t.State.Schema != nil
	if there && e.IfNotExists && !e.Replaces {
		return nil, nil
	}
	listed, err := r.reader.Find(ctx, e.Tables[0].Database, e.Tables[0].Name)
	if err != nil {
		return nil, err
	}
	if t == nil {
		t = r.newTable(name, e.Tables[0])
	}
	var l *rows.Layout
	var filled []bool
	if listed != nil && listed.Unfit == "" && catalogue.MayBe(listed, &e) { // else its first row tells what it was
		if l, err = r.layout(t, listed.Columns, false); err != nil {
			return nil, err
		}
		filled = listed.Filled
	}
	return []step{{there || l != nil, func() {
		if there {
			r.sink.Add(&change.Row{Operation: change.Void, Table: t.State.Table, Schema: t.State.Schema, Place: r.tx.place})
		}
		r.disturbed(t)
		t.Load, t.Listed, t.Stated = nil, listed, nil
		t.Defined(e)
		t.State.Standing, t.State.RowsDone = change.Standing{State: engine.StateFollowing}, 0
		t.State.Rule = rule.Digest()
		t.Statement, t.Session = r.printable(t, text), r.tx.session
		t.KeyNote()
		t.State.Schema, t.Made = nil, true // of a new table nothing is rewritten
		if l != nil {
			r.adopt(t, l, filled)
		}
		r.sink.Table(t.Record())
		r.sink.Report(engine.Report{Level: "info", Event: "table-" + t.State.State, Message: t.State.Table + ": created"})
		r.states.Wake()
	}}}, nil
}

// altered takes a statement on a table's definition.
func (r *run) altered(ctx context.Context, t *loads.Table, e statement.Effect, text string) (step, error) {
	listed, err := r.reader.Find(ctx, t.Name.Database, t.Name.Name)
	if err != nil {
		return step{}, err
	}
	var l *rows.Layout
	if listed != nil && listed.Unfit == "" {
		if l, err = r.layout(t, listed.Columns, false); err != nil {
			return step{}, err
		}
	}
	ahead := l != nil && t.Ahead(e, l.Schema) // the statement that brings the rest, or a row, has it adopted
	brings := l != nil && !ahead && (t.State.Schema == nil || t.State.Schema.Fingerprint() != l.Schema.Fingerprint() || len(e.Columns)+len(e.Dropped) > 0 || e.Generated || e.Recoded)
	return step{brings, func() {
		r.disturbed(t)
		t.Listed = listed
		t.Defined(e)
		t.Statement, t.Session = joined(t.Statement, r.printable(t, text)), r.tx.session
		if l != nil {
			t.Altered(e, l.Schema)
		}
		if l != nil && !ahead {
			r.adopt(t, l, listed.Filled)
		}
		t.KeyNote()
	}}, nil
}

// joined are statements one after the other, as far as there is room for them.
func joined(before, statement string) string {
	switch {
	case before == "" || before == statement:
		return statement
	case len(before)+len(statement) < maxStatement:
		return before + ";\n" + statement
	}
	return before
}

// renames takes tables that get other names, one after the other.
func (r *run) renames(e statement.Effect, text string) []step {
	var steps []step
	for i, from := range e.Tables {
		to := e.To[i]
		before := r.captured(from)
		steps = append(steps, step{before != nil && before.State.Schema != nil, func() {
			// Looked up now: an earlier step may have brought it, as where two swap their names.
			if t := r.captured(from); t != nil && !engine.Away(t.State.State) {
				r.goes(t, r.printable(t, text))
			}
		}})
		name := change.TableName(to.Database, to.Name)
		if r.rule(name) == nil || isOurs(to.Database) {
			continue
		}
		steps = append(steps, step{true, func() { r.arrives(name, to, text) }})
	}
	return steps
}

// arrives is for a table that has come under a name with its rows: they are in no event.
func (r *run) arrives(name string, of statement.Table, text string) {
	t := r.tables[name]
	if t == nil {
		t = r.newTable(name, of)
	}
	r.disturbed(t)
	t.Listed = nil
	t.Statement, t.Session = r.printable(t, text), r.tx.session
	if t.State.Schema != nil && !engine.Away(t.State.State) {
		r.void(t, change.Reason{Cause: change.CauseReplaced, Text: "another table has come under its name"})
		return
	}
	r.appears(t)
}

// truncated takes a TRUNCATE.
func (r *run) truncated(ctx context.Context, t *loads.Table) (step, error) {
	var l *rows.Layout
	var filled []bool
	if t.State.Schema == nil {
		listed, err := r.reader.Find(ctx, t.Name.Database, t.Name.Name)
		if err != nil {
			return step{}, err
		}
		if listed == nil || listed.Unfit != "" {
			// Nobody knows anything of its rows, and it is gone again, or will not be captured.
			return step{false, func() { r.disturbed(t) }}, nil
		}
		if l, err = r.layout(t, listed.Columns, false); err != nil {
			return step{}, err
		}
		filled = listed.Filled
	}
	return step{true, func() {
		if l != nil {
			r.adopt(t, l, filled)
		}
		r.sink.Add(&change.Row{Operation: change.Truncate, Table: t.State.Table, Schema: t.State.Schema, Place: r.tx.place, Body: change.TruncateBody(false, true)})
		r.disturbed(t)
	}}, nil
}

// goes puts on record that a table is dropped or renamed; a unit is open.
func (r *run) goes(t *loads.Table, text string) {
	if t.State.Schema != nil {
		body := change.SchemaChange{Previous: t.State.Schema, Statement: text, Session: r.tx.session}
		r.sink.Add(&change.Row{Operation: change.Definition, Table: t.State.Table, Schema: t.State.Schema, Place: r.tx.place, Body: body.Encode()})
		t.State.Schema = nil // whatever comes under its name has its own schema event
	}
	r.disturbed(t)
	t.Listed = nil
	r.states.LeaveOut(t, states.Gone)
	r.states.Wake()
}

// adopt makes a version the table's current one, with its schema event before its first
// row. filled says which columns gave rows a value when they were added; nil where that is
// not known. A unit is open.
func (r *run) adopt(t *loads.Table, l *rows.Layout, filled []bool) {
	old := t.State.Schema
	if old != nil && old.Fingerprint() == l.Schema.Fingerprint() && len(t.Renamed) == 0 && !t.Redefined {
		t.Statement, t.Session = "", 0
		return
	}
	var values map[string]json.RawMessage
	if old != nil {
		values, filled = catalogue.Filled(old, l, filled, t.Filled)
	}
	rewrites := old != nil && (t.Redefined || catalogue.Rewrites(old, l, filled, t.Renamed, t.Lossy))
	if rewrites {
		values = nil
	}
	body := change.SchemaChange{Fingerprint: l.Schema.Fingerprint().String(), Definition: l.Schema, Previous: old, Rewrites: rewrites, Filled: values, Statement: t.Statement, Session: t.Session, Renamed: t.Renamed}
	r.sink.Add(&change.Row{Operation: change.Definition, Table: t.State.Table, Schema: l.Schema, Place: r.tx.place, Body: body.Encode()})
	t.State.Schema, t.Statement, t.Session, t.Renamed, t.Redefined, t.Lossy = l.Schema, "", 0, nil, false, false
	if t.Made || old == nil && r.config.Load && t.Load == nil && t.State.State == engine.StateFollowing {
		// It was made here, empty, whatever was under its name before: all of its rows are events.
		for _, o := range []change.Operation{change.Void, change.Loaded} {
			r.sink.Add(&change.Row{Operation: o, Table: t.State.Table, Schema: l.Schema, Place: r.tx.place})
		}
	}
	t.Made, t.Filled = false, nil
	switch {
	case old != nil && len(old.Key()) == 0 && len(l.Schema.Key()) > 0 && r.config.Load:
		r.states.Reread(t, change.Reason{Cause: change.CauseNewKey, Text: "it has been given a key, which the events of its rows do not have"}, true)
	case rewrites:
		r.states.Rewritten(t, states.Rewritten)
	}
	r.sink.Table(t.Record())
}
