package journal

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"rillmark/internal/change"
)

// ErrCorrupt says that a block's bytes are not what was written.
var ErrCorrupt = errors.New("the journal's block is damaged")

// Cursor reads a payload's events one after the other.
type Cursor struct {
	// Resolve finds a schema version by its fingerprint.
	Resolve func(change.Fingerprint) (*change.Schema, error)
	// Wants, where not nil, selects tables whose events are read, messages having
	// none; others are passed over, which takes a tenth of reading them.
	Wants func(table string) bool
	// For is the outlet that reads: events of which another outlet is the only reader
	// are skipped. 0 skips all of those, [Everyone] none.
	For int64
	// Passed counts the events that were passed over since Reset, those that are no
	// longer kept among them.
	Passed int64

	rest   []byte
	tables []cursorTable
	tx     change.Transaction
	index  uint64
	place  uint64
	before []change.Value
	after  []change.Value
	other  []change.Value
}

// Everyone reads events whoever they are for.
const Everyone int64 = -1

// isFor reports whether events for somebody come to whoever reads for reader.
func isFor(somebody, reader int64) bool {
	return somebody == 0 || somebody == reader || reader == Everyone
}

type cursorTable struct {
	Table
	schema   *change.Schema
	unwanted bool
}

// Reset begins at the start of a payload.
func (c *Cursor) Reset(payload []byte) {
	c.rest = payload
	c.tables = c.tables[:0]
	c.index, c.place, c.Passed = 0, 0, 0
}

// Next fills e with the next event, leaving Source, Generation, Offset,
// Database and Engine to the caller. more is false at the end. The event's
// slices point into the payload and into the cursor, until the next call.
func (c *Cursor) Next(e *change.Event) (more bool, err error) {
	for len(c.rest) > 0 {
		tag := c.rest[0]
		c.rest = c.rest[1:]
		switch tag {
		case tagSection:
			c.tables = c.tables[:0]
			c.index, c.place = 0, 0
		case tagTable, tagTableFor:
			if err := c.table(tag); err != nil {
				return false, err
			}
		case tagTransaction:
			if err := c.transaction(); err != nil {
				return false, err
			}
		case tagOrigin:
			origin, err := c.bytes()
			if err != nil {
				return false, err
			}
			c.tx.Origin = string(origin)
		case tagExpired:
			n, places, err := c.expired()
			if err != nil {
				return false, err
			}
			c.index += n
			c.place += uint64(places)
			c.Passed += int64(n)
		case tagEvent:
			passed, err := c.event(e)
			if !passed || err != nil {
				return true, err
			}
		default:
			return false, fmt.Errorf("%w: unknown entry %d", ErrCorrupt, tag)
		}
	}
	return false, nil
}

func (c *Cursor) uvarint() (uint64, error) {
	v, n := binary.Uvarint(c.rest)
	if n <= 0 {
		return 0, fmt.Errorf("%w: a number is cut off", ErrCorrupt)
	}
	c.rest = c.rest[n:]
	return v, nil
}

func (c *Cursor) varint() (int64, error) {
	v, n := binary.Varint(c.rest)
	if n <= 0 {
		return 0, fmt.Errorf("%w: a number is cut off", ErrCorrupt)
	}
	c.rest = c.rest[n:]
	return v, nil
}

func (c *Cursor) bytes() ([]byte, error) {
	n, err := c.uvarint()
	if err != nil {
		return nil, err
	}
	return c.take(n)
}

func (c *Cursor) take(n uint64) ([]byte, error) {
	if n > uint64(len(c.rest)) {
		return nil, fmt.Errorf("%w: %d bytes needed, %d are left", ErrCorrupt, n, len(c.rest))
	}
	taken := c.rest[:n:n]
	c.rest = c.rest[n:]
	return taken, nil
}

// expired is an entry of events that are no longer kept: their number, and how far
// their places go.
func (c *Cursor) expired() (events uint64, places int64, err error) {
	if events, err = c.uvarint(); err != nil {
		return 0, 0, err
	}
	if events > math.MaxInt32 {
		return 0, 0, fmt.Errorf("%w: an entry for %d events", ErrCorrupt, events)
	}
	places, err = c.varint()
	return events, places, err
}

func (c *Cursor) tableEntry(tag byte) (t Table, err error) {
	var only uint64
	if tag == tagTableFor {
		if only, err = c.uvarint(); err != nil {
			return t, err
		}
	}
	raw, err := c.take(8)
	if err != nil {
		return t, err
	}
	columns, err := c.uvarint()
	if err != nil {
		return t, err
	}
	name, err := c.bytes()
	return Table{Name: string(name), Fingerprint: change.Fingerprint(binary.BigEndian.Uint64(raw)), Columns: int(columns), For: int64(only)}, err
}

func (c *Cursor) table(tag byte) error {
	entry, err := c.tableEntry(tag)
	if err != nil {
		return err
	}
	t := cursorTable{Table: entry}
	if t.Fingerprint != 0 {
		if t.schema, err = c.Resolve(t.Fingerprint); err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
		if len(t.schema.Columns) != t.Columns {
			return fmt.Errorf("%w: table %s has %d columns, its schema version %d", ErrCorrupt, t.Name, t.Columns, len(t.schema.Columns))
		}
	}
	t.unwanted = c.Wants != nil && !c.Wants(t.Name) || !isFor(t.For, c.For)
	c.tables = append(c.tables, t)
	return nil
}

func (c *Cursor) transaction() error {
	id, err := c.bytes()
	if err != nil {
		return err
	}
	micros, err := c.varint()
	if err != nil {
		return err
	}
	if c.index, err = c.uvarint(); err != nil {
		return err
	}
	c.tx = change.Transaction{ID: string(id), CommittedAt: time.UnixMicro(micros).UTC()}
	return nil
}

// event reads an event, or skips one of a table that is not selected.
func (c *Cursor) event(e *change.Event) (passed bool, err error) {
	head := c.rest
	at, flags, delta, err := c.eventHead(len(c.tables))
	if err != nil {
		return false, err
	}
	c.place += uint64(delta)
	t := &c.tables[at]
	if t.unwanted {
		c.index++
		c.Passed++
		return true, c.pass(flags, t.Columns)
	}
	e.Operation, e.Table, e.Schema, e.Place = change.Operation(head[0]), t.Name, t.schema, c.place
	e.For = t.For
	e.Transaction = c.tx
	e.Transaction.Index, e.Transaction.Last = c.index, flags&flagLast != 0
	c.index++
	e.Before, e.After, e.Rekeyed, e.Body = nil, nil, nil, nil
	if flags&flagBefore != 0 {
		if e.Before, err = c.values(&c.before, t.Columns); err != nil {
			return false, err
		}
	}
	if flags&flagAfter != 0 {
		if e.After, err = c.values(&c.after, t.Columns); err != nil {
			return false, err
		}
	}
	if flags&flagRekeyed != 0 {
		n, err := c.uvarint()
		if err != nil {
			return false, err
		}
		if n > uint64(len(c.rest)) {
			return false, fmt.Errorf("%w: a key of %d values", ErrCorrupt, n)
		}
		if e.Rekeyed, err = c.values(&c.other, int(n)); err != nil {
			return false, err
		}
	}
	if flags&flagBody != 0 {
		if e.Body, err = c.bytes(); err != nil {
			return false, err
		}
	}
	return false, nil
}

// eventHead is how an event begins behind its tag: with its operation, flags, table
// and place.
func (c *Cursor) eventHead(tables int) (table uint64, flags byte, place int64, err error) {
	head, err := c.take(2)
	if err != nil {
		return 0, 0, 0, err
	}
	if table, err = c.uvarint(); err != nil {
		return 0, 0, 0, err
	}
	if table >= uint64(tables) {
		return 0, 0, 0, fmt.Errorf("%w: an event names table %d of %d", ErrCorrupt, table, tables)
	}
	place, err = c.varint()
	return table, head[1], place, err
}

// pass steps over the rest of an event.
func (c *Cursor) pass(flags byte, columns int) error {
	if flags&flagBefore != 0 {
		if err := c.passValues(columns); err != nil {
			return err
		}
	}
	if flags&flagAfter != 0 {
		if err := c.passValues(columns); err != nil {
			return err
		}
	}
	if flags&flagRekeyed != 0 {
		n, err := c.uvarint()
		if err != nil {
			return err
		}
		if n > uint64(len(c.rest)) {
			return fmt.Errorf("%w: a key of %d values", ErrCorrupt, n)
		}
		if err := c.passValues(int(n)); err != nil {
			return err
		}
	}
	if flags&flagBody != 0 {
		_, err := c.bytes()
		return err
	}
	return nil
}

func (c *Cursor) passValues(n int) error {
	rest := c.rest
	for range n {
		if len(rest) == 0 {
			return fmt.Errorf("%w: an image is cut off", ErrCorrupt)
		}
		size, width := uint64(rest[0]), 1
		if size >= 0x80 {
			if size, width = binary.Uvarint(rest); width <= 0 {
				return fmt.Errorf("%w: a number is cut off", ErrCorrupt)
			}
		}
		rest = rest[width:]
		if size < 2 {
			continue
		}
		if size -= 2; size > uint64(len(rest)) {
			return fmt.Errorf("%w: a value of %d bytes where %d are left", ErrCorrupt, size, len(rest))
		}
		rest = rest[size:]
	}
	c.rest = rest
	return nil
}

func (c *Cursor) values(into *[]change.Value, n int) ([]change.Value, error) {
	if n > len(c.rest) {
		return nil, fmt.Errorf("%w: %d values in %d bytes", ErrCorrupt, n, len(c.rest))
	}
	if cap(*into) < n {
		*into = make([]change.Value, n)
	}
	values := (*into)[:n]
	rest := c.rest
	for i := range values {
		if len(rest) == 0 {
			return nil, fmt.Errorf("%w: an image is cut off", ErrCorrupt)
		}
		size, width := uint64(rest[0]), 1
		if size >= 0x80 {
			if size, width = binary.Uvarint(rest); width <= 0 {
				return nil, fmt.Errorf("%w: a number is cut off", ErrCorrupt)
			}
		}
		rest = rest[width:]
		switch size {
		case 0:
			values[i] = change.Value{}
		case 1:
			values[i] = change.Value{Presence: change.Null}
		default:
			size -= 2
			if size > uint64(len(rest)) {
				return nil, fmt.Errorf("%w: a value of %d bytes where %d are left", ErrCorrupt, size, len(rest))
			}
			values[i] = change.Value{Presence: change.Present, Text: rest[:size:size]}
			rest = rest[size:]
		}
	}
	c.rest = rest
	return values, nil
}
