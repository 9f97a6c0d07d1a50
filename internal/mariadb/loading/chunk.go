package loading

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/values"
	"rillmark/internal/mariadb/wire"
)

// chunk is rows of a table that were read together.
type chunk struct {
	listed *catalogue.Table
	layout *rows.Layout
	// large is what was left out of rows, by their place in rows before anything is laid over.
	large map[*change.Value]map[string]int64
	// after is the key of the last row, as literals; end is set where no more follow.
	after []string
	end   bool
	bytes int
	*buffers
}

// buffers are what the rows of a chunk lie in. They are used again, since two chunks at a time
// are under way and a load has thousands: fresh ones had the garbage collector take a third of
// the time.
type buffers struct {
	texts  []byte
	images []change.Value
	rows   [][]change.Value
}

// reset empties the buffers, and gives back those that a chunk of large rows left: the room of
// some chunks of the usual size is kept.
func (b *buffers) reset(chunkBytes int) {
	b.texts, b.images, b.rows = b.texts[:0], b.images[:0], b.rows[:0]
	if cap(b.texts) > 4*chunkBytes {
		b.texts = nil
	}
	if cap(b.images) > 1<<18 {
		b.images = nil
	}
	if cap(b.rows) > 50_000 {
		b.rows = nil
	}
}

// room has the texts take at least so many bytes more; those before stay where they are.
func (b *buffers) room(n int) {
	if cap(b.texts)-len(b.texts) < n {
		b.texts = make([]byte, 0, max(256<<10, min(2*cap(b.texts), 4<<20), n))
	}
}

// image is a copy of a projected row; its texts lie in the buffers already, but for what the
// rule has made of them.
func (b *buffers) image(projected []change.Value) []change.Value {
	if cap(b.images)-len(b.images) < len(projected) {
		b.images = make([]change.Value, 0, max(4096, min(2*cap(b.images), 1<<17), len(projected)))
	}
	start := len(b.images)
	b.images = append(b.images, projected...)
	return b.images[start:len(b.images):len(b.images)]
}

// empty are buffers to fill; [loader.giveBack] takes them back.
func (l *loader) empty() *buffers {
	l.writer.Fresh()
	if n := len(l.free); n > 0 {
		b := l.free[n-1]
		l.free = l.free[:n-1]
		return b
	}
	return new(buffers)
}

// giveBack takes a chunk's buffers back, of which nobody looks at a row any more.
func (l *loader) giveBack(c *chunk) {
	c.reset(l.in.Config.ChunkBytes)
	l.free, c.buffers = append(l.free, c.buffers), nil
}

// walkable reports whether a table can be read in the order of its key.
func walkable(t *catalogue.Table, l *rows.Layout) bool {
	key := t.Key()
	if len(key) == 0 || len(l.Schema.Key()) != len(key) {
		return false
	}
	for _, c := range t.Columns {
		if c.Key == 0 {
			continue
		}
		if c.TwoDigits() {
			return false // no index helps with what its values are
		}
		switch c.Kind {
		case values.Integer, values.Year, values.Decimal, values.Date, values.Time, values.DateTime, values.Timestamp, values.Text, values.Binary, values.UUID, values.Inet4, values.Inet6:
		case values.Bits, values.Float, values.Double, values.JSON, values.Enum, values.Set, values.Geometry:
			return false
		}
	}
	return true
}

// selecting is a SELECT of all columns that are looked at.
func selecting(t *catalogue.Table, l *rows.Layout) string {
	names := make([]string, 0, len(t.Columns))
	for i, c := range t.Columns {
		if l.Needed[i] {
			names = append(names, c.Selection(wire.Name(c.Name)))
		}
	}
	from := " FROM " + wire.Name(t.Database) + "." + wire.Name(t.Table)
	if t.Versioned {
		from += " FOR SYSTEM_TIME ALL"
	}
	return "SELECT " + strings.Join(names, ", ") + from
}

// behind is the condition for rows behind a key.
func behind(key, after []string) string {
	var alternatives []string
	for i := range key {
		var parts []string
		for j := range i {
			parts = append(parts, wire.Name(key[j])+" = "+after[j])
		}
		alternatives = append(alternatives, "("+strings.Join(append(parts, wire.Name(key[i])+" > "+after[i]), " AND ")+")")
	}
	all := strings.Join(alternatives, " OR ")
	if len(key) > 1 { // the server finds the range by the first column
		return wire.Name(key[0]) + " >= " + after[0] + " AND (" + all + ")"
	}
	return all
}

// literal is a value that a SELECT brought, as a literal of the server's language.
func (l *loader) literal(c *values.Column, text []byte) string {
	switch c.Kind {
	case values.Integer, values.Year, values.Decimal:
		return string(text)
	case values.Text:
		return "_" + l.reader.Sets[c.Log.Collation].Name + " X'" + hex.EncodeToString(text) + "'"
	case values.Binary:
		return "X'" + hex.EncodeToString(text) + "'"
	default:
		return "'" + string(text) + "'"
	}
}

// needed counts the columns that are read.
func needed(which []bool) (n int) {
	for _, is := range which {
		if is {
			n++
		}
	}
	return n
}

// read reads the next rows of a table by its key: at most limit, 0 for all.
func (l *loader) rows(ctx context.Context, j *job, limit int, each func(*chunk) error) (*chunk, error) {
	c := &chunk{listed: j.listed, layout: j.layout, buffers: l.empty()}
	key := j.listed.Key()
	statement := selecting(j.listed, j.layout)
	var conditions []string
	if j.at.Where != "" {
		conditions = append(conditions, "("+j.at.Where+")")
	}
	if len(j.at.After) == len(key) && len(key) > 0 && limit > 0 {
		conditions = append(conditions, "("+behind(key, j.at.After)+")")
	}
	if len(conditions) > 0 {
		statement += " WHERE " + strings.Join(conditions, " AND ")
	}
	if limit > 0 {
		names := make([]string, len(key))
		for i, k := range key {
			names[i] = wire.Name(k)
		}
		statement += " ORDER BY " + strings.Join(names, ", ") + fmt.Sprintf(" LIMIT %d", limit)
	}
	result, err := l.conn.Query(ctx, statement)
	if err == nil {
		err = result.Want(needed(j.layout.Needed))
	}
	if err != nil {
		return nil, err
	}
	n := 0
	var last [][]byte
	for row := result.Next(); row != nil; row = result.Next() {
		if n++; limit > 0 && n > limit {
			return nil, fmt.Errorf("the server answers with more than the %d rows that were asked for", limit)
		}
		if err := l.convert(c, row); err != nil {
			return nil, err
		}
		if n == limit {
			for i, at := 0, 0; i < len(j.listed.Columns); i++ {
				if !j.layout.Needed[i] {
					continue
				}
				if j.listed.Columns[i].Key > 0 {
					last = append(last, slices.Clone(row[at]))
				}
				at++
			}
		}
		if each != nil && c.bytes >= l.in.Config.ChunkBytes {
			if err := each(c); err != nil {
				return nil, err
			}
			c.bytes, c.large = 0, nil
			c.reset(l.in.Config.ChunkBytes)
			l.writer.Fresh()
		}
	}
	if err := result.Err(); err != nil {
		return nil, err
	}
	if c.end = n < limit || limit == 0; !c.end {
		c.after = make([]string, len(key))
		at := 0
		for _, column := range j.listed.Columns {
			if column.Key > 0 {
				c.after[column.Key-1] = l.literal(column, last[at])
				at++
			}
		}
	}
	return c, nil
}

// convert takes a row that a SELECT brought.
func (l *loader) convert(c *chunk, row [][]byte) error {
	if cap(l.raw) < len(c.listed.Columns) {
		l.raw = make([]change.Value, len(c.listed.Columns))
	}
	l.raw = l.raw[:len(c.listed.Columns)]
	at := 0
	for i, column := range c.listed.Columns {
		if !c.layout.Needed[i] {
			l.raw[i] = change.Value{}
			continue
		}
		text := row[at]
		at++
		if text == nil {
			l.raw[i] = change.NullValue()
			continue
		}
		c.room(2*len(text) + 64)
		start := len(c.texts)
		grown, err := column.FromSelect(c.texts, text)
		if err != nil && !l.in.Garbled.Note(l.in.Sink, c.listed.Name(), column, err) {
			return fmt.Errorf("column %s (%s): %w", column.Name, column.Type, err)
		}
		c.texts = grown
		l.raw[i] = change.Value{Presence: change.Present, Text: grown[start:len(grown):len(grown)]}
		c.bytes += len(grown) - start
	}
	c.bytes += 8
	if c.layout.Verdict(func(i int) change.Value { return l.raw[i] }) == expression.Fails {
		return nil // outside of the filter
	}
	if err := c.layout.GaveUp(); err != nil {
		return err
	}
	projected := l.writer.Project(c.layout, l.raw, 0)
	image := c.image(projected)
	if large := l.writer.Large(); large != nil {
		if c.large == nil {
			c.large = make(map[*change.Value]map[string]int64)
		}
		c.large[&image[0]] = large
	}
	c.rows = append(c.rows, image)
	return nil
}

// layoutOf looks a table up for a job, where its definition may have changed since.
func (l *loader) layoutOf(ctx context.Context, j *job) error {
	l.in.under(func() {
		if j.version = j.table.Version; j.load.Listed != nil && j.load.Version == j.version {
			j.listed, j.layout = j.load.Listed, j.load.Layout
		}
	})
	if j.listed != nil {
		return nil
	}
	listed, err := l.reader.Find(ctx, j.table.Name.Database, j.table.Name.Name)
	if err != nil {
		return err
	}
	if listed == nil {
		return errNoTable
	}
	if listed.Unfit != "" {
		return &engine.Fault{Code: "unknown-type", Message: listed.Unfit}
	}
	j.listed = listed
	return l.in.Sink.Locked(func() error {
		if j.layout, err = l.in.Host.LayoutOf(j.table, listed.Columns); err == nil {
			j.load.Listed, j.load.Layout, j.load.Version = j.listed, j.layout, j.version
		}
		return err
	})
}
