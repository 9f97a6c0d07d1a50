package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"regexp"
	"slices"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// noted is what the source's event trigger writes into the log at a statement
// that changes a schema. Any role may write such a message: it is believed to
// tell a statement's words and columns' names, and nothing depends on it.
type noted struct {
	Tag       string `json:"tag"`
	Statement string `json:"statement"`
	Tables    []struct {
		OID     uint32 `json:"oid"`
		Table   string `json:"table"`
		Columns []struct {
			Name   string `json:"name"`
			Number int    `json:"number"`
		} `json:"columns"`
		// Partitions are those of a partitioned table that hold rows, by OID; absent
		// from an earlier version's trigger.
		Partitions *map[uint32]string `json:"partitions"`
	} `json:"tables"`
	Dropped []string `json:"dropped"`
}

// maxStatement bounds the text that goes into an event, in bytes.
const maxStatement = 16 << 10

// statement takes a note of the event trigger: the schema event that it is about
// carries the statement, and comes at once where the catalogue has nothing newer.
func (r *run) statement(ctx context.Context, m *pgoutput.LogicalMessage, start session.LSN) error {
	var n noted
	if json.Unmarshal(m.Content, &n) != nil {
		return nil // not the trigger's
	}
	if r.config.Rules.Private() && !r.tellable(&n) {
		n.Statement = n.Tag
	}
	if len(n.Statement) > maxStatement {
		n.Statement = n.Statement[:maxStatement]
	}
	var steps []step
	for _, one := range n.Tables {
		r.forget(one.OID)
		if before := r.owners[one.OID]; before != nil && before.State.Table != one.Table && !before.Mapped() {
			steps = append(steps, step{before.State.Schema != nil, func() { r.leaves(before, n.Statement, start) }})
		}
		t := r.tables[one.Table]
		if t == nil || t.Rule() == nil {
			continue
		}
		columns := make([]catalogue.Column, len(one.Columns))
		for i, c := range one.Columns {
			columns[i] = catalogue.Column{Number: c.Number, Name: c.Name}
		}
		next, err := r.stated(ctx, t, one.OID, columns, n.Statement, start)
		if err != nil {
			return err
		}
		if next.do != nil {
			steps = append(steps, next)
		}
		if t.Mapped() && one.Partitions != nil {
			steps = append(steps, r.partitionsLeft(t, func(oid uint32, _ string) bool { return (*one.Partitions)[oid] == "" }, start)...)
		}
	}
	for _, name := range n.Dropped {
		if t := r.tables[name]; t != nil && t.State.Schema != nil && !engine.Away(t.State.State) {
			steps = append(steps, step{true, func() { r.leaves(t, n.Statement, start) }})
			continue
		}
		for _, t := range r.tables {
			if t.Mapped() {
				steps = append(steps, r.partitionsLeft(t, func(_ uint32, own string) bool { return own == name }, start)...)
			}
		}
	}
	isNew, err := r.arrive(start, slices.ContainsFunc(steps, func(s step) bool { return s.brings }))
	if err != nil || !isNew {
		return err
	}
	for _, s := range steps {
		s.do()
	}
	return nil
}

// step is something to do at a place of the log; brings says that it adds an event.
type step struct {
	brings bool
	do     func()
}

// partitionsLeft are the steps where partitions of a table have gone with their rows.
// Those that have come are found by looking at the source, once they are published.
func (r *run) partitionsLeft(t *tables.Table, gone func(oid uint32, own string) bool, place session.LSN) []step {
	members, guests := maps.Clone(t.ID.Members), maps.Clone(t.ID.Guests)
	maps.DeleteFunc(members, gone)
	maps.DeleteFunc(guests, gone)
	if len(members) == len(t.ID.Members) && len(guests) == len(t.ID.Guests) {
		return nil
	}
	return []step{{t.State.Schema != nil, func() { r.repartitioned(t, members, guests, false, place) }}}
}

var oneAlterTable = regexp.MustCompile(`(?is)^\s*alter\s+table\s[^;]*;?\s*$`)

// tellable says whether a statement's text can hold no value that a rule keeps private:
// it is one ALTER TABLE alone, and of tables whose rules treat no column. The text of
// others may have come with statements beside it, or be a call that made them.
func (r *run) tellable(n *noted) bool {
	if n.Tag != "ALTER TABLE" || len(n.Tables) == 0 || !oneAlterTable.MatchString(n.Statement) {
		return false
	}
	for _, one := range n.Tables {
		t := r.owners[one.OID]
		if t == nil {
			t = r.tables[one.Table]
		}
		if t == nil || t.Rule() == nil || t.Rule().Private() {
			return false
		}
	}
	return true
}

// stated takes a table's columns as they are behind a statement; its step does
// nothing where nothing is to be said.
func (r *run) stated(ctx context.Context, t *tables.Table, oid uint32, columns []catalogue.Column, statement string, place session.LSN) (step, error) {
	l, err := catalogue.Current(ctx, r.config, r.control, oid, t.State.Table, t.Rule())
	var fault *engine.Fault
	if errors.As(err, &fault) {
		l = nil // its schema event comes with the table's next row
	} else if err != nil {
		return step{}, err
	}
	if l != nil && sameColumnsAs(l.Columns(), columns) && t.Doubt == "" {
		// The catalogue is still as the statement left it.
		if t.ID.OID == l.OID && t.State.Schema != nil && l.Exposes(t.ID.Columns, t.State.Schema) != "" {
			return step{}, nil // its next row stops capture
		}
		changes := catalogue.ChangesOf(t.ID.Columns, l.Columns())
		if t.State.Schema != nil && t.ID.OID == l.OID && t.State.Schema.Fingerprint() == l.Schema.Fingerprint() && len(changes.Renamed) == 0 && !changes.Redefined && !t.ID.Storages[l.Own].Rewritten(l.Storage) {
			// It has changed nothing that a version holds; or the version on record is of a
			// look at the catalogue that was ahead of the log, and has the change already.
			return step{false, func() { t.Statement = joined(t.Statement, statement) }}, nil
		}
		return step{true, func() {
			t.Statement = joined(t.Statement, statement)
			r.adopt(t, l, place)
		}}, nil
	}
	// The catalogue has gone on: the version comes with the next row, and what is
	// known of the columns here is kept for it.
	if t.ID.OID != oid {
		return step{}, nil
	}
	return step{false, func() {
		t.Statement = joined(t.Statement, statement)
		if sameColumnsAs(t.ID.Newest(), columns) {
			return // it may have changed a type, or nothing
		}
		for i := range columns {
			for _, was := range t.ID.Newest() {
				if was.Number == columns[i].Number {
					columns[i].Treat = was.Treat
				}
			}
		}
		t.ID.Latest = columns
		r.sink.Table(t.Record())
	}}, nil
}

func sameColumnsAs(a, b []catalogue.Column) bool {
	return slices.EqualFunc(a, b, func(x, y catalogue.Column) bool { return x.Number == y.Number && x.Name == y.Name })
}

// joined are statements one after the other, as far as there is room for them.
func joined(before, statement string) string {
	switch {
	case before == "" || before == statement:
		return statement
	case statement == "":
		return before
	case len(before)+len(statement) < maxStatement:
		return before + ";\n" + statement
	}
	return before
}

// leaves has a table go that was dropped or has another name now.
func (r *run) leaves(t *tables.Table, statement string, place session.LSN) {
	r.consistsOf(t, nil)
	t.ID.OID, t.ID.Columns, t.ID.Latest = 0, nil, nil
	t.Told = r.looks
	switch {
	case engine.Away(t.State.State):
	case t.State.Schema == nil:
		r.loads.LeaveOut(t, states.Gone)
	default:
		r.goes(t, statement, place)
	}
}

// repartitioned takes a table's partitions as they are at a place, and those of its
// guests that stay: rows that went with one are void there, rows that came with another
// are read. again says that one has been away, and is back.
func (r *run) repartitioned(t *tables.Table, now, guests map[uint32]string, again bool, place session.LSN) {
	was := maps.Clone(t.ID.Members)
	left := maps.Clone(was)
	if left == nil {
		left = make(map[uint32]string)
	}
	maps.Copy(left, t.ID.Guests)
	t.ID.Guests = maps.Clone(guests)
	for oid := range now {
		if before := r.owners[oid]; before != nil && before != t && !before.Mapped() {
			r.leaves(before, "", place) // it was a table of its own
		}
		if rel := r.relations[oid]; rel != nil && was[oid] == "" && rel.table != t {
			rel.moved = true
		}
	}
	r.consistsOf(t, maps.Clone(now))
	t.State.Members = slices.Sorted(maps.Values(now))
	gone, come := again, []string(nil)
	for oid := range left {
		if now[oid] != "" || guests[oid] != "" {
			continue
		}
		gone = true
		delete(t.ID.Attached, oid)
		if r.owners[oid] == t {
			delete(r.owners, oid)
		}
		if rel := r.relations[oid]; rel != nil {
			rel.moved = true
		}
	}
	for oid, name := range now {
		if was[oid] == "" {
			come = append(come, name)
		}
	}
	if gone {
		r.void(t, states.Unlogged("a partition was detached or dropped, and its rows went without an event"), place)
		return
	}
	slices.Sort(come)
	for _, name := range come {
		r.readPartition(t, name)
	}
	r.sink.Table(t.Record())
	r.sink.Touch()
}

// goes puts on record that a table is dropped or renamed; a unit is open.
func (r *run) goes(t *tables.Table, statement string, place session.LSN) {
	if t.Statement != "" { // none of its rows has come since
		statement, t.Statement = joined(t.Statement, statement), ""
	}
	body := change.SchemaChange{Previous: t.State.Schema, Statement: statement}
	r.sink.Add(&change.Row{Operation: change.Definition, Table: t.State.Table, Schema: t.State.Schema, Place: uint64(place), Body: body.Encode()})
	t.Told = r.looks
	t.State.Schema = nil // whatever comes under its name has its own schema event
	r.loads.LeaveOut(t, states.Gone)
}

// followCatalogue puts on record, at a mark, what was found by looking at the source
// and no row has brought: there the catalogue is looked at again, for all of it at
// once. It reports the tables some of whose partitions are new.
func (r *run) followCatalogue(ctx context.Context, conn *pgx.Conn, found *differences) error {
	if len(found.changed)+len(found.gone)+len(found.members) == 0 {
		return nil
	}
	return r.place(ctx, conn, func() error {
		oids := slices.Collect(maps.Values(found.changed))
		for _, members := range found.rewritten {
			oids = append(oids, members...)
		}
		slices.Sort(oids)
		oids = slices.Compact(oids)
		now, err := catalogue.Describe(ctx, r.control, oids)
		if err != nil {
			return err
		}
		for t, oid := range found.changed {
			rule := t.Rule()
			if rule == nil || engine.Away(t.State.State) || len(now[oid].Columns) == 0 {
				continue
			}
			// The stream may come to the mark much later than it was written: what the catalogue has
			// had since then stands behind it in the log. The next look finds that.
			if !found.listed[t].Still(now[oid], t.Mapped()) {
				continue
			}
			l, err := catalogue.LayoutOf(r.config, now[oid], t.State.Table, rule)
			var fault *engine.Fault
			if errors.As(err, &fault) {
				continue // its schema event comes with the table's next row
			}
			if err != nil {
				return err
			}
			for _, member := range found.rewritten[t] { // unless a row has told it meanwhile
				rewritten, _ := t.ID.Store(member, now[member].Storage(rule))
				t.Redefined = t.Redefined || rewritten
			}
			if t.State.Schema == nil || t.ID.OID != l.OID || l.Exposes(t.ID.Columns, t.State.Schema) == "" {
				r.adopt(t, l, r.lastRow)
			}
		}
		for _, t := range found.gone {
			if t.Told < found.look { // else it has come back
				r.leaves(t, "", r.lastRow)
			}
		}
		for t, members := range found.members {
			guests := maps.Clone(t.ID.Guests)
			maps.DeleteFunc(guests, func(oid uint32, _ string) bool { return found.strays[t][oid] != "" })
			again := t.ID.CameBack(found.attached[t])
			t.ID.Attached = found.attached[t]
			r.repartitioned(t, members, guests, again, r.lastRow)
		}
		return nil
	})
}
