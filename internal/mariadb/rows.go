package mariadb

import (
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"slices"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/values"
)

// maxBindings bounds the table maps that are kept: each statement on a table's definition
// makes new ones.
const maxBindings = 10_000

// isOurs reports whether a database is the server's own.
func isOurs(database string) bool {
	return slices.Contains([]string{"mysql", "information_schema", "performance_schema", "sys"}, database)
}

// bind takes a table map: which table the rows that follow belong to, and what they become.
func (r *run) bind(ctx context.Context, s *stream.Stream, body []byte) error {
	if len(body) < 6 {
		return s.CannotDecode(binlog.ErrMalformed)
	}
	id := uint64(body[0]) | uint64(body[1])<<8 | uint64(body[2])<<16 | uint64(body[3])<<24 | uint64(body[4])<<32 | uint64(body[5])<<40
	if b := r.bindings[id]; b != nil && bytes.Equal(b.body, body) && (b.table == nil || b.version == b.table.Version) {
		r.announce(b)
		return nil
	}
	m, err := binlog.DecodeTableMap(body)
	if err != nil {
		return s.CannotDecode(err)
	}
	if len(r.bindings) >= maxBindings {
		clear(r.bindings)
	}
	b := &binding{body: bytes.Clone(body), width: len(m.Columns), key: m.Database + "." + m.Table, transactional: true}
	r.bindings[id] = b
	name := change.TableName(m.Database, m.Table)
	b.name = name
	r.announce(b)
	rule := r.rule(name)
	if rule == nil || isOurs(m.Database) {
		b.merged, err = r.isMerged(ctx, m.Database, m.Table)
		return err
	}
	if !m.Full {
		return &engine.Fault{Code: "log-metadata", Final: true, Message: fmt.Sprintf("the rows of %s at %s:%d of the log come without the names of their columns (binlog_row_metadata was not FULL when they were written)", name, s.File(), s.Place().Offset),
			Fix: "SET GLOBAL binlog_row_metadata = 'FULL', and in the server's configuration; then, " + session.Anew}
	}
	if catalogue.MayBeSequence(m) {
		listed, err := r.reader.Find(ctx, m.Database, m.Table)
		if err != nil || listed == nil {
			return err
		}
		if _, agrees, err := catalogue.Bind(m, listed, r.reader.Sets, nil); err == nil && !agrees {
			return nil // a table of that name has come since
		}
	}
	t := r.tables[name]
	if t == nil {
		t = r.newTable(name, statement.Table{Database: m.Database, Name: m.Table})
		r.appears(t)
	}
	b.table, b.version = t, t.Version
	if t.Listed == nil {
		if t.Listed, err = r.reader.Find(ctx, m.Database, m.Table); err != nil {
			return err
		}
	}
	columns, agrees, err := catalogue.Bind(m, t.Listed, r.reader.Sets, t.Stated)
	if err == nil && !agrees {
		if t.Listed, err = r.reader.Find(ctx, m.Database, m.Table); err != nil {
			return err
		}
		columns, agrees, err = catalogue.Bind(m, t.Listed, r.reader.Sets, t.Stated)
	}
	if err != nil {
		return &engine.Fault{Code: "unknown-type", Final: true, Cause: err, Message: "table " + name + " cannot be captured", Fix: "leave the table out by a rule, or give the column another type"}
	}
	if t.Listed != nil {
		b.transactional, b.merged = t.Listed.Transactional(), t.Listed.Engine == engineMerge
	}
	b.columns = columns
	if agrees {
		b.filled = t.Listed.Filled
	}
	b.layout, err = r.layout(t, columns, !agrees)
	return err
}

// announce notes which tables a statement has announced, where any has others that change
// with it.
func (r *run) announce(b *binding) {
	if len(r.children) == 0 {
		return
	}
	if r.tx.announced == nil {
		r.tx.announced = make(map[string]bool)
	}
	r.tx.announced[b.name] = true
}

// layout is a version of a table of these columns.
func (r *run) layout(t *loads.Table, columns []*values.Column, guessed bool) (*rows.Layout, error) {
	bare := make([]change.Column, len(columns))
	for i, c := range columns {
		bare[i] = c.Column
	}
	l, err := rows.New(rows.Version{Engine: change.MariaDB, Name: t.State.Table, Rule: t.ChosenBy, Columns: bare, HashKey: r.config.HashKey, Guessed: guessed})
	if err != nil {
		return nil, err
	}
	if before := t.State.Schema; before != nil && !engine.Away(t.State.State) {
		if column := l.Private(before); column != "" {
			return nil, &engine.Fault{Code: "private-column-gone", Final: true,
				Message: fmt.Sprintf("column %q of %s, which the rules keep private, is gone and another has come: if it was renamed, its values would be captured as they are", column, t.State.Table),
				Fix:     "say in the source's rules how the new column is treated (keep, drop, mask or hash); nothing was lost, capture waits there"}
		}
	}
	return l, nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// digestOf goes on with a group's digest over an event with rows.
func digestOf(digest uint32, table string, data []byte) uint32 {
	digest = crc32.Update(digest, castagnoli, []byte(table))
	return crc32.Update(digest, castagnoli, data)
}

// rows takes an event with rows, which has a number in its group.
func (r *run) rows(s *stream.Stream, g *group, e stream.Event, number int) error {
	event, err := binlog.DecodeRows(e.Type, e.Body, g.scratch)
	if err != nil {
		return s.CannotDecode(err)
	}
	if e.Type >= binlog.TypeWriteCompressedV1 && cap(event.Data) <= maxHeld {
		g.scratch = event.Data[:0]
	}
	if len(event.Data) == 0 {
		return nil
	}
	b := r.bindings[event.Table]
	if b == nil {
		return s.CannotDecode(fmt.Errorf("rows of table %d, which was not announced", event.Table))
	}
	if !g.rolled {
		r.tx.digest = digestOf(r.tx.digest, b.key, event.Data)
	}
	if event.Flags&binlog.FlagStatementEnd != 0 {
		defer func() { r.tx.statement = "" }()
	}
	if g.rolled && b.transactional || uint64(number) < r.skip>>32 && (r.tx.statement == "" || b.table == nil) {
		return nil
	}
	if b.merged {
		r.writtenThrough(b)
	}
	if len(r.children) > 0 {
		if event.Kind != binlog.Write {
			r.cascaded(b, event.Kind)
		}
		if event.Flags&binlog.FlagStatementEnd != 0 {
			defer clear(r.tx.announced)
		}
	}
	if b.table == nil || r.tx.leftOut {
		return nil
	}
	if event.Width != b.width {
		return s.CannotDecode(fmt.Errorf("rows of %d columns where %d were announced", event.Width, b.width))
	}
	r.tx.observing = b.table
	short := event.After != nil && !binlog.IsFull(event.After, b.width)
	data := event.Data
	for row := uint64(1); len(data) > 0; row++ {
		var before, after []change.Value
		r.tx.arena = r.tx.arena[:0]
		if event.Before != nil {
			if before, data, err = r.image(b, event.Before, data, 0); err != nil {
				return r.badRow(s, b, err)
			}
		}
		if event.After != nil {
			if after, data, err = r.image(b, event.After, data, 1); err != nil {
				return r.badRow(s, b, err)
			}
		}
		if event.Kind == binlog.Update {
			complete(before, after)
		}
		ordinal := uint64(number)<<32 | row
		effect, brings := b.layout.Brings(before, after)
		if err := b.layout.GaveUp(); err != nil {
			return err
		}
		isNew, err := r.arrive(ordinal, brings)
		if err != nil {
			return err
		}
		if !isNew && brings {
			r.tx.statement = "" // it is in the journal with its first row
		}
		if !isNew || !brings {
			continue
		}
		if !b.adopted {
			b.adopted = true
			r.adopt(b.table, b.layout, b.filled)
		}
		if short && b.layout.Lacking(effect, before, after) {
			r.states.Lacks(b.table, shortRows)
		}
		r.addStatement()
		r.writer.Write(b.layout, r.tx.place, effect, before, after)
	}
	return nil
}

var shortRows = states.ByHand(change.Reason{Cause: change.CauseValueMissing, Text: "rows have come without some of their values (binlog_row_image was not FULL when they were written): SET GLOBAL binlog_row_image = 'FULL', and in the server's configuration"})

func (r *run) badRow(s *stream.Stream, b *binding, err error) error {
	return s.CannotDecode(fmt.Errorf("a row of table %s: %w", b.table.State.Table, err))
}

// complete takes what a short image of a changed row left out from the row before it.
func complete(before, after []change.Value) {
	for i := range after {
		if after[i].Presence == change.Omitted {
			after[i] = before[i]
		}
	}
}

// arrive moves to what has a number in the open group and reports whether it is new to the
// journal. For what will bring events it begins a unit.
func (r *run) arrive(ordinal uint64, brings bool) (isNew bool, err error) {
	if ordinal <= r.skip {
		r.tx.ordinal = ordinal
		return false, nil
	}
	if brings {
		if err := r.sink.Reserve(); err != nil {
			return false, err
		}
		if !r.tx.begun {
			r.sink.Begin(r.tx.id, r.tx.origin, r.tx.time, r.skipIndex)
			r.tx.begun = true
		}
	}
	r.tx.ordinal = ordinal
	return true, nil
}

// image reads one row: a bit for each column that is there whether it is null, then the
// others' values.
func (r *run) image(b *binding, there []byte, data []byte, half int) (image []change.Value, rest []byte, err error) {
	n := len(b.columns)
	image = r.tx.image[half]
	if cap(image) < n {
		image = make([]change.Value, n)
	}
	image = image[:n]
	r.tx.image[half] = image
	full := binlog.IsFull(there, n)
	present := n
	if !full {
		present = 0
		for i := range n {
			if binlog.Has(there, i) {
				present++
			}
		}
	}
	if len(data) < (present+7)/8 {
		return nil, nil, binlog.ErrMalformed
	}
	nulls, data := data[:(present+7)/8], data[(present+7)/8:]
	at := 0
	for i, c := range b.columns {
		if !full && !binlog.Has(there, i) {
			image[i] = change.Value{}
			continue
		}
		null := nulls[at/8]&(1<<(at%8)) != 0
		at++
		if null {
			image[i] = change.NullValue()
			continue
		}
		if !b.layout.Needed[i] {
			skipped, err := c.Skip(data)
			if err != nil {
				return nil, nil, fmt.Errorf("column %s: %w", c.Name, err)
			}
			image[i], data = change.Value{}, data[skipped:]
			continue
		}
		if text, used, is := c.Alias(data); is {
			image[i], data = change.Value{Presence: change.Present, Text: text}, data[used:]
			continue
		}
		start := len(r.tx.arena)
		grown, used, err := c.FromLog(r.tx.arena, data)
		if err != nil && !r.garbled.Note(r.sink, b.table.State.Table, c, err) {
			return nil, nil, fmt.Errorf("column %s (%s): %w", c.Name, c.Type, err)
		}
		r.tx.arena = grown
		image[i], data = change.Value{Presence: change.Present, Text: grown[start:len(grown):len(grown)]}, data[used:]
	}
	return image, data, nil
}

// refused puts on a table's record that values of one of its rows were left out.
func (r *run) refused(table, key string) {
	t := r.tables[table]
	if t == nil {
		return
	}
	r.states.LeftOut(t, key)
}

// observe hands a changed row to the load of its table.
func (r *run) observe(was, is, after []change.Value) {
	if l := r.tx.observing.Load; l != nil {
		l.Observe(r.tx.end, was, is, after)
	}
}

// binding is a table map, and what its rows become.
type binding struct {
	body    []byte       // the map's, to know it again
	table   *loads.Table // nil where the rules leave it out
	version int          // of the table, when it was bound
	width   int
	columns []*values.Column
	layout  *rows.Layout
	// adopted is true once its version is the table's on record.
	adopted bool
	filled  []bool
	key     string // the table's name, for digests
	name    string // the same as events have it
	// transactional is false of a table whose rows stay when its group is rolled back.
	transactional bool
	// merged is true of a table that is a union of MyISAM tables: its rows are theirs.
	merged bool
}
