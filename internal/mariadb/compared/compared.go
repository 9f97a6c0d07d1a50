// Package compared reads the rows of a table as events would have them, for a comparison:
// see package verify.
package compared

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/expression"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/values"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/verify"
)

// Options are how rows are read.
type Options struct {
	Table   string // as events name it
	Rule    *rules.Table
	HashKey []byte
	// Largest is the size in bytes above which a value is left out.
	Largest int64
	// Where chooses the rows; empty for all.
	Where string
	// History has the rows that a system-versioned table keeps of the past read, too.
	History bool
}

// Rows are a table's, over a session of their own.
type Rows struct {
	conn    *wire.Conn
	table   *catalogue.Table
	layout  *rows.Layout
	sets    values.Charsets
	options Options
	writer  rows.Writer
	key     []int // places in the table's columns
	limit   int   // rows of a page
	arena   []byte
	raw     []change.Value
}

var _ verify.Side = (*Rows)(nil)

// Open begins to read a table. The session becomes the rows' own: its values come in their
// own character sets, and times in UTC.
func Open(ctx context.Context, conn *wire.Conn, o Options) (r *Rows, err error) {
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	reader, err := catalogue.NewReader(ctx, conn)
	if err != nil {
		return nil, err
	}
	database, name, _ := change.SplitTable(o.Table)
	table, err := reader.Find(ctx, database, name)
	switch {
	case err != nil:
		return nil, err
	case table == nil:
		return nil, verify.ErrNoTable
	case table.Unfit != "":
		return nil, verify.Incomparable(table.Unfit)
	}
	bare := make([]change.Column, len(table.Columns))
	for i, c := range table.Columns {
		bare[i] = c.Column
	}
	layout, err := rows.New(rows.Version{Engine: change.MariaDB, Name: o.Table, Rule: o.Rule, Columns: bare, HashKey: o.HashKey})
	if err != nil {
		return nil, err
	}
	r = &Rows{conn: conn, table: table, layout: layout, sets: reader.Sets, options: o, writer: rows.Writer{Largest: o.Largest}, limit: 1000}
	for _, i := range layout.Schema.Key() {
		at := layout.From[i]
		switch c := table.Columns[at]; c.Kind {
		case values.Bits, values.Float, values.Double, values.JSON, values.Enum, values.Set, values.Geometry:
			return nil, verify.Incomparable("the column " + c.Name + " of its key has type " + c.Type + ", by whose values rows cannot be read in their order")
		default:
		}
		r.key = append(r.key, at)
	}
	return r, nil
}

// Schema implements [verify.Side].
func (r *Rows) Schema() *change.Schema { return r.layout.Schema }

// Close implements [verify.Side].
func (r *Rows) Close() { r.conn.Close() }

// pageBytes is about how much of a table is read at a time.
const pageBytes = 1 << 20

// After implements [verify.Side].
func (r *Rows) After(ctx context.Context, after, upTo []string) (verify.Page, error) {
	conditions := r.conditions()
	if after != nil {
		conditions = append(conditions, r.side(after, ">"))
	}
	if upTo != nil {
		conditions = append(conditions, r.side(upTo, "<", "="))
	}
	limit := r.limit
	read, err := r.read(ctx, conditions, r.inOrder()+fmt.Sprintf(" LIMIT %d", limit))
	if err != nil {
		return verify.Page{}, err
	}
	if n := read.n; n > 0 {
		r.limit = min(max(pageBytes/max(len(r.arena)/n, 1), 50), 5000)
	}
	return verify.Page{Rows: read.rows, Last: read.last, End: read.n < limit}, nil
}

func (r *Rows) inOrder() string {
	names := make([]string, len(r.key))
	for i, at := range r.key {
		names[i] = r.table.Columns[at].Compared(wire.Name(r.table.Columns[at].Name))
	}
	return " ORDER BY " + strings.Join(names, ", ")
}

// Skip implements [verify.Side].
func (r *Rows) Skip(ctx context.Context, after []string, rows int64) (last []string, end bool, err error) {
	conditions := r.conditions()
	if after != nil {
		conditions = append(conditions, r.side(after, ">"))
	}
	names := make([]string, len(r.key)) // no other column has to be read for the rows that are passed over
	for i, at := range r.key {
		names[i] = r.table.Columns[at].Selection(wire.Name(r.table.Columns[at].Name))
	}
	result, err := r.conn.Query(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+r.from(conditions)+r.inOrder()+fmt.Sprintf(" LIMIT 1 OFFSET %d", rows-1))
	if err == nil {
		err = result.Want(len(r.key))
	}
	if err != nil {
		return after, false, err
	}
	for row := result.Next(); row != nil; row = result.Next() {
		for i, at := range r.key {
			c := r.table.Columns[at]
			value := change.NullValue()
			if row[i] != nil {
				value.Presence = change.Present
				if value.Text, err = valueOf(c, nil, row[i]); err != nil {
					return after, false, err
				}
			}
			last = append(last, verify.KeyText(&c.Column, value))
		}
	}
	if err := result.Err(); err != nil || last == nil {
		return after, err == nil, err
	}
	return last, false, nil
}

// keysAtOnce bounds how many keys are asked for together: the server looks each up.
const keysAtOnce = 200

// These implements [verify.Side].
func (r *Rows) These(ctx context.Context, keys [][]string) (found [][]change.Value, err error) {
	for part := range slices.Chunk(keys, keysAtOnce) {
		alternatives := make([]string, len(part))
		for n, key := range part {
			equal := make([]string, len(r.key))
			for i, at := range r.key {
				equal[i] = r.table.Columns[at].Compared(wire.Name(r.table.Columns[at].Name)) + " = " + literal(r.table.Columns[at], key[i])
			}
			alternatives[n] = "(" + strings.Join(equal, " AND ") + ")"
		}
		read, err := r.read(ctx, append(r.conditions(), "("+strings.Join(alternatives, " OR ")+")"), "")
		if err != nil {
			return nil, err
		}
		for _, row := range read.rows {
			found = append(found, change.CloneImage(row))
		}
	}
	return found, nil
}

// incomparable makes an error with which the server refuses to read a table the verdict on that
// table: the others are compared. Errors of the connection stay.
func incomparable(err error) error {
	var refused *wire.Error
	if errors.As(err, &refused) && (strings.HasPrefix(refused.State, "22") || strings.HasPrefix(refused.State, "42")) {
		return verify.Incomparable("the server refuses to read it: " + refused.Error())
	}
	return err
}

func (r *Rows) conditions() []string {
	if r.options.Where == "" {
		return nil
	}
	return []string{r.options.Where}
}

// side is a condition for the rows on one side of a key, the key itself included where a
// second comparison says so.
func (r *Rows) side(key []string, compare string, itself ...string) string {
	var alternatives []string
	for i := range r.key {
		var parts []string
		for j := range i + 1 {
			c := r.table.Columns[r.key[j]]
			how := " = "
			if j == i {
				how = " " + compare + " "
				if i == len(r.key)-1 {
					how = " " + compare + strings.Join(itself, "") + " "
				}
			}
			parts = append(parts, c.Compared(wire.Name(c.Name))+how+literal(c, key[j]))
		}
		alternatives = append(alternatives, "("+strings.Join(parts, " AND ")+")")
	}
	condition := "(" + strings.Join(alternatives, " OR ") + ")"
	if first := r.table.Columns[r.key[0]]; len(r.key) > 1 { // the server finds the range by the first column
		condition = first.Compared(wire.Name(first.Name)) + " " + compare + "= " + literal(first, key[0]) + " AND " + condition
	}
	return condition
}

// from is the table, and which of its rows.
func (r *Rows) from(conditions []string) string {
	from := wire.Name(r.table.Database) + "." + wire.Name(r.table.Table)
	if r.table.Versioned && r.options.History {
		from += " FOR SYSTEM_TIME ALL"
	}
	if len(conditions) > 0 {
		from += " WHERE " + strings.Join(conditions, " AND ")
	}
	return from
}

// page is what a statement brought.
type page struct {
	rows [][]change.Value
	n    int      // rows that were read, those outside of the filter included
	last []string // the key of the last one
}

func (r *Rows) read(ctx context.Context, conditions []string, behind string) (*page, error) {
	var names []string
	for i, c := range r.table.Columns {
		if r.layout.Needed[i] {
			names = append(names, c.Selection(wire.Name(c.Name)))
		}
	}
	result, err := r.conn.Query(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+r.from(conditions)+behind)
	if err == nil {
		err = result.Want(len(names))
	}
	if err != nil {
		return nil, incomparable(err)
	}
	p := new(page)
	r.arena = nil // the page before stays what it is
	r.writer.Fresh()
	for row := result.Next(); row != nil; row = result.Next() {
		p.n++
		if err := r.convert(p, row); err != nil {
			return nil, err
		}
	}
	return p, incomparable(result.Err())
}

func (r *Rows) convert(p *page, row [][]byte) error {
	if r.raw == nil {
		r.raw = make([]change.Value, len(r.table.Columns))
	}
	at := 0
	for i, c := range r.table.Columns {
		if !r.layout.Needed[i] {
			r.raw[i] = change.Value{}
			continue
		}
		text := row[at]
		at++
		if text == nil {
			r.raw[i] = change.NullValue()
			continue
		}
		if cap(r.arena)-len(r.arena) < 2*len(text)+64 {
			r.arena = make([]byte, 0, max(256<<10, 4*len(text)+64))
		}
		start := len(r.arena)
		grown, err := valueOf(c, r.arena, text)
		if err != nil {
			return err
		}
		r.arena = grown
		r.raw[i] = change.Value{Presence: change.Present, Text: grown[start:len(grown):len(grown)]}
	}
	p.last = p.last[:0]
	for _, at := range r.key {
		p.last = append(p.last, verify.KeyText(&r.table.Columns[at].Column, r.raw[at]))
	}
	if r.layout.Verdict(func(i int) change.Value { return r.raw[i] }) == expression.Fails {
		return nil // outside of the filter
	}
	if err := r.layout.GaveUp(); err != nil {
		return err
	}
	p.rows = append(p.rows, slices.Clone(r.writer.Project(r.layout, r.raw, 0)))
	r.writer.Large()
	return nil
}

// valueOf appends a value as events have it.
func valueOf(c *values.Column, dst, text []byte) ([]byte, error) {
	grown, err := c.FromSelect(dst, text)
	var undecodable *values.Undecodable
	if err != nil && !errors.As(err, &undecodable) { // those stand as in an event
		return dst, fmt.Errorf("column %s (%s): %w", c.Name, c.Type, err)
	}
	return grown, nil
}

// literal is a key's text, from whichever engine it comes, as this server reads it.
func literal(c *values.Column, text string) string {
	switch c.Kind {
	case values.Integer, values.Year, values.Decimal:
		switch text {
		case "true", "t":
			return "1"
		case "false", "f":
			return "0"
		}
		if strings.Trim(text, "-0123456789.") == "" && text != "" {
			return text
		}
	case values.Binary:
		if digits, is := strings.CutPrefix(text, `\x`); is {
			return "X'" + digits + "'"
		}
	case values.DateTime, values.Timestamp:
		text = strings.TrimSuffix(strings.TrimSuffix(strings.Replace(text, "T", " ", 1), "Z"), "+00")
	default:
	}
	return "_utf8mb4 X'" + hex.EncodeToString([]byte(text)) + "'"
}

// Present is how far the server's log reaches now: what was committed before is in it.
func Present(ctx context.Context, conn *wire.Conn) (uint64, error) {
	row, err := conn.One(ctx, 2, "SHOW BINLOG STATUS")
	if err != nil {
		return 0, err
	}
	if len(row) < 2 {
		return 0, errors.New("the server writes no binary log")
	}
	return stream.PlaceOf(row[0], row[1]).Number(), nil
}
