package sql

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// schemaEvent follows a change of a table's definition at its place in the stream.
func (w *Writer) schemaEvent(ctx context.Context, m *encode.Message) error {
	var body change.SchemaChange
	if err := json.Unmarshal(m.Document, &body); err != nil {
		return fmt.Errorf("reading the schema event %d: %w", m.Offset, err)
	}
	if body.Definition == nil {
		w.log("warn", "table-gone", m.Table+" is gone from the source; its rows stay here as they are")
		return nil
	}
	now, err := change.ParseSchema(body.Definition.Definition())
	if err != nil {
		return err
	}
	known := w.record.Tables[m.Table]
	t, err := w.tableFor(ctx, m.Table, now)
	if err != nil {
		return err
	}
	t.bound = nil
	if body.Previous == nil && known != nil && !known.Rewound {
		// Another table has come under the name of one that is gone: the rows here are void.
		made := *m
		made.Schema = now
		return w.reconcile(ctx, t, &made)
	}
	var before *change.Schema
	if body.Previous != nil {
		if before, err = change.ParseSchema(body.Previous.Definition()); err != nil {
			return err
		}
	}
	if err := w.redefine(ctx, t, m, before, now, body.Renamed); err != nil {
		return err
	}
	return w.fill(ctx, t, m, now, body.Filled)
}

// redefine gives a table the definition that rows have from an offset on; before is nil where
// no version is known that they had.
func (w *Writer) redefine(ctx context.Context, t *Table, m *encode.Message, before, now *change.Schema, renamed []change.Rename) error {
	at := *m
	at.Schema = now
	if before != nil {
		if err := w.comeBack(ctx, t, m.Offset, before, now, renamed); err != nil {
			return err
		}
	}
	if err := w.rename(ctx, t, m.Offset, renamed); err != nil {
		return err
	}
	if before != nil {
		if err := w.retype(ctx, t, &at, before, renamed); err != nil {
			return err
		}
	}
	if err := w.alter(ctx, t, now); err != nil || before == nil {
		return err
	}
	if err := w.rekey(ctx, t, before, now, renamed); err != nil {
		return err
	}
	return w.dropColumns(ctx, t, before, now, renamed)
}

// fill gives rows that are there the values that those of the source have got in new columns. It can
// be done once more: rows that have come since have values of their own.
func (w *Writer) fill(ctx context.Context, t *Table, m *encode.Message, now *change.Schema, filled map[string]json.RawMessage) error {
	for _, name := range slices.Sorted(maps.Keys(filled)) {
		c, known := now.Column(name), t.Column(name)
		if c == nil || known == nil || known.Generated {
			continue
		}
		v, err := change.FilledValue(c, filled[name])
		if err != nil {
			return err
		}
		if v.Presence != change.Present {
			continue
		}
		text := v.Text
		if write := w.db.Writing(c, known); write != nil {
			if text, err = write(nil, text); err != nil {
				return fmt.Errorf("the value that filled column %s of %s: %w", name, m.Table, err)
			}
		}
		where := w.db.Quote(known.Name) + " IS NULL"
		switch t.Keep {
		case Flagged:
			where += " AND NOT coalesce(" + Deleted + ", false)"
		case Versions:
			where += " AND " + Until + " = '" + w.db.Infinity() + "' AND " + Operation + " <> 'delete'"
		case Current:
		}
		if err := w.begun(ctx); err != nil {
			return err
		}
		if _, err := w.db.OfAll(ctx, "UPDATE "+t.SQL+" SET "+w.db.Quote(known.Name)+" = "+w.db.Constant(known, text)+" WHERE "+where); err != nil {
			return err
		}
	}
	return nil
}

// rename follows columns that have another name now, those whose names go round included.
func (w *Writer) rename(ctx context.Context, t *Table, offset int64, renamed []change.Rename) error {
	var due []change.Rename
	for _, r := range renamed {
		if t.Column(r.From) != nil {
			due = append(due, r)
		}
	}
	due = slices.DeleteFunc(due, func(r change.Rename) bool { // a name that somebody else has
		has := t.Column(r.To)
		return has != nil && has != t.Column(r.From) && !slices.ContainsFunc(due, func(other change.Rename) bool { return other.From == r.To })
	})
	if len(due) == 0 {
		return nil
	}
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	state := *w.record.Tables[t.Source]
	if !w.db.TransactionalDefinitions() {
		if state.Renaming == offset && !slices.Equal(state.Columns, names) {
			return nil // it was done, and the service ended before that was on record
		}
		state.Renaming, state.Columns = offset, names
		w.setState(t.Source, &state)
	}
	if err := w.define(ctx, t, w.db.Rename(t, due)...); err != nil {
		return err
	}
	now := make(map[*Column]string)
	for _, r := range due {
		now[t.Column(r.From)] = r.To
	}
	for c, name := range now {
		c.Name = name
	}
	t.Primary = namesAfter(t.Primary, due)
	for i, columns := range t.Uniques {
		t.Uniques[i] = namesAfter(columns, due)
	}
	for index, columns := range t.Indexes {
		t.Indexes[index] = namesAfter(columns, due)
	}
	return nil
}

// namesAfter are the names that columns have once some were renamed.
func namesAfter(names []string, renamed []change.Rename) []string {
	after := slices.Clone(names)
	for i, name := range names {
		if at := slices.IndexFunc(renamed, func(r change.Rename) bool { return r.From == name }); at >= 0 {
			after[i] = renamed[at].To
		}
	}
	return after
}

// alter gives a table the columns that rows of a schema version have and it lacks, and lets
// those be null that may be.
func (w *Writer) alter(ctx context.Context, t *Table, now *change.Schema) error {
	var statements []string
	allowNull := func(c *Column) {
		bare := *c
		bare.NotNull = false
		statements = append(statements, w.db.Modify(t, &bare))
		c.NotNull = false
	}
	for i := range now.Columns {
		c := &now.Columns[i]
		if slices.Contains(t.Keep.Own(), c.Name) {
			return w.ownColumn(t, c.Name)
		}
		known := t.Column(c.Name)
		var kind string
		var before []string
		if known == nil || len(c.Labels) > 0 { // an enum may have new labels
			var err error
			if kind, before, err = w.db.TypeOf(ctx, now, c, w.definable); err != nil {
				return err
			}
		}
		switch {
		case known == nil:
			added := &Column{Name: c.Name, Kind: kind}
			statements = append(appendNew(statements, before), w.db.AddColumn(t, added))
			t.Columns = append(t.Columns, added)
		case known.NotNull && c.Nullable && c.Key == 0 && !slices.Contains(t.Primary, c.Name):
			allowNull(known)
		}
	}
	for _, c := range w.db.Own(t.Keep) {
		if t.Column(c.Name) == nil {
			bare := *c
			bare.NotNull = c.Name == Deleted
			statements = append(statements, w.db.AddColumn(t, &bare))
			t.Columns = append(t.Columns, &bare)
		}
	}
	// What the source no longer has gets no values.
	for _, c := range t.Columns {
		here := now.Column(c.Name) != nil || slices.Contains(t.Keep.Own(), c.Name)
		if !here && c.NotNull && !c.Generated && !slices.Contains(t.Primary, c.Name) {
			allowNull(c)
		}
	}
	return w.define(ctx, t, statements...)
}

// comeBack makes way for columns that come under the names of others which the source has dropped
// before: those were kept, with their values.
func (w *Writer) comeBack(ctx context.Context, t *Table, offset int64, before, now *change.Schema, renamed []change.Rename) error {
	state := *w.record.Tables[t.Source]
	for i := range now.Columns {
		name := now.Columns[i].Name
		known, from := t.Column(name), nameBefore(name, renamed)
		moves := slices.ContainsFunc(renamed, func(r change.Rename) bool { return r.From == name })
		if known == nil || known.Generated || moves || from == name && before.Column(name) != nil || slices.Contains(t.Primary, known.Name) {
			continue
		}
		if from != name && (t.Column(from) == nil && before.Column(name) == nil || t.Column(from) == known) {
			continue // it was renamed here already, or gets its own name in another case
		}
		was := slices.Contains(state.Dropped, name) || from != name && before.Column(name) != nil
		if !was && w.plan == nil {
			// A version before this one has not put on record what it kept: values tell.
			var err error
			if was, err = w.db.Filled(ctx, t, w.db.Quote(known.Name)+" IS NOT NULL"); err != nil {
				return err
			}
		}
		if !was {
			continue // somebody has made it here beforehand
		}
		if err := w.makeWay(ctx, t, offset, name); err != nil {
			return err
		}
	}
	if slices.ContainsFunc(state.Dropped, func(name string) bool { return now.Column(name) != nil }) {
		state = *w.record.Tables[t.Source]
		state.Dropped = slices.DeleteFunc(slices.Clone(state.Dropped), func(name string) bool { return now.Column(name) != nil })
		w.setState(t.Source, &state)
	}
	return nil
}

// retype follows columns whose type has changed at the source.
func (w *Writer) retype(ctx context.Context, t *Table, m *encode.Message, before *change.Schema, renamed []change.Rename) error {
	for i := range m.Schema.Columns {
		c := &m.Schema.Columns[i]
		old, known := before.Column(nameBefore(c.Name, renamed)), t.Column(c.Name)
		if old == nil || known == nil || old.Type == c.Type && old.Treatment == c.Treatment && slices.Equal(old.Labels, c.Labels) {
			continue
		}
		if err := w.retypeOne(ctx, t, m, c, known, false); err != nil {
			return err
		}
	}
	return nil
}

// rekey follows a key that has changed, where the table's own was the former one.
func (w *Writer) rekey(ctx context.Context, t *Table, before, now *change.Schema, renamed []change.Rename) error {
	former, is := keyNames(before), keyNames(now)
	was := namesAfter(former, renamed)
	if sameNames(was, is) {
		if slices.Equal(former, was) {
			return nil
		}
		return w.keysAnew(ctx, t, former, was, is)
	}
	if t.Keep == Versions {
		if len(is) == 0 {
			return nil
		}
		return w.define(ctx, t, w.db.VersionsIndex(t, w.quoted(is)))
	}
	if len(is) > 0 && t.isUnique(is) || len(t.Primary) > 0 && !sameNames(t.Primary, was) && !leftKey(t, now) {
		return nil
	}
	if err := w.keysAnew(ctx, t, former, was, is); err != nil {
		return err
	}
	missing := false
	if len(is) > 0 {
		// A new column has no values here until the source is loaded again: such rows stay
		// until then.
		var nulls []string
		for _, name := range w.quoted(is) {
			nulls = append(nulls, name+" IS NULL")
		}
		var err error
		if missing, err = w.db.Filled(ctx, t, strings.Join(nulls, " OR ")); err != nil {
			return err
		}
	}
	statement := w.db.Rekey(t, w.quoted(is), missing)
	if statement == "" {
		return nil
	}
	if err := w.define(ctx, t, statement); err != nil || w.plan != nil {
		return err
	}
	if missing {
		w.log("warn", "key-changed", fmt.Sprintf("%s has a new key, which rows of %s have no values of: they stay as they are until `rillmark source reload` brings them again", t.Source, t.SQL))
	}
	if err := w.lookAgain(ctx, t); err != nil {
		return err
	}
	return w.alter(ctx, t, now) // the former key's columns may be null now
}

// keysAnew turns the keys that a load has brought so far into those of another key. former are
// the names that the columns of the old one had then, was those that they have in the table now.
func (w *Writer) keysAnew(ctx context.Context, t *Table, former, was, is []string) error {
	if t.loading == "" {
		return nil
	}
	state := *w.record.Tables[t.Source]
	old := t.loading
	state.Loading = ""
	if len(is) > 0 {
		state.Loading = w.loadingName(t, old)
		if err := w.makeKeys(ctx, t, state.Loading, is); err != nil {
			return err
		}
		if err := w.begun(ctx); err != nil {
			return err
		}
		var pairs, brought []string
		then, now := w.quoted(former), w.quoted(was)
		for i := range then {
			pairs = append(pairs, "l."+then[i]+" = t."+now[i])
		}
		for _, name := range w.quoted(is) {
			brought = append(brought, "t."+name)
		}
		if _, err := w.db.OfAll(ctx, "INSERT INTO "+state.Loading+" SELECT "+list(brought)+" FROM "+t.SQL+" t JOIN "+old+" l ON "+strings.Join(pairs, " AND ")+" WHERE "+strings.Join(brought, " IS NOT NULL AND ")+" IS NOT NULL"); err != nil {
			return err
		}
	}
	t.loading = state.Loading
	w.setState(t.Source, &state)
	return w.dropLater(ctx, old)
}

// dropColumns follows columns that the source has dropped, where the outlet says so.
func (w *Writer) dropColumns(ctx context.Context, t *Table, before, now *change.Schema, renamed []change.Rename) error {
	for _, c := range before.Columns {
		stays := slices.ContainsFunc(now.Columns, func(n change.Column) bool { return nameBefore(n.Name, renamed) == c.Name }) || slices.Contains(now.LeftOut, c.Name)
		if stays || t.Column(c.Name) == nil {
			continue
		}
		if w.options.DroppedColumns != "drop" {
			if state := *w.record.Tables[t.Source]; w.plan == nil && !slices.Contains(state.Dropped, c.Name) {
				state.Dropped = append(slices.Clone(state.Dropped), c.Name)
				w.setState(t.Source, &state)
			}
			continue
		}
		if err := w.define(ctx, t, w.db.DropColumn(t, c.Name)); err != nil {
			return err
		}
		t.Columns = slices.DeleteFunc(t.Columns, func(known *Column) bool { return known.Name == c.Name })
	}
	return nil
}

func nameBefore(name string, renamed []change.Rename) string {
	for _, r := range renamed {
		if r.To == name {
			return r.From
		}
	}
	return name
}
