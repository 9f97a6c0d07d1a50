package sql

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// A load of a table that has rows puts its rows over what is there, so that readers never
// see an empty table. What it did not bring goes when it is complete. Rows with an offset of
// their own show by that what was brought; of current rows the keys are noted meanwhile, in a
// table beside the table of offsets.

// void has the rows that are here go that the next load does not bring.
func (w *Writer) void(ctx context.Context, m *encode.Message) error {
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	state := *w.record.Tables[m.Table]
	if !state.Reading || state.Refused > 0 {
		state.Reading, state.Refused = true, 0
		w.setState(m.Table, &state)
	}
	if state.Kept {
		return nil
	}
	filled, err := w.db.Filled(ctx, t, "true")
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
	w.setState(m.Table, &state)
	return nil
}

// beginReload notes from now on which rows are brought.
func (w *Writer) beginReload(ctx context.Context, t *Table, schema *change.Schema, state *TableState) error {
	if t.Keep != Current {
		if state.Since == 0 {
			state.Since = 1
		}
		return nil
	}
	key := keyNames(schema)
	if len(key) == 0 {
		// Nothing tells its rows apart: the load brings all of them once more.
		if err := w.begun(ctx); err != nil {
			return err
		}
		return w.exec(ctx, "DELETE FROM "+t.SQL)
	}
	if state.Loading == "" {
		state.Loading = w.loadingName(t, "")
	}
	if err := w.makeKeys(ctx, t, state.Loading, key); err != nil {
		return err
	}
	t.loading = state.Loading
	return nil
}

// loadingName is the quoted name of the table of keys that a load has brought, another than
// one that is there.
func (w *Writer) loadingName(t *Table, other string) string {
	schema, _ := w.options.OffsetsTable()
	name := fmt.Sprintf("loading_%.8s_%s", w.outlet.Token, cut(t.Name, 38))
	quoted := w.db.Quote(schema) + "." + w.db.Quote(name)
	if quoted == other {
		quoted = w.db.Quote(schema) + "." + w.db.Quote(name+"_2")
	}
	return quoted
}

func (w *Writer) makeKeys(ctx context.Context, t *Table, name string, key []string) error {
	delete(w.leftover, name)
	if err := w.settle(ctx); err != nil {
		return err
	}
	return w.db.MakeKeys(ctx, t, name, key)
}

// dropLater drops a table of ours, with the transaction where the database can.
func (w *Writer) dropLater(ctx context.Context, name string) error {
	if w.db.TransactionalDefinitions() {
		return w.exec(ctx, "DROP TABLE "+name)
	}
	w.leftover[name] = true
	return nil
}

// noteLoading keeps the keys of rows that come while a table is loaded.
func (w *Writer) noteLoading(ctx context.Context, b *Binding, r *run) error {
	if b.loading == "" || len(b.Key) == 0 {
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
	image := make([]change.Value, len(b.Source.Columns))
	return w.db.NoteKeys(ctx, b, b.loading, Rows{N: len(came), Values: func(i int) []change.Value {
		for _, at := range b.Source.Key() {
			image[at] = came[i].Row[at]
		}
		return image
	}})
}

// loaded ends a load: what it did not bring goes.
func (w *Writer) loaded(ctx context.Context, m *encode.Message) error {
	var body struct {
		Part string `json:"part"`
	}
	if len(m.Document) > 0 {
		if err := json.Unmarshal(m.Document, &body); err != nil {
			return fmt.Errorf("reading the event %d: %w", m.Offset, err)
		}
	}
	state := w.record.Tables[m.Table]
	if body.Part != "" || state == nil || state.Loading == "" && state.Since == 0 && !state.Kept && !state.Reading && state.Lacks == "" {
		return nil
	}
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	if state.Refused > 0 {
		brought, err := w.brought(ctx, t, state)
		if err != nil {
			return err
		}
		if !brought {
			return &engine.Fault{Code: codeLoadRefused, Final: true, Message: fmt.Sprintf("the load of %s has brought nothing: its %d rows are dead letters; what was here before stays", m.Table, state.Refused),
				Fix: "`rillmark dead-letter list " + w.outlet.Name + "` says why"}
		}
	}
	var text string
	switch {
	case state.Kept, state.Loading == "" && state.Since == 0: // the rows that were there at the start stay
	case t.Keep == Flagged:
		text = w.flagAll(t, m) + fmt.Sprintf(" AND coalesce(%s, 0) < %d", Offset, state.Since)
	case t.Keep == Versions:
		text = w.endAll(t, m) + fmt.Sprintf(" AND %s < %d", Offset, state.Since)
	case state.Loading != "":
		var pairs []string
		for _, name := range w.quoted(keyNames(m.Schema)) {
			pairs = append(pairs, t.SQL+"."+name+" = l."+name)
		}
		text = "DELETE FROM " + t.SQL + " WHERE NOT EXISTS (SELECT 1 FROM " + state.Loading + " l WHERE " + strings.Join(pairs, " AND ") + ")"
	}
	if text != "" {
		if err := w.begun(ctx); err != nil {
			return err
		}
		n, err := w.db.OfAll(ctx, text)
		if err != nil {
			return err
		}
		if n > 0 {
			w.log("info", "load-complete", fmt.Sprintf("the load of %s is complete; %d rows of %s that it did not bring are gone", m.Table, n, t.SQL))
		}
	}
	if state.Loading != "" {
		if err := w.dropLater(ctx, state.Loading); err != nil {
			return err
		}
	}
	t.loading = ""
	fresh := t.fresh()
	fresh.Dropped, fresh.Untouched = state.Dropped, state.Untouched
	w.setState(m.Table, fresh)
	if state.Lacks != "" {
		w.tellHeld()
	}
	return nil
}

// brought reports whether a load has brought any row.
func (w *Writer) brought(ctx context.Context, t *Table, state *TableState) (bool, error) {
	if state.Loading != "" {
		return w.db.Filled(ctx, &Table{SQL: state.Loading}, "true")
	}
	if t.Keep == Current {
		return w.db.Filled(ctx, t, "true")
	}
	return w.db.Filled(ctx, t, fmt.Sprintf("coalesce(%s, 0) >= %d", Offset, state.Since))
}

// noteRefused counts the rows of loads that were refused. What is here of such a row stays until
// its dead letter is delivered.
func (w *Writer) noteRefused(ctx context.Context, batch *encode.Batch, refused []destination.Refusal) error {
	for _, one := range refused {
		m := &batch.Messages[one.Index]
		state := w.record.Tables[m.Table]
		if state == nil || !m.Operation.IsRow() || state.Loading == "" && state.Since == 0 && !state.Reading {
			continue
		}
		now := *state
		now.Refused++
		w.setState(m.Table, &now)
		if now.Loading == "" || m.Operation == change.Delete || m.Schema == nil {
			continue
		}
		if err := w.savepoint(ctx, "noted"); err != nil {
			return err
		}
		b, err := w.bind(ctx, m.Table, m.Schema)
		if err == nil {
			err = w.noteLoading(ctx, b, &run{table: m.Table, schema: m.Schema, messages: []*encode.Message{m}})
		}
		if err != nil && !w.db.RefusesRow(err) {
			return err
		}
		if err != nil { // its key itself is refused: no such row is here
			if err := w.rollbackTo(ctx, "noted"); err != nil {
				return err
			}
			continue
		}
		if err := w.exec(ctx, "RELEASE SAVEPOINT noted"); err != nil {
			return err
		}
	}
	return nil
}

// flagAll flags the rows of a table that are not; endAll ends its newest versions.
func (w *Writer) flagAll(t *Table, m *encode.Message) string {
	return fmt.Sprintf("UPDATE %s SET %s = true, %s = %d, %s = %s WHERE NOT %[2]s", t.SQL, Deleted, Offset, m.Offset, ChangedAt, w.moment(m))
}

func (w *Writer) endAll(t *Table, m *encode.Message) string {
	return fmt.Sprintf("UPDATE %s SET %s = %s, %s = %d WHERE %[2]s = '%[6]s'", t.SQL, Until, w.moment(m), UntilOffset, m.Offset, w.db.Infinity())
}

func (w *Writer) moment(m *encode.Message) string {
	return w.db.Literal(string(w.db.AppendTime(nil, m.Committed)))
}

// truncate takes all rows out. It deletes them: readers that began before would see an empty
// table after a TRUNCATE.
func (w *Writer) truncate(ctx context.Context, m *encode.Message) error {
	if m.Schema == nil {
		return nil
	}
	t, err := w.tableFor(ctx, m.Table, m.Schema)
	if err != nil {
		return err
	}
	if err := w.begun(ctx); err != nil {
		return err
	}
	switch t.Keep {
	case Flagged:
		return w.exec(ctx, w.flagAll(t, m))
	case Versions:
		return w.exec(ctx, w.endAll(t, m))
	case Current:
	}
	err = w.exec(ctx, "DELETE FROM "+t.SQL)
	if err == nil && t.loading != "" {
		err = w.exec(ctx, "DELETE FROM "+t.loading)
	}
	return err
}

// takeBack undoes, for an outlet that was rewound, what would come once more and be there
// twice: versions of later offsets.
func (w *Writer) takeBack(ctx context.Context) error {
	for source, state := range w.record.Tables {
		if w.kept(source) != Versions {
			continue
		}
		t, err := w.look(ctx, source)
		if err != nil {
			return err
		}
		if t.Column(UntilOffset) == nil {
			continue
		}
		if err := w.asBefore(t, state); err != nil {
			return err
		}
		for _, statement := range []string{
			fmt.Sprintf("DELETE FROM %s WHERE %s > %d", t.SQL, Offset, w.outlet.Committed),
			fmt.Sprintf("UPDATE %s SET %s = '%s', %s = NULL WHERE %[4]s > %d", t.SQL, Until, w.db.Infinity(), UntilOffset, w.outlet.Committed),
		} {
			if err := w.exec(ctx, statement); err != nil {
				return err
			}
		}
	}
	return nil
}
