package postgres

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"unicode/utf8"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
)

// relate takes a Relation message: the first of a table, or a changed one.
func (r *run) relate(ctx context.Context, m *pgoutput.Relation) error {
	rel := &relation{message: m}
	name := m.Namespace + "." + m.Name
	r.relations[m.OID] = rel
	r.last = nil
	if !r.config.chooses(name) {
		rel.skipped = true
		return nil
	}
	var known *change.Schema
	if t := r.tables[name]; t != nil {
		known = t.state.Schema
	}
	var err error
	if rel.layout, err = relationLayout(ctx, r.control, m, known); err != nil {
		return err
	}
	if rel.table = r.tables[name]; rel.table == nil {
		// Published and chosen, but not listed yet: it came into being a moment ago.
		// keepPublishing will list it; until then only its rows are taken.
		rel.table = r.newTable(name)
		if r.config.Load {
			r.wantLoad(rel.table)
		}
	}
	if rel.table.load != nil {
		rel.table.load.relationChanged(rel.layout)
	}
	return nil
}

// adopt makes a layout the table's current one and, where it is new, adds the
// schema event that stands before its first row. A unit is open.
func (r *run) adopt(t *table, l *layout, place LSN) {
	old := t.state.Schema
	if old != nil && old.Fingerprint() == l.schema.Fingerprint() {
		return
	}
	body := struct {
		Fingerprint string         `json:"fingerprint"`
		Definition  *change.Schema `json:"definition"`
		Previous    *change.Schema `json:"previous"`
		Rewrites    bool           `json:"rewrites"`
	}{l.schema.Fingerprint().String(), l.schema, old, old != nil && l.rewrites(old)}
	encoded, err := json.Marshal(body)
	if err != nil {
		panic(err) // strings, numbers and booleans always marshal
	}
	r.sink.Add(&change.Row{Operation: change.Definition, Table: l.name, Schema: l.schema, Place: uint64(place), Body: encoded})
	t.state.Schema = l.schema
	if body.Rewrites && t.load == nil {
		t.state.State = engine.StateStale
		t.state.Note = "a schema change filled or changed rows without an event: reload the table with `rillmark source reload`"
		r.sink.Report(engine.Report{Level: "warn", Event: "table-stale", Message: l.name + ": " + t.state.Note})
	}
	r.sink.Table(t.state)
}

// convert fills image with a tuple's values. where says what a marker of an
// unchanged value falls back to: the old row's value where that is known.
func (r *run) convert(l *layout, tuple []pgoutput.TupleColumn, image []change.Value, fallback []change.Value) ([]change.Value, error) {
	n := len(l.convert)
	if len(tuple) != n {
		return nil, fmt.Errorf("a row of %d columns where %d were announced", len(tuple), n)
	}
	if cap(image) < n {
		image = make([]change.Value, n)
	}
	image = image[:n]
	for i := range tuple {
		switch c := &tuple[i]; c.Kind {
		case pgoutput.KindText:
			convert := l.convert[i]
			if convert == nil {
				image[i] = change.Value{Presence: change.Present, Text: c.Data}
				continue
			}
			start := len(r.arena)
			grown, err := convert(r.arena, c.Data)
			if err != nil {
				return nil, fmt.Errorf("column %s (%s): %w", l.schema.Columns[i].Name, l.schema.Columns[i].Type, err)
			}
			r.arena = grown
			image[i] = change.Value{Presence: change.Present, Text: grown[start:len(grown):len(grown)]}
		case pgoutput.KindNull:
			image[i] = change.Value{Presence: change.Null}
		case pgoutput.KindUnchanged:
			image[i] = change.Value{}
			if fallback != nil {
				image[i] = fallback[i]
			}
		default:
			return nil, fmt.Errorf("column %s came in binary form, which was not asked for", l.schema.Columns[i].Name)
		}
	}
	return image, nil
}

func (r *run) cannotDecode(rel *relation, err error) error {
	return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
		Message: fmt.Sprintf("table %s: the row at %s of the log cannot be decoded", rel.layout.name, LSN(r.row.Place)),
		Fix:     "report it with this line; nothing was lost, capture waits there"}
}

func (r *run) insert(rel *relation, m *pgoutput.Insert) (err error) {
	r.adopt(rel.table, rel.layout, LSN(r.row.Place))
	if r.image[1], err = r.convert(rel.layout, m.New, r.image[1], nil); err != nil {
		return r.cannotDecode(rel, err)
	}
	r.row.Operation, r.row.After = change.Insert, r.image[1]
	r.add(rel)
	return nil
}

func (r *run) update(rel *relation, m *pgoutput.Update) (err error) {
	r.adopt(rel.table, rel.layout, LSN(r.row.Place))
	var before []change.Value
	switch m.OldKind {
	case pgoutput.OldRow:
		if r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil); err != nil {
			return r.cannotDecode(rel, err)
		}
		before = r.image[0]
		r.image[1], err = r.convert(rel.layout, m.New, r.image[1], before)
	case pgoutput.OldKey:
		if before, err = r.keyImage(rel, m.Old); err != nil {
			return r.cannotDecode(rel, err)
		}
		r.image[1], err = r.convert(rel.layout, m.New, r.image[1], nil)
	default:
		r.image[1], err = r.convert(rel.layout, m.New, r.image[1], nil)
	}
	if err != nil {
		return r.cannotDecode(rel, err)
	}
	after := r.image[1]
	if before != nil && r.keyChanged(rel, before, after) {
		r.rekey(rel, before, after, m.New)
		return nil
	}
	if m.OldKind == pgoutput.OldKey {
		before = nil // the key alone, and unchanged: no image of the old row
	}
	r.row.Operation, r.row.Before, r.row.After = change.Update, before, after
	r.add(rel)
	return nil
}

// keyImage is an image of which only the identity's columns were carried: in an
// old row of kind K a null elsewhere may mean "not carried".
func (r *run) keyImage(rel *relation, old []pgoutput.TupleColumn) (image []change.Value, err error) {
	if r.image[0], err = r.convert(rel.layout, old, r.image[0], nil); err != nil {
		return nil, err
	}
	for i, c := range rel.message.Columns {
		if !c.Identity {
			r.image[0][i] = change.Value{}
		}
	}
	return r.image[0], nil
}

func (r *run) keyChanged(rel *relation, before, after []change.Value) bool {
	r.keys[0], r.keys[1] = r.keys[0][:0], r.keys[1][:0]
	changed := false
	for _, i := range rel.layout.schema.Key() {
		r.keys[0] = append(r.keys[0], before[i])
		r.keys[1] = append(r.keys[1], after[i])
		changed = changed || !before[i].Equal(after[i])
	}
	return changed
}

// rekey makes a changed key a delete of the old row and an insert of the new
// one, each with the other's key. keyChanged has just been called.
func (r *run) rekey(rel *relation, before, after []change.Value, raw []pgoutput.TupleColumn) {
	r.row.Operation, r.row.Before, r.row.After, r.row.Rekeyed = change.Delete, before, nil, r.keys[1]
	r.sink.Add(&r.row)
	r.row.Operation, r.row.Before, r.row.After, r.row.Rekeyed = change.Insert, nil, after, r.keys[0]
	r.sink.Add(&r.row)
	if load := rel.table.load; load != nil {
		load.observeRekey(r.tx.XID, rel.layout, r.keys[0], r.keys[1], after)
		if omits(after) {
			load.readAgain(rel.layout, raw)
			r.sink.Table(rel.table.progressState())
		}
	}
}

func omits(image []change.Value) bool {
	for _, v := range image {
		if v.Presence == change.Omitted {
			return true
		}
	}
	return false
}

func (r *run) delete(rel *relation, m *pgoutput.Delete) (err error) {
	r.adopt(rel.table, rel.layout, LSN(r.row.Place))
	if m.OldKind == pgoutput.OldKey {
		r.row.Before, err = r.keyImage(rel, m.Old)
	} else {
		r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil)
		r.row.Before = r.image[0]
	}
	if err != nil {
		return r.cannotDecode(rel, err)
	}
	r.row.Operation = change.Delete
	r.add(rel)
	return nil
}

// add passes the row on, to the load of its table as well.
func (r *run) add(rel *relation) {
	r.sink.Add(&r.row)
	if load := rel.table.load; load != nil {
		load.observe(r.tx.XID, rel.layout, &r.row)
	}
}

// truncate is one event a table, all in one unit.
func (r *run) truncate(m *pgoutput.Truncate, start LSN) error {
	brings := slices.ContainsFunc(m.Relations, func(oid uint32) bool {
		rel := r.relations[oid]
		return rel == nil || !rel.skipped
	})
	for _, oid := range m.Relations {
		if rel := r.relations[oid]; rel != nil && !rel.skipped {
			r.unseen.note(r.tx.XID, rel.table.number)
		}
	}
	isNew, err := r.arrive(start, brings)
	if err != nil || !isNew {
		return err
	}
	for _, oid := range m.Relations {
		rel := r.relations[oid]
		if rel == nil {
			return &engine.Fault{Code: "cannot-decode", Final: true, Message: fmt.Sprintf("the truncate at %s of the log names table %d, which was not announced", start, oid)}
		}
		if rel.skipped {
			continue
		}
		r.adopt(rel.table, rel.layout, start)
		body, _ := json.Marshal(map[string]bool{"cascade": m.Flags&1 != 0, "restart_identity": m.Flags&2 != 0})
		r.sink.Add(&change.Row{Operation: change.Truncate, Table: rel.layout.name, Schema: rel.layout.schema, Place: uint64(start), Body: body})
		if load := rel.table.load; load != nil {
			load.observeTruncate()
		}
	}
	return nil
}

// messageBody is an application's message as an event's document. A content
// that is JSON is nested, one that is text is a string, any other is base64.
func messageBody(prefix string, content []byte) []byte {
	body := map[string]any{"prefix": prefix}
	switch {
	case len(content) > 0 && (content[0] == '{' || content[0] == '[') && json.Valid(content):
		var compact bytes.Buffer
		json.Compact(&compact, content) //nolint:errcheck // it is valid
		body["content"] = json.RawMessage(compact.Bytes())
	case utf8.Valid(content):
		body["content"] = string(content)
	default:
		body["content_base64"] = base64.StdEncoding.EncodeToString(content)
	}
	encoded, err := json.Marshal(body)
	if err != nil {
		panic(err) // strings and valid JSON always marshal
	}
	return encoded
}
