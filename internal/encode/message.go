package encode

import (
	"time"

	"rillmark/internal/change"
	"rillmark/internal/shape"
)

// Message is what goes out for one event, or for a part of it. Its slices lie in
// the batch that it belongs to, and are good until that is reset.
type Message struct {
	// Offset is the event's; Part numbers the messages of one event, from 0.
	Offset int64
	Part   int
	// ID is the same whenever the message is delivered again.
	ID []byte
	// Type is the event's CloudEvents type.
	Type  string
	Table string
	Topic []byte
	// Key is nil for a message without one.
	Key []byte
	// Partition is the text by which messages are kept together; the key where
	// nothing else was chosen, else the table.
	Partition []byte
	// OrderingKey names the row: messages with the same one are delivered in order.
	OrderingKey []byte
	// Barrier marks a message that is about a whole table or transaction: those
	// before it are delivered before it, those after it after it.
	Barrier     bool
	Headers     []Header
	ContentType string
	Body        []byte
	// Marker says that the message has a key and no value.
	Marker bool
	// Schema is the version that Body or Row follows, in flat formats.
	Schema *change.Schema
	// Row are the values of format parquet, and the row after the change of format table.
	Row []change.Value
	// Formed is the row as the destination wants it, where [Maker.FitRow] says how.
	Formed any
	// Operation, the row before the change, the other half's key, and what an event that
	// is no row says are those of format table; see [change.Event].
	Operation       change.Operation
	Before, Rekeyed []change.Value
	Document        []byte
	Committed       time.Time
	// After is the newest offset before the message's transaction of the source, where the
	// destination asks for whole ones; 0 where it is not known.
	After int64
	// EncodeError is why the event cannot be put into its form; nothing is sent then.
	EncodeError error

	start, end int // of the body's line in the batch's buffer, where lines are made
}

// HasLine reports whether the body has a line feed behind it.
func (m *Message) HasLine() bool { return m.end > m.start }

// Follows reports whether the message's line lies right behind another's.
func (m *Message) Follows(before *Message) bool { return m.HasLine() && m.start == before.end }

// Lines are the bodies of messages of which each follows the one before, each with
// a line feed; it is good until the batch is reset.
func (b *Batch) Lines(first, last *Message) []byte { return b.buf[first.start:last.end] }

// Size is about how many bytes the message has on the wire.
func (m *Message) Size() int {
	size := len(m.Body) + len(m.Key) + len(m.ID)
	for _, h := range m.Headers {
		size += len(h.Name) + len(h.Value)
	}
	for _, image := range [][]change.Value{m.Row, m.Before} {
		for _, v := range image {
			size += len(v.Text)
		}
	}
	return size + len(m.Document)
}

// Header is a named value beside a message's body. Attribute says that it is an
// attribute of CloudEvents, which each kind of destination prefixes in its way.
type Header struct {
	Name      string
	Value     []byte
	Attribute bool
}

// Batch is a run of messages in order.
type Batch struct {
	Messages []Message
	// EncodeErrors is how many of them are bad.
	EncodeErrors int
	// Last is the newest offset that the batch covers, events included that
	// gave no message.
	Last int64
	// Whole is the newest offset that the batch covers with which a transaction of the
	// source ends, where the destination asks for it; 0 where none does.
	Whole int64
	// Committed is when the newest of its events was committed.
	Committed time.Time
	// Tally counts the events that the batch was filled from.
	Tally   Tally
	buf     []byte
	values  []change.Value
	headers []Header
	bytes   int
}

// Bytes is about how much the batch has on the wire.
func (b *Batch) Bytes() int { return b.bytes }

// Keep has an empty batch give back its room where that is far more than most: one
// huge row must not be held.
func (b *Batch) Keep(most int) {
	if cap(b.buf) > max(4*most, 1<<20) {
		b.Messages, b.buf, b.values, b.headers = nil, nil, nil, nil
	}
}

// Trim has an empty batch give back its room where that is more than most: what little
// comes while nothing is behind needs less.
func (b *Batch) Trim(most int) {
	if cap(b.buf) > most || cap(b.Messages) > most/64 || cap(b.values) > most/16 {
		b.Messages, b.buf, b.values, b.headers = nil, nil, nil, nil
	}
}

// Reset empties the batch.
func (b *Batch) Reset() {
	b.Messages, b.buf, b.values, b.headers, b.bytes = b.Messages[:0], b.buf[:0], b.values[:0], b.headers[:0], 0
	b.EncodeErrors = 0
	b.Tally.reset()
	b.Last, b.Whole, b.Committed = 0, 0, time.Time{}
}

// Shape says what becomes of an event.
type Shape struct {
	Address string // the service's public address
	Format  Format
	Changed bool
	// Along are the columns that come along with what has changed, whatever they are; nil
	// where there are none.
	Along func(*change.Schema) []int
	// Rows are the forms of rows; nil where they go out as they are.
	Rows           *shape.Rows
	OmitNulls      bool
	Metadata       []string
	Pairs          bool
	Deletes        string // event, marker or both
	Transactions   bool
	IntegersAsText bool
	Topic          *shape.Template // nil where the kind has none
	SchemaTopic    *shape.Template
	Key            *shape.Template
	Partition      *shape.Template
	Outbox         *Outbox
}

// Outbox names the columns of a table whose rows are events.
type Outbox struct {
	Table                         shape.Pattern
	ID, Kind, Body, Subject, Time string
	Topic                         *shape.Template
}

// Capabilities says what a kind of destination makes use of.
type Capabilities struct {
	Key, Order, Headers, Topic bool
	// Bare asks for Avro without a frame: the file holds the schema.
	Bare bool
	// Lines asks for bodies alone, with a line feed behind each: see [Batch.Lines].
	Lines bool
	// Whole asks where transactions of the source end: see [Batch.Whole].
	Whole bool
	// Late says that nothing shows of what was sent before a later moment: events may wait
	// for each other until it is looked whether that has come.
	Late bool
	// Followed says that readers look now and then at what was sent, as at a file that grows:
	// what trickles in may wait for others a little while.
	Followed bool
}

// EncodeError says why an event cannot be put into its form: it is refused like one that
// the destination refuses.
type EncodeError struct{ Message string }

// Error is the message.
func (b *EncodeError) Error() string { return b.Message }
