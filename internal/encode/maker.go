package encode

import (
	"errors"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/shape"
)

// Maker turns events into messages, in the shape that an outlet asks for. It is
// not safe for several goroutines.
type Maker struct {
	shape Shape
	wants Capabilities
	// Register gets each schema version that the shape makes, before its
	// first message.
	Register func(*change.Schema) error
	// Frame gives what stands before each Avro value of a version.
	Frame func(*change.Schema) ([]byte, error)
	// Fit, where not nil, has Avro values follow a schema that somebody else has made. Then
	// nothing goes out of events without a row, which such a schema does not know.
	Fit func(*change.Schema) (*Fitted, error)
	// FitRow, where not nil, does the same for rows of format parquet.
	FitRow func(*change.Schema) (RowForm, error)
	// Goes, where not nil, says which columns rows of format row have.
	Goes func(s *change.Schema, column int) bool

	rows   *shape.Rows
	source *change.Schema // the version of the event in hand, as the source has it
	format format
	cloud  CloudEvents
	flat   *flattener
	text   asText
	frames map[change.Fingerprint][]byte
	known  map[change.Fingerprint]bool
	closer Closer
	keys   []change.Value
	order  bool // messages say which row they are of, for those that have to wait behind another
	image  []change.Value
}

// NewMaker makes messages of one shape for one kind of destination.
func NewMaker(s Shape, w Capabilities) *Maker {
	m := &Maker{shape: s, wants: w, rows: s.Rows.Clone(), cloud: CloudEvents{Address: s.Address, OnlyChanged: s.Changed, OmitNulls: s.OmitNulls, Along: s.Along},
		order: w.Order, frames: make(map[change.Fingerprint][]byte), known: make(map[change.Fingerprint]bool)}
	if m.rows != nil && s.Along != nil {
		m.cloud.Along = func(*change.Schema) []int {
			along, _ := m.rows.Along(m.source, s.Along(m.source)) // one that does not fit has been said before
			return along
		}
	}
	if s.Format.Flat() {
		m.flat = newFlattener(s.Metadata, s.Format)
	} else if len(s.Metadata) > 0 {
		has := func(name string) bool { return slices.Contains(s.Metadata, name) }
		m.cloud.Without = Members{Database: !has("database"), Changed: !has("changed"), Transaction: !has("transaction"), Log: !has("log")}
	}
	if s.IntegersAsText {
		m.text = make(asText)
	}
	m.format = m.formatOf(s.Format)
	return m
}

// Forms are the forms of rows; nil where they go out as they are.
func (m *Maker) Forms() *shape.Rows { return m.rows }

// Closer is the count of the open transaction, for shapes that close
// transactions; see [Closer.Resume].
func (m *Maker) Closer() *Closer { return &m.closer }

// Closes reports whether transactions are closed by an event.
func (m *Maker) Closes() bool { return m.shape.Transactions }

// Needs reports whether an event that the filter keeps back must be appended.
func (m *Maker) Needs(e *change.Event) bool {
	return m.shape.Transactions || m.rows != nil && e.Operation == change.Definition
}

// Watch looks at an event that is not appended, or not by itself; see [shape.Rows.Watch].
func (m *Maker) Watch(e *change.Event) error { return m.rows.Watch(e) }

// Append puts an event's messages into a batch. admitted is false for an event that gives
// none, and that the maker [Maker.Needs]. An event that cannot be
// put into its form gives a message that is bad; after an error the batch must be
// given up.
func (m *Maker) Append(b *Batch, e *change.Event, admitted bool) error {
	b.Last, b.Committed = e.Offset, e.Transaction.CommittedAt
	part := 0
	if admitted {
		if m.shape.Transactions {
			m.closer.count(e)
		}
		before := len(b.Messages)
		formed, n, err := m.shaped(b, e)
		if err != nil {
			if err = m.bad(b, formed, before, err); err != nil {
				return err
			}
		}
		part = n
	} else if err := m.rows.Watch(e); err != nil {
		return err
	}
	if m.shape.Transactions && e.Transaction.Last {
		if m.closer.total > 0 && m.closer.id == e.Transaction.ID {
			m.closing(b, e, part)
		}
		m.closer.begin()
	}
	return nil
}

// Order has each message from here on say which row it is of, for a destination that does not
// ask for it: messages of a row wait behind one that is a dead letter.
func (m *Maker) Order() { m.order = true }

// KeepsKey reports whether an event's row is known by the same key in the form that it has,
// so that it can stand among those that have it.
func (m *Maker) KeepsKey(e *change.Event) bool { return m.rows.KeepsKey(e.Schema) }

// Refuse puts a message in an event's place that is bad: it could not be made.
func (m *Maker) Refuse(b *Batch, e *change.Event, err error) error {
	b.Last, b.Committed = e.Offset, e.Transaction.CommittedAt
	return m.bad(b, e, len(b.Messages), &EncodeError{Message: err.Error()})
}

// bad puts an event's message that is bad in the place of those behind before.
func (m *Maker) bad(b *Batch, e *change.Event, before int, err error) error {
	var bad *EncodeError
	if !errors.As(err, &bad) {
		return err
	}
	b.Messages = b.Messages[:before]
	m.Order()
	msg := Message{Offset: e.Offset, Table: e.Table, Committed: e.Transaction.CommittedAt, EncodeError: bad}
	m.address(b, e, &msg, func(string) []byte { return nil })
	b.add(&msg, false)
	b.EncodeErrors++
	return nil
}

// shaped makes the messages of an event in the form that its rows have, which it returns.
func (m *Maker) shaped(b *Batch, e *change.Event) (formed *change.Event, parts int, err error) {
	formed = e
	if m.rows != nil && (m.shape.Outbox == nil || !m.shape.Outbox.Table.Matches(e.Table)) {
		m.source = e.Schema
		formed, err = m.rows.Apply(e)
		var refused *shape.Refused
		switch {
		case errors.As(err, &refused):
			return formed, 0, &EncodeError{Message: refused.Error()}
		case err != nil || formed == nil:
			return e, 0, err
		case formed != e && m.flat == nil && m.text == nil: // those make further versions of it
			if err := m.register(formed.Schema); err != nil {
				return e, 0, err
			}
		}
	}
	parts, err = m.event(b, formed)
	return formed, parts, err
}

func (m *Maker) event(b *Batch, e *change.Event) (parts int, err error) {
	if r := m.shape.Outbox; r != nil && r.Table.Matches(e.Table) {
		if e.Operation != change.Insert && e.Operation != change.Existing {
			return 0, nil
		}
		return 1, m.outbox(b, e)
	}
	if m.text != nil && e.Schema != nil {
		derived, isNew := m.text.schema(e.Schema)
		if isNew {
			if err := m.register(derived); err != nil {
				return 0, err
			}
		}
		copied := *e
		copied.Schema = derived
		e = &copied
	}
	marker := e.Operation == change.Delete && m.shape.Deletes != "event" && m.shape.Deletes != ""
	switch {
	case marker && m.shape.Deletes == "marker":
		return 1, m.one(b, e, "", 0, true)
	case marker:
		if err := m.one(b, e, "", 0, false); err != nil {
			return 0, err
		}
		return 2, m.one(b, e, "", 1, true)
	case m.shape.Pairs && e.Operation == change.Update && e.Before != nil:
		if m.shape.Changed {
			m.cloud.changed, m.cloud.pair = e.Changed(m.cloud.changed[:0])
			defer func() { m.cloud.pair = false }()
		}
		old, new := *e, *e
		old.After, new.Before = nil, nil
		if err := m.one(b, &old, "old", 0, false); err != nil {
			return 0, err
		}
		return 2, m.one(b, &new, "new", 1, false)
	}
	return 1, m.one(b, e, "", 0, false)
}

// one makes one message.
func (m *Maker) one(b *Batch, e *change.Event, half string, part int, marker bool) error {
	if m.flat != nil && !e.Operation.IsRow() && (e.Schema == nil || e.Operation == change.Definition || !m.flat.tells() || m.Fit != nil || m.FitRow != nil) {
		return nil // a row cannot say it; the next row's schema version does
	}
	msg := Message{Offset: e.Offset, Part: part, Table: e.Table, Barrier: !e.Operation.IsRow(), Committed: e.Transaction.CommittedAt, Marker: marker}
	msg.Type = e.Operation.EventType()
	if half != "" {
		msg.Type += "." + half
	}
	if !m.wants.Lines {
		start := len(b.buf)
		b.buf = appendID(b.buf, e, half)
		msg.ID = b.since(start)
	}
	m.address(b, e, &msg, nil)
	var err error
	if !marker {
		err = m.format.body(b, e, half, &msg)
	} else {
		msg.ContentType = "application/octet-stream"
	}
	if err != nil {
		return err
	}
	if m.wants.Headers {
		first := len(b.headers)
		m.format.headers(b, e, &msg)
		msg.Headers = b.headers[first:len(b.headers):len(b.headers)]
	}
	b.add(&msg, m.wants.Lines && !marker)
	return nil
}

func (b *Batch) add(msg *Message, lines bool) {
	if lines {
		msg.start = len(b.buf) - len(msg.Body)
		b.buf = append(b.buf, '\n')
		msg.end = len(b.buf)
	}
	b.Messages = append(b.Messages, *msg)
	b.bytes += msg.Size()
}

// since is what was appended since start. The batch's buffer may move later; the
// slice then keeps what it has.
func (b *Batch) since(start int) []byte { return b.buf[start:len(b.buf):len(b.buf)] }

// address fills in key, topic, partition and order.
func (m *Maker) address(b *Batch, e *change.Event, msg *Message, more func(string) []byte) {
	var key []byte
	if m.wants.Key || m.order {
		m.keys = e.KeyValues(m.keys[:0])
		if len(m.keys) > 0 {
			start := len(b.buf)
			b.buf = m.keyText(b.buf, e)
			key = b.since(start)
		}
	}
	if m.order {
		start := len(b.buf)
		b.buf = append(b.buf, e.Table...)
		b.buf = append(append(b.buf, 0), key...)
		msg.OrderingKey = b.since(start)
	}
	if m.wants.Key {
		msg.Key = key
		if m.shape.Key != nil {
			start := len(b.buf)
			b.buf = m.shape.Key.Append(b.buf, e, key, more)
			msg.Key = b.since(start)
		}
		msg.Partition = msg.Key
		if m.shape.Partition != nil {
			start := len(b.buf)
			b.buf = m.shape.Partition.Append(b.buf, e, key, more)
			msg.Partition = b.since(start)
		} else if len(msg.Key) == 0 {
			start := len(b.buf)
			b.buf = append(b.buf, e.Table...)
			msg.Partition = b.since(start)
		}
	}
	template := m.shape.Topic
	if e.Operation == change.Definition && m.shape.SchemaTopic != nil {
		template = m.shape.SchemaTopic
	}
	if m.wants.Topic && template != nil {
		start := len(b.buf)
		b.buf = template.Append(b.buf, e, key, more)
		msg.Topic = b.since(start)
	}
}

// keyText is the text of a single key column, else the JSON array of all.
func (m *Maker) keyText(dst []byte, e *change.Event) []byte {
	s := e.Schema
	if len(m.keys) == 1 && s.Form(s.Key()[0]) != change.FormBase64 {
		return append(dst, m.keys[0].Text...)
	}
	if len(m.keys) == 1 {
		quoted := appendValue(nil, change.FormBase64, m.keys[0])
		return append(dst, quoted[1:len(quoted)-1]...)
	}
	dst = append(dst, '[')
	for n, i := range s.Key() {
		if n > 0 {
			dst = append(dst, ',')
		}
		dst = appendValue(dst, s.Form(i), m.keys[n])
	}
	return append(dst, ']')
}

func (m *Maker) register(s *change.Schema) error {
	if m.known[s.Fingerprint()] || m.Register == nil {
		return nil
	}
	if err := m.Register(s); err != nil {
		return err
	}
	m.known[s.Fingerprint()] = true
	return nil
}
