package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"slices"

	"rillmark/internal/capture/rules"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
	"rillmark/internal/postgres/wire"
)

// relate takes a Relation message: the first of a table, or a changed one.
func (r *run) relate(ctx context.Context, m *pgoutput.Relation) error {
	rel := &relation{message: m}
	own := change.TableName(m.Namespace, m.Name)
	r.last = nil
	if !r.config.Rules.MapsPartitions() && r.config.Rules.For(own) == nil {
		rel.skipped = true
		r.relations[m.OID] = rel
		return nil
	}
	d, err := r.described(ctx, m)
	if err != nil {
		return fmt.Errorf("looking up %s: %w", own, err)
	}
	r.relations[m.OID] = rel
	name, rule := r.belongs(m.OID, own, d)
	rel.held = r.mayHaveHeld(m, d, name)
	if rule == nil {
		rel.skipped = true
		return nil
	}
	rel.own, rel.rule = own, rule
	t := r.tables[name]
	var before *catalogue.OnRecord
	if t != nil {
		before = &catalogue.OnRecord{ID: &t.ID, Newest: t.State.Schema, Mapped: t.Mapped()}
	}
	if rel.layout, err = catalogue.Announced(ctx, r.config, r.control, d, m, r.tx.XID, name, rule, before); err != nil {
		return err
	}
	if t != nil && t.State.Schema != nil && t.ID.OID == rel.layout.OID {
		if column := rel.layout.Exposes(t.ID.Columns, t.State.Schema); column != "" {
			return &engine.Fault{Code: "private-column-gone", Final: true,
				Message: fmt.Sprintf("column %q of %s, which the rules keep private, is gone and another has come: if it was renamed, its values would be captured as they are", column, name),
				Fix:     "say in the source's rules how the new column is treated (keep, drop, mask or hash); nothing was lost, capture waits there"}
		}
	}
	if t == nil {
		// Published and chosen, but not listed yet: it came into being a moment ago.
		// keepPublishing will list it; until then only its rows are taken.
		t = r.newTable(name)
		if r.config.Load {
			r.loads.WantLoad(t)
		}
	}
	t.Told = r.looks
	rel.table, rel.enums = t, enumsOf(rel)
	if t.Mapped() {
		r.hosts(t, m.OID, own)
	}
	if t.Load != nil {
		t.Load.RelationChanged(rel.layout)
	}
	return nil
}

// belongs is the name that a table's rows carry at this place of the log, and its
// rule. The name is the message's; which root a partition belonged to stands in the
// catalogue alone, which may be of a later moment: where the record says otherwise,
// the record counts, and the rows of both that it could be no longer hold.
func (r *run) belongs(oid uint32, own string, d *catalogue.Described) (string, *rules.Table) {
	root := ""
	if r.config.Rules.MapsPartitions() {
		root = d.Root
	}
	name, rule := r.config.Rules.Target(own, root)
	recorded := r.owners[oid]
	if recorded == nil || recorded.State.Table == name || !recorded.Mapped() && name != root {
		return name, rule
	}
	const why = "a partition was detached, attached, moved or dropped before its rows were read, and it is not known which table's they are"
	if recorded.Mapped() {
		recorded.Doubt = why
	}
	if other := r.tables[name]; name == root && other != nil {
		other.Doubt = why
	}
	if was := r.config.Rules.For(recorded.State.Table); was != nil {
		return recorded.State.Table, was
	}
	return name, rule
}

// mayHaveHeld are the partitioned tables that a table may have been a partition of when this
// transaction wrote its rows, although the catalogue has it as a table of its own now: all
// those with the same columns, since nothing else tells which it was.
func (r *run) mayHaveHeld(m *pgoutput.Relation, d *catalogue.Described, name string) (held []*tables.Table) {
	if r.owners[m.OID] != nil && r.owners[m.OID].Mapped() || !d.LeftAfter(r.tx.XID) {
		return nil
	}
	for _, t := range r.tables {
		if t.Mapped() && t.State.Table != name && t.State.Schema != nil && !engine.Away(t.State.State) && catalogue.Fits(t.ID.Newest(), m.Columns, true) {
			held = append(held, t)
		}
	}
	return held
}

// adopt makes a layout the table's current one. Where it is another than the one on
// record it adds the events that stand before its first row: that earlier rows no
// longer hold, if they are another table's, and the new schema version. A unit is
// open.
func (r *run) adopt(t *tables.Table, l *catalogue.Layout, place session.LSN) {
	old := t.State.Schema
	same := old != nil && (old == l.Schema || old.Fingerprint() == l.Schema.Fingerprint())
	if l.Adopted && same && t.Doubt == "" && !t.Redefined {
		return
	}
	l.Adopted = true
	if before := r.owners[l.OID]; before != nil && before != t && !before.Mapped() {
		// The table had another name until here.
		r.consistsOf(before, nil)
		before.ID.OID, before.ID.Columns, before.ID.Latest = 0, nil, nil
		if before.State.Schema != nil && !engine.Away(before.State.State) {
			r.goes(before, "", place)
		}
	}
	now := l.Columns()
	other := t.ID.OID != 0 && t.ID.OID != l.OID
	changes := catalogue.ColumnChanges{}
	if !other {
		changes = catalogue.ChangesOf(t.ID.Columns, now)
	}
	void := old != nil && (other || t.Doubt != "")
	why := states.Unlogged(t.Doubt)
	if other {
		why = change.Reason{Cause: change.CauseReplaced, Text: "it was dropped and made again, or another table has come under its name"}
	}
	if void {
		r.sink.Add(&change.Row{Operation: change.Void, Table: l.Name, Schema: old, Place: uint64(place)})
	}
	if other {
		t.ID.Storages = nil
	}
	inPlace := t.ID.Storages[l.Own].InPlace(l.Storage)
	rewritten, moved := t.ID.Store(l.Own, l.Storage)
	rewritten = rewritten || t.Redefined
	t.Redefined = false
	redefined := changes.Redefined || rewritten || !other && l.Uncertain && len(t.ID.Columns) > 0
	recorded := t.ID.OID == l.OID && slices.Equal(t.ID.Columns, now) && t.ID.Latest == nil
	t.ID.OID, t.ID.Columns, t.ID.Latest = l.OID, now, nil
	if t.ID.Members[l.OID] == "" && !t.Mapped() {
		r.consistsOf(t, map[uint32]string{l.OID: l.Name})
	}
	rewrites := false
	if !same || len(changes.Renamed) > 0 || redefined {
		rewrites = old != nil && !void && (redefined || !changes.Known && lost(old, l) || l.Rewrites(old, &changes, inPlace))
		body := change.SchemaChange{Fingerprint: l.Schema.Fingerprint().String(), Definition: l.Schema, Previous: old, Rewrites: rewrites,
			Statement: t.Statement, Renamed: changes.Renamed}
		if old != nil && !void && !rewrites {
			body.Filled = l.Filled(old, &changes)
		}
		t.Statement = ""
		r.sink.Add(&change.Row{Operation: change.Definition, Table: l.Name, Schema: l.Schema, Place: uint64(place), Body: body.Encode()})
		t.State.Schema = l.Schema
		t.Told = r.looks
	}
	t.Doubt = ""
	switch {
	case void:
		r.loads.BeginAnew(t, why)
	case rewrites:
		r.loads.Rewritten(t, states.Rewritten)
	case same && recorded && !redefined && !moved:
		return
	}
	r.sink.Table(t.Record())
}

// lost reports whether a column of the old version is there no more under its name:
// without numbers nobody knows whether another one has its values now.
func lost(old *change.Schema, l *catalogue.Layout) bool {
	return slices.ContainsFunc(old.Columns, func(c change.Column) bool {
		return !slices.ContainsFunc(l.Raw, func(r catalogue.RawColumn) bool { return r.Name == c.Name })
	})
}

// void says at a place that a table's earlier rows no longer hold, and has it read
// again. A unit is open.
func (r *run) void(t *tables.Table, why change.Reason, place session.LSN) {
	if t.State.Schema != nil {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.State.Table, Schema: t.State.Schema, Place: uint64(place)})
	}
	t.Doubt = ""
	r.loads.BeginAnew(t, why)
}

// convert fills image with the captured columns of a tuple. where says what a
// marker of an unchanged value falls back to: the old row's value where that is
// known.
func (r *run) convert(l *catalogue.Layout, tuple []pgoutput.TupleColumn, image []change.Value, fallback []change.Value) ([]change.Value, error) {
	if len(tuple) != len(l.Raw) {
		return nil, fmt.Errorf("a row of %d columns where %d were announced", len(tuple), len(l.Raw))
	}
	n := len(l.From)
	if cap(image) < n {
		image = make([]change.Value, n)
	}
	image = image[:n]
	for i, from := range l.From {
		switch c := &tuple[from]; c.Kind {
		case pgoutput.KindText:
			convert := l.Convert[i]
			if len(c.Data) >= wire.BigFrame && r.isTooLarge(l.Raw[from].OID, c.Data) {
				image[i] = change.Value{}
				r.writer.LeaveOut(l.Schema.Columns[i].Name, r.sizeOf(l.Raw[from].OID, c.Data))
				continue
			}
			if convert == nil {
				image[i] = change.Value{Presence: change.Present, Text: c.Data}
				continue
			}
			start := len(r.arena)
			grown, err := convert(r.arena, c.Data)
			if err != nil {
				return nil, fmt.Errorf("column %s (%s): %w", l.Schema.Columns[i].Name, l.Schema.Columns[i].Type, err)
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
		case pgoutput.KindTooLarge:
			image[i] = change.Value{}
			size := int64(binary.BigEndian.Uint64(c.Data[1:]))
			if l.Raw[from].OID == catalogue.OIDBytea && pgoutput.ColumnKind(c.Data[0]) == pgoutput.KindText {
				size = (size - 2) / 2
			}
			r.writer.LeaveOut(l.Schema.Columns[i].Name, size)
		default:
			return nil, fmt.Errorf("column %s came in binary form, which was not asked for", l.Schema.Columns[i].Name)
		}
	}
	return image, nil
}

// sizeOf is a value's size in bytes; a bytea comes as hexadecimal digits.
func (r *run) sizeOf(oid uint32, text []byte) int64 {
	if oid == catalogue.OIDBytea {
		return int64(len(text)-2) / 2
	}
	return int64(len(text))
}

func (r *run) isTooLarge(oid uint32, text []byte) bool {
	return r.sizeOf(oid, text) > r.config.LargestValue
}

// refused puts on a table's record that values of one of its rows were left out.
func (r *run) refused(table, key string) {
	t := r.tables[table]
	if t == nil {
		return
	}
	r.loads.LeftOut(t, key)
}

// admits asks the filter about the row of a tuple; of a key tuple only the
// identity's columns are known, and fallback is the old row where there is one.
func (r *run) admits(rel *relation, tuple, fallback []pgoutput.TupleColumn, keyOnly bool) expression.Verdict {
	l := rel.layout
	if l.Filter == nil {
		return expression.Holds
	}
	var scratch []byte
	return l.Verdict(func(i int) change.Value {
		c := &tuple[i]
		if keyOnly && !rel.message.Columns[i].Identity {
			return change.Value{}
		}
		if c.Kind == pgoutput.KindUnchanged && fallback != nil {
			c = &fallback[i]
		}
		switch c.Kind {
		case pgoutput.KindNull:
			return change.NullValue()
		case pgoutput.KindText:
			return l.Raw[i].Value(&scratch, c.Data)
		default:
			return change.Value{}
		}
	})
}

func (r *run) cannotDecode(rel *relation, place session.LSN, err error) error {
	return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
		Message: fmt.Sprintf("table %s: the row at %s of the log cannot be decoded", rel.layout.Name, place),
		Fix:     "report it with this line; nothing was lost, capture waits there"}
}

func (r *run) insert(rel *relation, m *pgoutput.Insert, place session.LSN) (err error) {
	r.adopt(rel.table, rel.layout, place)
	if r.image[1], err = r.convert(rel.layout, m.New, r.image[1], nil); err != nil {
		return r.cannotDecode(rel, place, err)
	}
	r.writer.Insert(rel.layout.Layout, uint64(place), r.image[1])
	if rel.rule.Filter != nil {
		r.askRefetch(rel, place, m.New, r.image[1]) // the publication may have made it of an update
	}
	return nil
}

func (r *run) update(rel *relation, m *pgoutput.Update, place session.LSN) (err error) {
	effect := expression.Changes
	if rel.rule.Filtered() {
		effect = expression.EffectOf(r.was, r.is)
	}
	r.adopt(rel.table, rel.layout, place)
	var before, fallback []change.Value
	switch m.OldKind {
	case pgoutput.OldRow:
		if r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil); err != nil {
			return r.cannotDecode(rel, place, err)
		}
		before, fallback = r.image[0], r.image[0]
	case pgoutput.OldKey:
		if before, err = r.keyImage(rel, m.Old); err != nil {
			return r.cannotDecode(rel, place, err)
		}
	case pgoutput.OldNone:
	}
	if r.image[1], err = r.convert(rel.layout, m.New, r.image[1], fallback); err != nil {
		return r.cannotDecode(rel, place, err)
	}
	after := r.image[1]
	if effect == expression.Leaves && before == nil {
		before = r.keyOf(rel, after)
	}
	r.rekeyed = false
	r.writer.Update(rel.layout.Layout, uint64(place), effect, before, after, m.OldKind == pgoutput.OldKey)
	if effect == expression.Changes && change.Omits(after) {
		was := m.Old
		if !r.rekeyed {
			was = nil
		}
		if load := rel.table.Load; load != nil && (r.rekeyed || load.MovesRows()) && load.ReadAgain(rel.layout, was, m.New, after) {
			r.sink.Table(rel.table.Record())
		}
	}
	switch {
	case rel.layout.Filter == nil:
	case r.is == expression.Unknown:
		r.loads.Lacks(rel.table, states.ByHand(change.Reason{Cause: change.CauseValueMissing, Text: "the log left a value out that the filter asks for: rows outside of it may have come"}))
	case effect == expression.Enters, effect == expression.Changes && r.was == expression.Unknown:
		r.askRefetch(rel, place, m.New, after)
	}
	return nil
}

// concerns reports whether an update of a filtered table brings an event: not one
// of a row that was outside of the filter and stays there, and, where the rule
// says so, not one that touches no captured column.
func (r *run) concerns(rel *relation, m *pgoutput.Update) bool {
	r.was, r.is = r.verdicts(rel, m)
	_, brings := rel.layout.Concerns(r.was, r.is, func() bool {
		return m.OldKind != pgoutput.OldRow || slices.ContainsFunc(rel.layout.From, func(i int) bool {
			before, after := &m.Old[i], &m.New[i]
			return after.Kind != pgoutput.KindUnchanged && (before.Kind != after.Kind || !bytes.Equal(before.Data, after.Data))
		})
	})
	return brings
}

// verdicts is what the filter says of the old and of the new row.
func (r *run) verdicts(rel *relation, m *pgoutput.Update) (was, is expression.Verdict) {
	if rel.layout.Filter == nil {
		return expression.Holds, expression.Holds
	}
	switch m.OldKind {
	case pgoutput.OldRow:
		return r.admits(rel, m.Old, nil, false), r.admits(rel, m.New, m.Old, false)
	case pgoutput.OldKey:
		return r.admits(rel, m.Old, nil, true), r.admits(rel, m.New, nil, false)
	default: // the identity has not changed
		return r.admits(rel, m.New, nil, true), r.admits(rel, m.New, nil, false)
	}
}

// keyOf is a row's image of which only the key is there.
func (r *run) keyOf(rel *relation, row []change.Value) []change.Value {
	image := slices.Grow(r.image[0][:0], len(row))[:len(row)]
	r.image[0] = image
	for i := range row {
		image[i] = change.Value{}
		if rel.layout.Schema.Columns[i].Key > 0 {
			image[i] = row[i]
		}
	}
	return image
}

// keyImage is an image of which only the identity's columns were carried: in an
// old row of kind K a null elsewhere may mean "not carried".
func (r *run) keyImage(rel *relation, old []pgoutput.TupleColumn) (image []change.Value, err error) {
	if r.image[0], err = r.convert(rel.layout, old, r.image[0], nil); err != nil {
		return nil, err
	}
	for i, from := range rel.layout.From {
		if !rel.message.Columns[from].Identity {
			r.image[0][i] = change.Value{}
		}
	}
	return r.image[0], nil
}

func (r *run) delete(rel *relation, m *pgoutput.Delete, place session.LSN) (err error) {
	r.adopt(rel.table, rel.layout, place)
	if m.OldKind == pgoutput.OldKey {
		r.image[0], err = r.keyImage(rel, m.Old)
	} else {
		r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil)
	}
	if err != nil {
		return r.cannotDecode(rel, place, err)
	}
	r.writer.Delete(rel.layout.Layout, uint64(place), r.image[0])
	return nil
}

// observe hands a changed row to the load of its table.
func (r *run) observe(was, is, after []change.Value) {
	load := r.last.table.Load
	r.rekeyed = was != nil && is != nil && !slices.EqualFunc(was, is, change.Value.Equal)
	switch {
	case load == nil:
	case r.rekeyed:
		load.ObserveRekey(r.tx.XID, was, is, after)
	default:
		load.Observe(r.tx.XID, was, is, after)
	}
}
