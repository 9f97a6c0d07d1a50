package journal

import (
	"encoding/binary"
	"slices"
	"sync/atomic"
	"time"

	"rillmark/internal/change"
)

// The tags of a payload's entries.
const (
	tagSection     = 0 // forgets tables and transaction
	tagTable       = 1 // fingerprint (8 bytes), columns (uvarint), name
	tagTransaction = 2 // id, commit time in µs (varint), index of the next event (uvarint), base place (uvarint)
	tagOrigin      = 4 // the transaction's origin; follows its entry
	tagEvent       = 3 // operation, flags, table, place, then what the flags say
	tagExpired     = 5 // how many events are no longer kept (uvarint), and how far their places go (varint)
	tagTableFor    = 6 // the outlet that the table's events are for alone (uvarint), then as tagTable
)

// The flags of an event.
const (
	flagLast    = 1 << iota // the transaction's last event
	flagBefore              // a before image follows
	flagAfter               // an after image follows
	flagRekeyed             // the other half's key follows
	flagBody                // a document follows
)

// Table is what a payload's table entry says. A table whose events refer to no
// schema version has fingerprint 0.
type Table struct {
	Name        string
	Fingerprint change.Fingerprint
	Columns     int
	// For is the only outlet that gets the events; 0: every reader gets them.
	For int64
}

// Count is a number of events of one table and operation.
type Count struct {
	Table     string
	Operation change.Operation
	Events    int64
}

// Builder collects events into one block. It is not safe for several
// goroutines. The zero value is not ready; use [NewBuilder].
type Builder struct {
	payload     []byte
	events      int
	tables      []tableCounts
	lastSchema  *change.Schema
	lastTable   int
	lastName    string
	lastFor     int64
	flagsAt     int // where the newest event's flags stand; -1 before the first
	lastPlace   uint64
	inTx        bool // the open transaction's entry has been written
	firstCommit int64
	lastCommit  int64
}

type tableCounts struct {
	table  Table
	counts [16]int64
}

// NewBuilder has room for size bytes of events before it grows.
func NewBuilder(size int) *Builder {
	b := &Builder{payload: make([]byte, 0, size), flagsAt: -1}
	b.payload = append(b.payload, tagSection)
	return b
}

// Size is the payload's length in bytes so far.
func (b *Builder) Size() int { return len(b.payload) }

// Events is how many events have been added.
func (b *Builder) Events() int { return b.events }

// BeginTransaction says that what was written of a transaction before no longer
// describes the next event.
func (b *Builder) BeginTransaction() { b.inTx = false }

// Add puts one event into the block.
func (b *Builder) Add(tx *change.OpenTransaction, r *change.Row) {
	if !b.inTx {
		b.transaction(tx)
	}
	table := b.table(r)
	p := append(b.payload, tagEvent, byte(r.Operation))
	b.flagsAt = len(p)
	flags := byte(0)
	if r.Before != nil {
		flags |= flagBefore
	}
	if r.After != nil {
		flags |= flagAfter
	}
	if r.Rekeyed != nil {
		flags |= flagRekeyed
	}
	if r.Body != nil {
		flags |= flagBody
	}
	p = append(p, flags)
	p = binary.AppendUvarint(p, uint64(table))
	p = binary.AppendVarint(p, int64(r.Place-b.lastPlace))
	b.lastPlace = r.Place
	if r.Before != nil {
		p = appendValues(p, r.Before)
	}
	if r.After != nil {
		p = appendValues(p, r.After)
	}
	if r.Rekeyed != nil {
		p = binary.AppendUvarint(p, uint64(len(r.Rekeyed)))
		p = appendValues(p, r.Rekeyed)
	}
	if r.Body != nil {
		p = binary.AppendUvarint(p, uint64(len(r.Body)))
		p = append(p, r.Body...)
	}
	b.payload = p
	b.tables[table].counts[r.Operation&15]++
	b.events++
	tx.Next++
}

// EndTransaction marks the newest event as its transaction's last. A block is
// never closed between a transaction's last event and this call.
func (b *Builder) EndTransaction() {
	if b.flagsAt >= 0 && b.inTx {
		b.payload[b.flagsAt] |= flagLast
	}
	b.inTx = false
}

func (b *Builder) transaction(tx *change.OpenTransaction) {
	p := append(b.payload, tagTransaction)
	p = binary.AppendUvarint(p, uint64(len(tx.ID)))
	p = append(p, tx.ID...)
	p = binary.AppendVarint(p, tx.CommitTime)
	p = binary.AppendUvarint(p, tx.Next)
	if tx.Origin != "" {
		p = append(p, tagOrigin)
		p = binary.AppendUvarint(p, uint64(len(tx.Origin)))
		p = append(p, tx.Origin...)
	}
	b.payload = p
	b.inTx = true
	if b.events == 0 {
		b.firstCommit = tx.CommitTime
		b.lastCommit = tx.CommitTime
	}
	b.firstCommit = min(b.firstCommit, tx.CommitTime)
	b.lastCommit = max(b.lastCommit, tx.CommitTime)
}

func (b *Builder) table(r *change.Row) int {
	if len(b.tables) > 0 && r.Schema == b.lastSchema && r.For == b.lastFor && (r.Schema != nil || r.Table == b.lastName) {
		return b.lastTable
	}
	want := Table{Name: r.Table, For: r.For}
	if r.Schema != nil {
		want = Table{Name: r.Schema.Table, Fingerprint: r.Schema.Fingerprint(), Columns: len(r.Schema.Columns), For: r.For}
	}
	at := slices.IndexFunc(b.tables, func(t tableCounts) bool { return t.table == want })
	if at < 0 {
		at = len(b.tables)
		b.tables = append(b.tables, tableCounts{table: want})
		p := b.payload
		if want.For == 0 {
			p = append(p, tagTable)
		} else {
			p = binary.AppendUvarint(append(p, tagTableFor), uint64(want.For))
		}
		p = binary.BigEndian.AppendUint64(p, uint64(want.Fingerprint))
		p = binary.AppendUvarint(p, uint64(want.Columns))
		p = binary.AppendUvarint(p, uint64(len(want.Name)))
		b.payload = append(p, want.Name...)
	}
	b.lastSchema, b.lastTable, b.lastName, b.lastFor = r.Schema, at, r.Table, r.For
	return at
}

// appendValues writes each value as a number (0: omitted, 1: null, n+2: n bytes
// follow) and its bytes.
func appendValues(p []byte, values []change.Value) []byte {
	for i := range values {
		v := &values[i]
		switch v.Presence {
		case change.Present:
			if n := len(v.Text) + 2; n < 0x80 {
				p = append(p, byte(n))
			} else {
				p = binary.AppendUvarint(p, uint64(n))
			}
			p = append(p, v.Text...)
		case change.Null:
			p = append(p, 1)
		default:
			p = append(p, 0)
		}
	}
	return p
}

// Block is a closed block: what is known of it without reading its payload.
type Block struct {
	First, Last int64
	FirstCommit time.Time
	LastCommit  time.Time
	Tables      []string
	Counts      []Count
	// Payload is the events, not compressed; nobody changes it any more.
	Payload []byte
	// Stored is the payload as it is kept; see the package's documentation.
	Stored []byte

	shared atomic.Pointer[[]change.Event] // its events, for all who read at the tail
}

// events are the block's, decoded once for all who read them and not to be changed;
// nil for a block that is too large for that.
func (b *Block) events(resolve func(change.Fingerprint) (*change.Schema, error)) []change.Event {
	if all := b.shared.Load(); all != nil {
		return *all
	}
	if len(b.Payload) > sharedBytes {
		return nil
	}
	cursor := Cursor{Resolve: resolve, For: Everyone}
	cursor.Reset(b.Payload)
	all := make([]change.Event, 0, b.Events())
	for {
		var e change.Event
		more, err := cursor.Next(&e)
		if err != nil {
			return nil // an error comes when it is read by itself
		}
		if !more {
			break
		}
		e.Offset = b.First + cursor.Passed + int64(len(all))
		e.Before, e.After, e.Rekeyed = slices.Clone(e.Before), slices.Clone(e.After), slices.Clone(e.Rekeyed)
		all = append(all, e)
	}
	b.shared.Store(&all)
	return all
}

// Events is how many events the block holds.
func (b *Block) Events() int64 { return b.Last - b.First + 1 }

// Close ends the block, whose first event gets the offset first. The builder
// must not be used again. Stored is left empty; see [Compressor].
func (b *Builder) Close(first int64) *Block {
	closed := &Block{
		First: first, Last: first + int64(b.events) - 1,
		FirstCommit: time.UnixMicro(b.firstCommit).UTC(), LastCommit: time.UnixMicro(b.lastCommit).UTC(),
		Payload: b.payload,
	}
	for i := range b.tables {
		t := &b.tables[i]
		if !slices.Contains(closed.Tables, t.table.Name) {
			closed.Tables = append(closed.Tables, t.table.Name)
		}
		for operation, n := range t.counts {
			if n > 0 {
				closed.Counts = append(closed.Counts, Count{t.table.Name, change.Operation(operation), n})
			}
		}
	}
	return closed
}
