package postgresql

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
)

// schemaEvent follows a change of a table's definition at its place in the stream.
func (w *writer) schemaEvent(ctx context.Context, m *encode.Message) error {
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
	t, err := w.tableFor(ctx, m.Table, now)
	if err != nil {
		return err
	}
	t.bound = nil
	if err := w.rename(ctx, t, body.Renamed); err != nil {
		return err
	}
	if body.Previous != nil {
		if err := w.retype(ctx, t, body.Previous, now, body.Renamed); err != nil {
			return err
		}
		if err := w.dropColumns(ctx, t, body.Previous, now, body.Renamed); err != nil {
			return err
		}
	}
	return w.alter(ctx, t, now)
}

// rename follows columns that have another name now. Where names go round, each goes by
// way of one that nobody has.
func (w *writer) rename(ctx context.Context, t *table, renamed []change.Rename) error {
	step := func(from, to string) error {
		c := t.column(from)
		if c == nil || t.column(to) != nil {
			return nil
		}
		if err := w.define(ctx, t, fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", t.sql, quoted(from), quoted(to))); err != nil {
			return err
		}
		c.name = to
		return nil
	}
	between := func(i int) string { return fmt.Sprintf("_renamed_%d", i) }
	for i, r := range renamed {
		if err := step(r.From, between(i)); err != nil {
			return err
		}
	}
	for i, r := range renamed {
		if err := step(between(i), r.To); err != nil {
			return err
		}
	}
	return nil
}

// alter gives a table the columns that rows of a schema version have and it lacks, and lets
// those be null that may be.
func (w *writer) alter(ctx context.Context, t *table, now *change.Schema) error {
	var statements []string
	for i := range now.Columns {
		c := &now.Columns[i]
		if slices.Contains(t.keep.Own(), c.Name) {
			return w.ownColumn(t, c.Name)
		}
		known := t.column(c.Name)
		var kind string
		var before []string
		if known == nil || len(c.Labels) > 0 { // an enum may have new labels
			var err error
			if kind, before, err = w.typeOf(ctx, now.Engine, c); err != nil {
				return err
			}
		}
		switch {
		case known == nil:
			added := &column{name: c.Name, kind: kind}
			statements = append(appendNew(statements, before), "ALTER TABLE "+t.sql+" ADD COLUMN "+definition(added))
			t.columns = append(t.columns, added)
		case known.notNull && c.Nullable && c.Key == 0:
			statements = append(statements, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP NOT NULL", t.sql, quoted(c.Name)))
			known.notNull = false
		}
	}
	for _, c := range own(t.keep) {
		if t.column(c.name) == nil {
			bare := *c
			bare.notNull = c.name == sql.Deleted
			statements = append(statements, "ALTER TABLE "+t.sql+" ADD COLUMN "+definition(&bare))
			t.columns = append(t.columns, &bare)
		}
	}
	// What the source no longer has gets no values.
	for _, c := range t.columns {
		here := slices.ContainsFunc(now.Columns, func(s change.Column) bool { return s.Name == c.name }) || slices.Contains(t.keep.Own(), c.name)
		if !here && c.notNull && !c.generated {
			statements = append(statements, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP NOT NULL", t.sql, quoted(c.name)))
			c.notNull = false
		}
	}
	return w.define(ctx, t, statements...)
}

// retype follows columns whose type has changed at the source.
func (w *writer) retype(ctx context.Context, t *table, before, now *change.Schema, renamed []change.Rename) error {
	for i := range now.Columns {
		c := &now.Columns[i]
		at := slices.IndexFunc(before.Columns, func(b change.Column) bool { return b.Name == nameBefore(c.Name, renamed) })
		if at < 0 || t.column(c.Name) == nil {
			continue
		}
		old := &before.Columns[at]
		if old.Type == c.Type && old.Treatment == c.Treatment {
			continue
		}
		kind, prior, err := w.typeOf(ctx, now.Engine, c)
		if err != nil {
			return err
		}
		if known := t.column(c.Name); known.kind != kind {
			if err := w.define(ctx, t, append(prior, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s USING %[2]s::text::%[3]s", t.sql, quoted(c.Name), kind))...); err != nil {
				return err
			}
			known.kind = kind
		}
	}
	return nil
}

// dropColumns follows columns that the source has dropped, where the outlet says so.
func (w *writer) dropColumns(ctx context.Context, t *table, before, now *change.Schema, renamed []change.Rename) error {
	for _, c := range before.Columns {
		stays := slices.ContainsFunc(now.Columns, func(n change.Column) bool { return nameBefore(n.Name, renamed) == c.Name }) || slices.Contains(now.LeftOut, c.Name)
		if stays || t.column(c.Name) == nil || w.options.DroppedColumns != "drop" {
			continue
		}
		if err := w.define(ctx, t, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", t.sql, quoted(c.Name))); err != nil {
			return err
		}
		t.columns = slices.DeleteFunc(t.columns, func(known *column) bool { return known.name == c.Name })
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
