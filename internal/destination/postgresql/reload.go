package postgresql

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
)

// A load of a table that has rows puts its rows over what is there, so that readers never
// see an empty table. What it did not bring goes when it is complete. Rows with an offset of
// their own show by that what was brought; of current rows the keys are noted meanwhile, in a
// table beside the table of offsets.

// void has the rows that are here go that the next load does not bring.
func (w *writer) void(ctx context.Context, m *encode.Message) error {
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	state := *w.state.Tables[m.Table]
	if state.Kept {
		return nil
	}
	filled, err := w.filled(ctx, t)
	if err != nil {
		return err
	}
	if !filled && t.loading == "" {
		return nil // whatever comes is brought by the load, or later
	}
	state.Since = m.Offset
	if err := w.beginReload(ctx, t, m.Schema, &state); err != nil {
		return err
	}
	w.state.Tables[m.Table], w.stateChanged = &state, true
	return nil
}

func (w *writer) filled(ctx context.Context, t *table) (is bool, err error) {
	err = w.conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+t.sql+")").Scan(&is)
	return is, err
}

// beginReload notes from now on which rows are brought.
func (w *writer) beginReload(ctx context.Context, t *table, schema *change.Schema, state *tableState) error {
	if t.keep != sql.Current {
		if state.Since == 0 {
			state.Since = 1
		}
		return nil
	}
	var key []string
	for _, i := range schema.Key() {
		key = append(key, quoted(schema.Columns[i].Name))
	}
	if len(key) == 0 {
		// Nothing tells its rows apart: the load brings all of them once more.
		_, err := w.conn.Exec(ctx, "DELETE FROM "+t.sql)
		return err
	}
	schemaName, _ := w.options.offsetsTable()
	if state.Loading == "" {
		state.Loading = schemaName + "." + quoted(fmt.Sprintf("loading_%.8s_%s", w.outlet.Token, t.name[:min(len(t.name), 40)]))
	}
	for _, statement := range []string{"DROP TABLE IF EXISTS " + state.Loading,
		"CREATE TABLE " + state.Loading + " AS SELECT " + strings.Join(key, ", ") + " FROM " + t.sql + " WITH NO DATA",
		"ALTER TABLE " + state.Loading + " ADD PRIMARY KEY (" + strings.Join(key, ", ") + ")"} {
		if _, err := w.conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	t.loading = state.Loading
	return nil
}

// noteLoading keeps the keys of rows that come while a table is loaded.
func (w *writer) noteLoading(ctx context.Context, b *binding, r *run) error {
	if b.loading == "" || len(b.key) == 0 {
		return nil
	}
	var came []*encode.Message
	seen := make(map[string]bool)
	for i := len(r.messages) - 1; i >= 0; i-- { // the newest decides
		m := r.messages[i]
		if seen[string(m.OrderingKey)] {
			continue
		}
		seen[string(m.OrderingKey)] = true
		if m.Operation != change.Delete {
			came = append(came, m)
		}
	}
	if len(came) == 0 {
		return nil
	}
	image := make([]change.Value, len(b.schema.Columns))
	if err := w.stageRows(ctx, b, b.key, rowsToWrite{n: len(came), values: func(i int) []change.Value {
		for _, at := range b.schema.Key() {
			image[at] = came[i].Row[at]
		}
		return image
	}}); err != nil {
		return err
	}
	_, err := w.conn.Exec(ctx, "INSERT INTO "+b.loading+" SELECT "+b.list(b.key)+" FROM "+b.stage+" ON CONFLICT DO NOTHING")
	return err
}

// loaded ends a load: what it did not bring goes.
func (w *writer) loaded(ctx context.Context, m *encode.Message) error {
	var body struct {
		Part string `json:"part"`
	}
	if len(m.Document) > 0 {
		if err := json.Unmarshal(m.Document, &body); err != nil {
			return fmt.Errorf("reading the event %d: %w", m.Offset, err)
		}
	}
	state := w.state.Tables[m.Table]
	if body.Part != "" || state == nil || state.Loading == "" && state.Since == 0 && !state.Kept {
		return nil
	}
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	var text string
	var params []any
	switch {
	case state.Kept: // the rows that were there at the start stay
	case t.keep == sql.Flagged:
		text = fmt.Sprintf("UPDATE %s SET %s = true, %s = $2, %s = $3 WHERE coalesce(%[3]s, 0) < $1 AND NOT %[2]s", t.sql, sql.Deleted, sql.Offset, sql.ChangedAt)
		params = []any{state.Since, m.Offset, m.Committed}
	case t.keep == sql.Versions:
		text = fmt.Sprintf("UPDATE %s SET %s = $3, %s = $2 WHERE %s < $1 AND %[2]s = 'infinity'", t.sql, sql.Until, sql.UntilOffset, sql.Offset)
		params = []any{state.Since, m.Offset, m.Committed}
	case state.Loading != "":
		var pairs []string
		for _, i := range m.Schema.Key() {
			name := quoted(m.Schema.Columns[i].Name)
			pairs = append(pairs, "t."+name+" = l."+name)
		}
		text = "DELETE FROM " + t.sql + " t WHERE NOT EXISTS (SELECT FROM " + state.Loading + " l WHERE " + strings.Join(pairs, " AND ") + ")"
	}
	if text != "" {
		// All rows of both tables are compared.
		if err := w.exec(ctx, "SET LOCAL enable_hashjoin = on"); err != nil {
			return err
		}
		tag, err := w.conn.Exec(ctx, text, params...)
		if err != nil {
			return err
		}
		if err := w.exec(ctx, "SET LOCAL enable_hashjoin = off"); err != nil {
			return err
		}
		if n := tag.RowsAffected(); n > 0 {
			w.log("info", "load-complete", fmt.Sprintf("the load of %s is complete; %d rows of %s that it did not bring are gone", m.Table, n, t.sql))
		}
	}
	if state.Loading != "" {
		if _, err := w.conn.Exec(ctx, "DROP TABLE "+state.Loading); err != nil {
			return err
		}
	}
	t.loading = ""
	w.state.Tables[m.Table], w.stateChanged = t.fresh(), true
	return nil
}

// truncate takes all rows out. It deletes them: readers that began before would see an empty
// table after a TRUNCATE.
func (w *writer) truncate(ctx context.Context, m *encode.Message) error {
	if m.Schema == nil {
		return nil
	}
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	switch t.keep {
	case sql.Flagged:
		_, err = w.conn.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = true, %s = $1, %s = $2 WHERE NOT %[2]s", t.sql, sql.Deleted, sql.Offset, sql.ChangedAt), m.Offset, m.Committed)
	case sql.Versions:
		_, err = w.conn.Exec(ctx, fmt.Sprintf("UPDATE %s SET %s = $2, %s = $1 WHERE %[2]s = 'infinity'", t.sql, sql.Until, sql.UntilOffset), m.Offset, m.Committed)
	default:
		if _, err = w.conn.Exec(ctx, "DELETE FROM "+t.sql); err == nil && t.loading != "" {
			_, err = w.conn.Exec(ctx, "DELETE FROM "+t.loading)
		}
	}
	return err
}

// takeBack undoes, for an outlet that was rewound, what would come once more and be there
// twice: versions of later offsets.
func (w *writer) takeBack(ctx context.Context) error {
	for source, state := range w.state.Tables {
		if w.kept(source) != sql.Versions {
			continue
		}
		t, err := w.look(ctx, source)
		if err != nil {
			return err
		}
		if t.column(sql.UntilOffset) == nil {
			continue
		}
		if err := w.asBefore(t, state); err != nil {
			return err
		}
		for _, statement := range []string{
			fmt.Sprintf("DELETE FROM %s WHERE %s > $1", t.sql, sql.Offset),
			fmt.Sprintf("UPDATE %s SET %s = 'infinity', %s = NULL WHERE %[3]s > $1", t.sql, sql.Until, sql.UntilOffset),
		} {
			if _, err := w.conn.Exec(ctx, statement, w.outlet.Committed); err != nil {
				return err
			}
		}
	}
	return nil
}
