package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
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
	if rel.layout, err = catalogue.Announced(ctx, r.config, r.control, d, m, name, rule, before); err != nil {
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
	rel.table = t
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

// adopt makes a layout the table's current one. Where it is another than the one on
// record it adds the events that stand before its first row: that earlier rows no
// longer hold, if they are another table's, and the new schema version. A unit is
// open.
func (r *run) adopt(t *tables.Table, l *catalogue.Layout, place session.LSN) {
	old := t.State.Schema
	same := old != nil && (old == l.Schema || old.Fingerprint() == l.Schema.Fingerprint())
	if l.Adopted && same && t.Doubt == "" {
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
	why := t.Doubt
	if other {
		why = "it was dropped and made again, or another table has come under its name"
	}
	if void {
		r.sink.Add(&change.Row{Operation: change.Void, Table: l.Name, Schema: old, Place: uint64(place)})
	}
	redefined := changes.Redefined || !other && l.Uncertain && len(t.ID.Columns) > 0
	recorded := t.ID.OID == l.OID && slices.Equal(t.ID.Columns, now) && t.ID.Latest == nil
	t.ID.OID, t.ID.Columns, t.ID.Latest = l.OID, now, nil
	if t.ID.Members[l.OID] == "" && !t.Mapped() {
		r.consistsOf(t, map[uint32]string{l.OID: l.Name})
	}
	rewrites := false
	if !same || len(changes.Renamed) > 0 || redefined {
		rewrites = old != nil && !void && (redefined || !changes.Known && lost(old, l) || l.Rewrites(old, &changes))
		body := change.SchemaChange{Fingerprint: l.Schema.Fingerprint().String(), Definition: l.Schema, Previous: old, Rewrites: rewrites,
			Statement: t.Statement, Renamed: changes.Renamed}
		r.sink.Add(&change.Row{Operation: change.Definition, Table: l.Name, Schema: l.Schema, Place: uint64(place), Body: body.Encode()})
		t.State.Schema = l.Schema
	}
	t.Statement, t.Doubt = "", ""
	switch {
	case void:
		r.beginAnew(t, why)
	case rewrites:
		r.rewritten(t, "a schema change filled or changed rows without an event")
	case same && recorded && !redefined:
		return
	}
	r.sink.Table(t.ProgressState())
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
func (r *run) void(t *tables.Table, why string, place session.LSN) {
	if t.State.Schema != nil {
		r.sink.Add(&change.Row{Operation: change.Void, Table: t.State.Table, Schema: t.State.Schema, Place: uint64(place)})
	}
	t.Doubt = ""
	r.beginAnew(t, why)
}

// beginAnew has a table whose rows have been declared void read again, or shown as
// stale where nothing is loaded.
func (r *run) beginAnew(t *tables.Table, why string) {
	if r.config.Load {
		r.loads.WantFull(t)
		t.Load.Ready = true
		t.State.State, t.State.Note, t.State.RowsDone = engine.StateToLoad, why, 0
		r.loads.WakeLoaders()
	} else {
		t.State.State, t.State.Note = engine.StateStale, why
	}
	r.sink.Table(t.ProgressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "warn", Event: "table-" + t.State.State, Message: t.State.Table + ": " + why})
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
				r.passOver(l.Schema.Columns[i].Name, r.sizeOf(l.Raw[from].OID, c.Data))
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
			r.passOver(l.Schema.Columns[i].Name, size)
		default:
			return nil, fmt.Errorf("column %s came in binary form, which was not asked for", l.Schema.Columns[i].Name)
		}
	}
	return image, nil
}

func (r *run) passOver(column string, size int64) {
	if r.tooLarge == nil {
		r.tooLarge = make(map[string]int64)
	}
	r.tooLarge[column] = size
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

// refuse puts what was passed over of a row on record: in its event, and on its
// table, which is no longer whole.
func (r *run) refuse(t *tables.Table, l *catalogue.Layout, row *change.Row, sizes map[string]int64) {
	row.Body = change.TooLargeBody(sizes)
	image := row.After
	if image == nil {
		image = row.Before
	}
	key := make([]string, 0, 2)
	for _, i := range l.Schema.Key() {
		key = append(key, l.Schema.Columns[i].Name+" "+string(image[i].Text))
	}
	for column, size := range sizes {
		r.sink.Report(engine.Report{Level: "error", Event: "value-too-large", Message: fmt.Sprintf("%s, %s: the value of column %s, of %d bytes, is larger than largest_value and left out", l.Name, strings.Join(key, ", "), column, size)})
	}
	if t.Load == nil && t.State.State == engine.StateFollowing {
		t.State.State = engine.StateStale
		t.State.Note = fmt.Sprintf("a value larger than largest_value was left out of %s: raise it, or leave the column out by a rule, and reload the table", strings.Join(key, ", "))
		r.sink.Table(t.ProgressState())
	}
}

// admits asks the filter about the row of a tuple; of a key tuple only the
// identity's columns are known, and fallback is the old row where there is one.
func (r *run) admits(rel *relation, tuple, fallback []pgoutput.TupleColumn, keyOnly bool) rules.Verdict {
	l := rel.layout
	if l.Condition == nil {
		return rules.Holds
	}
	var scratch []byte
	held, known := l.Condition.Holds(func(i int) change.Value {
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
			if convert := l.Raw[i].Convert; convert != nil {
				start := len(scratch)
				grown, err := convert(scratch, c.Data)
				if err != nil {
					return change.NullValue()
				}
				scratch = grown
				return change.Value{Presence: change.Present, Text: grown[start:]}
			}
			return change.Value{Presence: change.Present, Text: c.Data}
		default:
			return change.Value{}
		}
	})
	switch {
	case !known:
		return rules.Unknown
	case held:
		return rules.Holds
	}
	return rules.Fails
}

func (r *run) cannotDecode(rel *relation, err error) error {
	return &engine.Fault{Code: "cannot-decode", Final: true, Cause: err,
		Message: fmt.Sprintf("table %s: the row at %s of the log cannot be decoded", rel.layout.Name, session.LSN(r.row.Place)),
		Fix:     "report it with this line; nothing was lost, capture waits there"}
}

func (r *run) insert(rel *relation, m *pgoutput.Insert) (err error) {
	r.adopt(rel.table, rel.layout, session.LSN(r.row.Place))
	if r.image[1], err = r.convert(rel.layout, m.New, r.image[1], nil); err != nil {
		return r.cannotDecode(rel, err)
	}
	r.row.Operation, r.row.After = change.Insert, r.image[1]
	r.add(rel)
	if rel.rule.Filter != nil {
		r.askRefetch(rel, m.New, r.image[1]) // the publication may have made it of an update
	}
	return nil
}

func (r *run) update(rel *relation, m *pgoutput.Update) (err error) {
	effect := rules.Changes
	if rel.rule.Filtered() {
		effect = rules.EffectOf(r.was, r.is)
	}
	r.adopt(rel.table, rel.layout, session.LSN(r.row.Place))
	var before []change.Value
	var fallback []change.Value
	switch m.OldKind {
	case pgoutput.OldRow:
		if r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil); err != nil {
			return r.cannotDecode(rel, err)
		}
		before, fallback = r.image[0], r.image[0]
	case pgoutput.OldKey:
		if before, err = r.keyImage(rel, m.Old); err != nil {
			return r.cannotDecode(rel, err)
		}
	case pgoutput.OldNone:
	}
	if r.image[1], err = r.convert(rel.layout, m.New, r.image[1], fallback); err != nil {
		return r.cannotDecode(rel, err)
	}
	after := r.image[1]
	rekeyed := before != nil && r.keyChanged(rel, before, after)
	switch {
	case effect == rules.Leaves:
		if before == nil {
			before = r.keyOf(rel, after)
		}
		r.row.Operation, r.row.Before = change.Delete, r.recorded(rel, before)
	case effect == rules.Enters:
		r.row.Operation, r.row.After = change.Insert, after
		defer r.askRefetch(rel, m.New, after)
	case rekeyed:
		r.rekey(rel, before, after, m)
		return nil
	default:
		if m.OldKind == pgoutput.OldKey || rel.rule.Image != rules.ImageBoth {
			before = nil // the key alone, and unchanged: no image of the old row
		}
		r.row.Operation, r.row.Before, r.row.After = change.Update, before, after
		if load := rel.table.Load; load != nil && load.MovesRows() && omits(after) && load.ReadAgain(rel.layout, nil, m.New, after) {
			r.sink.Table(rel.table.ProgressState())
		}
	}
	r.add(rel)
	return nil
}

// concerns reports whether an update of a filtered table brings an event: not one
// of a row that was outside of the filter and stays there, and, where the rule
// says so, not one that touches no captured column.
func (r *run) concerns(rel *relation, m *pgoutput.Update) bool {
	r.was, r.is = r.verdicts(rel, m)
	if rules.EffectOf(r.was, r.is) == rules.Nothing {
		return false
	}
	if !rel.rule.SkipUntouched || m.OldKind != pgoutput.OldRow || r.was != r.is {
		return true
	}
	for _, i := range rel.layout.From {
		before, after := &m.Old[i], &m.New[i]
		if after.Kind != pgoutput.KindUnchanged && (before.Kind != after.Kind || !bytes.Equal(before.Data, after.Data)) {
			return true
		}
	}
	return false
}

// verdicts is what the filter says of the old and of the new row.
func (r *run) verdicts(rel *relation, m *pgoutput.Update) (was, is rules.Verdict) {
	if rel.layout.Condition == nil {
		return rules.Holds, rules.Holds
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

// recorded is what a rule records of an old row.
func (r *run) recorded(rel *relation, before []change.Value) []change.Value {
	if rel.rule.Image == rules.ImageBoth {
		return before
	}
	for i := range before {
		if rel.layout.Schema.Columns[i].Key == 0 && len(rel.layout.Schema.Key()) > 0 {
			before[i] = change.Value{}
		}
	}
	return before
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

func (r *run) keyChanged(rel *relation, before, after []change.Value) bool {
	r.keys[0], r.keys[1] = r.keys[0][:0], r.keys[1][:0]
	changed := false
	for _, i := range rel.layout.Schema.Key() {
		r.keys[0] = append(r.keys[0], before[i])
		r.keys[1] = append(r.keys[1], after[i])
		changed = changed || !before[i].Equal(after[i])
	}
	return changed
}

// rekey makes a changed key a delete of the old row and an insert of the new
// one, each with the other's key. keyChanged has just been called.
func (r *run) rekey(rel *relation, before, after []change.Value, m *pgoutput.Update) {
	r.row.Operation, r.row.Before, r.row.After, r.row.Rekeyed = change.Delete, r.recorded(rel, before), nil, r.keys[1]
	r.sink.Add(&r.row)
	r.row.Operation, r.row.Before, r.row.After, r.row.Rekeyed = change.Insert, nil, after, r.keys[0]
	if len(r.tooLarge) > 0 {
		r.refuse(rel.table, rel.layout, &r.row, r.tooLarge)
		r.tooLarge = nil
	}
	r.sink.Add(&r.row)
	r.row.Body = nil
	if load := rel.table.Load; load != nil {
		load.ObserveRekey(r.tx.XID, r.keys[0], r.keys[1], after)
		if omits(after) && load.ReadAgain(rel.layout, m.Old, m.New, after) {
			r.sink.Table(rel.table.ProgressState())
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
	r.adopt(rel.table, rel.layout, session.LSN(r.row.Place))
	if m.OldKind == pgoutput.OldKey {
		r.row.Before, err = r.keyImage(rel, m.Old)
	} else {
		r.image[0], err = r.convert(rel.layout, m.Old, r.image[0], nil)
		r.row.Before = r.image[0]
	}
	if err != nil {
		return r.cannotDecode(rel, err)
	}
	r.row.Operation, r.row.Before = change.Delete, r.recorded(rel, r.row.Before)
	r.add(rel)
	return nil
}

// add passes the row on, to the load of its table as well.
func (r *run) add(rel *relation) {
	if len(r.tooLarge) > 0 {
		r.refuse(rel.table, rel.layout, &r.row, r.tooLarge)
		r.tooLarge = nil
	}
	r.sink.Add(&r.row)
	if load := rel.table.Load; load != nil {
		load.Observe(r.tx.XID, rel.layout, &r.row)
	}
}
