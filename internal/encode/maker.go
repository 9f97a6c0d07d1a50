package encode

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
	"rillmark/internal/shape"
)

// Maker turns events into messages, in the shape that an outlet asks for. It is
// not safe for several goroutines.
type Maker struct {
	shape Shape
	wants Capabilities
	// Register is told of each schema version that the shape makes, before its
	// first message.
	Register func(*change.Schema) error
	// Frame gives what stands before each Avro value of a version.
	Frame func(*change.Schema) ([]byte, error)

	cloud  CloudEvents
	flat   *flattener
	text   asText
	avro   *avroRow
	frames map[change.Fingerprint][]byte
	known  map[change.Fingerprint]bool
	closer Closer
	keys   []change.Value
	image  []change.Value
}

// NewMaker makes messages of one shape for one kind of destination.
func NewMaker(s Shape, w Capabilities) *Maker {
	m := &Maker{shape: s, wants: w, cloud: CloudEvents{Address: s.Address, OnlyChanged: s.Changed, OmitNulls: s.OmitNulls},
		frames: make(map[change.Fingerprint][]byte), known: make(map[change.Fingerprint]bool)}
	if m.Flat() {
		m.flat = newFlattener(s.Metadata, s.Format)
	} else if len(s.Metadata) > 0 {
		has := func(name string) bool { return slices.Contains(s.Metadata, name) }
		m.cloud.Without = Members{Database: !has("database"), Changed: !has("changed"), Transaction: !has("transaction"), Log: !has("log")}
	}
	if s.IntegersAsText {
		m.text = make(asText)
	}
	if s.Format == "avro" {
		m.avro = newAvroRow()
	}
	return m
}

// Flat reports whether messages are rows.
func (m *Maker) Flat() bool {
	return m.shape.Format == "row" || m.shape.Format == "avro" || m.shape.Format == "parquet"
}

// Closer is the count of the open transaction, for shapes that close
// transactions; see [Closer.Resume].
func (m *Maker) Closer() *Closer { return &m.closer }

// Closes reports whether transactions are closed by an event.
func (m *Maker) Closes() bool { return m.shape.Transactions }

// Append puts an event's messages into a batch. admitted is false for an event
// that only counts towards the end of its transaction. An event that cannot be
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
		n, err := m.event(b, e)
		if err != nil {
			if err = m.bad(b, e, before, err); err != nil {
				return err
			}
		}
		part = n
	}
	if m.shape.Transactions && e.Transaction.Last {
		if m.closer.total > 0 && m.closer.id == e.Transaction.ID {
			m.closing(b, e, part)
		}
		m.closer.begin()
	}
	return nil
}

// bad puts an event's message that is bad in the place of those behind before.
func (m *Maker) bad(b *Batch, e *change.Event, before int, err error) error {
	var bad *EncodeError
	if !errors.As(err, &bad) {
		return err
	}
	b.Messages = b.Messages[:before]
	msg := Message{Offset: e.Offset, Table: e.Table, Committed: e.Transaction.CommittedAt, EncodeError: bad}
	m.address(b, e, &msg, func(string) []byte { return nil })
	b.add(&msg, false)
	b.EncodeErrors++
	return nil
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
	if m.flat != nil && !e.Operation.IsRow() && (e.Schema == nil || e.Operation == change.Definition || !m.flat.tells()) {
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
		err = m.body(b, e, half, &msg)
	} else {
		msg.ContentType = "application/octet-stream"
	}
	if err != nil {
		return err
	}
	if m.wants.Headers {
		m.headers(b, e, &msg)
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
	if m.wants.Key || m.wants.Order {
		m.keys = e.KeyValues(m.keys[:0])
		if len(m.keys) > 0 {
			start := len(b.buf)
			b.buf = m.keyText(b.buf, e)
			key = b.since(start)
		}
	}
	if m.wants.Order {
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

func (m *Maker) body(b *Batch, e *change.Event, half string, msg *Message) error {
	start := len(b.buf)
	switch m.shape.Format {
	case "cloudevents":
		b.buf = m.cloud.appendHalf(b.buf, e, half)
		msg.ContentType = "application/cloudevents+json"
	case "cloudevents-binary", "data":
		b.buf = m.cloud.AppendData(b.buf, e)
		msg.ContentType = "application/json"
	default:
		return m.row(b, e, half, msg)
	}
	msg.Body = b.since(start)
	return nil
}

func (m *Maker) row(b *Batch, e *change.Event, half string, msg *Message) error {
	schema, isNew := m.flat.schema(e.Schema)
	if isNew {
		if err := m.register(schema); err != nil {
			return err
		}
	}
	msg.Schema = schema
	image := e.Image()
	if !e.Operation.IsRow() {
		image = nil
	}
	if m.shape.Changed && e.Operation == change.Update {
		image = m.onlyChanged(e, image)
	}
	first := len(b.values)
	b.values, b.buf = m.flat.row(b.values, b.buf, e, image, half)
	row := b.values[first:len(b.values):len(b.values)]
	if m.wants.Rows {
		// The event's own text is good only until the reader's next call.
		for i := range len(row) - len(m.flat.chosen) {
			at := len(b.buf)
			b.buf = append(b.buf, row[i].Text...)
			row[i].Text = b.since(at)
		}
		msg.Row = row
		return nil
	}
	start := len(b.buf)
	if m.avro == nil {
		b.buf = m.flatJSON(b.buf, schema, row, e.Operation.IsRow())
		msg.ContentType = "application/json"
	} else {
		var err error
		if b.buf, err = m.avroValue(b.buf, schema, row); err != nil {
			b.values = b.values[:first]
			return err
		}
		msg.ContentType = "application/avro"
	}
	b.values = b.values[:first]
	msg.Body = b.since(start)
	return nil
}

func (m *Maker) avroValue(dst []byte, schema *change.Schema, row []change.Value) ([]byte, error) {
	if !m.wants.Bare {
		frame, there := m.frames[schema.Fingerprint()]
		if !there {
			var err error
			if frame, err = m.Frame(schema); err != nil {
				return dst, err
			}
			m.frames[schema.Fingerprint()] = frame
		}
		dst = append(dst, frame...)
	}
	start := len(dst)
	dst, err := m.avro.append(dst, schema, row)
	if err != nil {
		return dst[:start], &EncodeError{Message: err.Error()}
	}
	return dst, nil
}

// onlyChanged is the image with what did not change left out.
func (m *Maker) onlyChanged(e *change.Event, image []change.Value) []change.Value {
	changed, known := m.cloud.changed, m.cloud.pair
	if !known {
		changed, known = e.Changed(nil)
	}
	if !known {
		return image
	}
	m.image = append(m.image[:0], image...)
	for i := range m.image {
		if e.Schema.Columns[i].Key == 0 && !slices.Contains(changed, i) {
			m.image[i] = change.Value{}
		}
	}
	return m.image
}

func (m *Maker) flatJSON(dst []byte, s *change.Schema, row []change.Value, whole bool) []byte {
	dst = append(dst, '{')
	first := true
	for i := range row {
		if row[i].Presence == change.Omitted || row[i].Presence == change.Null && (m.shape.OmitNulls || !whole) {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = append(dst, s.QuotedName(i)...)
		dst = appendValue(dst, s.Form(i), row[i])
	}
	if nulls := s.JSONNulls(nil, row); len(nulls) > 0 {
		dst = appendNames(append(dst, `,"`+jsonNull+`":`...), s, nulls)
	}
	return append(dst, '}')
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

// headers are the attributes of CloudEvents where the body does not hold them;
// else what a consumer wants to know before it reads the body.
func (m *Maker) headers(b *Batch, e *change.Event, msg *Message) {
	first := len(b.headers)
	add := func(name string, value []byte, attribute bool) {
		b.headers = append(b.headers, Header{Name: name, Value: value, Attribute: attribute})
	}
	text := func(s string) []byte {
		at := len(b.buf)
		b.buf = append(b.buf, s...)
		return b.since(at)
	}
	if m.shape.Format == "cloudevents-binary" {
		add("specversion", text("1.0"), true)
		add("id", msg.ID, true)
		add("source", text(m.shape.Address+"/sources/"+e.Source), true)
		add("type", text(msg.Type), true)
		if e.Table != "" {
			add("subject", text(e.Table), true)
		}
		add("time", text(e.Transaction.CommittedAt.UTC().Format("2006-01-02T15:04:05.000000Z")), true)
		if e.Schema != nil {
			add("dataschema", text(m.shape.Address+"/v1/schemas/"+e.Schema.Fingerprint().String()), true)
		}
		add("sequence", text(string(appendPadded(nil, e.Offset))), true)
		m.keys = e.KeyValues(m.keys[:0])
		if len(m.keys) > 0 {
			add("partitionkey", m.keyText(nil, e), true)
		}
	} else {
		add("rillmark-id", msg.ID, false)
		if m.shape.Format != "cloudevents" {
			add("rillmark-type", text(msg.Type), false)
			if e.Table != "" {
				add("rillmark-table", text(e.Table), false)
			}
			if msg.Schema != nil {
				add("rillmark-schema", text(msg.Schema.Fingerprint().String()), false)
			}
		}
	}
	msg.Headers = b.headers[first:len(b.headers):len(b.headers)]
}

// outbox sends a row that is an event already.
func (m *Maker) outbox(b *Batch, e *change.Event) error {
	r := m.shape.Outbox
	column := func(name string, needed bool) ([]byte, error) {
		if name == "" {
			return nil, nil
		}
		v, there := shape.Column(e, name)
		if !there && needed {
			return nil, &EncodeError{fmt.Sprintf("the row of %s that is an event has no value in its column %s", e.Table, name)}
		}
		return v.Text, nil
	}
	id, err := column(r.ID, true)
	if err != nil {
		return err
	}
	kind, err := column(r.Kind, true)
	if err != nil {
		return err
	}
	body, err := column(r.Body, true)
	if err != nil {
		return err
	}
	subject, _ := column(r.Subject, false)
	at := e.Transaction.CommittedAt
	if text, _ := column(r.Time, false); len(text) > 0 {
		if parsed, err := time.Parse(time.RFC3339Nano, string(text)); err == nil {
			at = parsed
		}
	}
	keep := func(v []byte) []byte {
		start := len(b.buf)
		b.buf = append(b.buf, v...)
		return b.since(start)
	}
	msg := Message{Offset: e.Offset, Table: e.Table, Type: string(kind), ID: keep(id), Committed: e.Transaction.CommittedAt}
	m.address(b, e, &msg, func(string) []byte { return kind })
	if r.Topic != nil && m.wants.Topic {
		start := len(b.buf)
		b.buf = r.Topic.Append(b.buf, e, msg.Key, func(string) []byte { return kind })
		msg.Topic = b.since(start)
	}
	if len(subject) > 0 && m.wants.Key {
		msg.Key = keep(subject)
		if m.shape.Partition == nil {
			msg.Partition = msg.Key
		}
	}
	isJSON := shape.ColumnRule(e, r.Body) == change.RuleJSON || json.Valid(body)
	msg.ContentType = "text/plain; charset=utf-8"
	if isJSON {
		msg.ContentType = "application/json"
	}
	source := m.shape.Address + "/sources/" + e.Source
	when := at.UTC().Format("2006-01-02T15:04:05.000000Z")
	start := len(b.buf)
	if m.shape.Format == "cloudevents" {
		b.buf = append(b.buf, `{"specversion":"1.0","id":`...)
		b.buf = jsontext.AppendString(b.buf, id)
		b.buf = append(b.buf, `,"source":`...)
		b.buf = jsontext.AppendString(b.buf, source)
		b.buf = append(b.buf, `,"type":`...)
		b.buf = jsontext.AppendString(b.buf, kind)
		if len(subject) > 0 {
			b.buf = append(b.buf, `,"subject":`...)
			b.buf = jsontext.AppendString(b.buf, subject)
		}
		b.buf = append(b.buf, `,"time":"`+when+`","datacontenttype":"`...)
		b.buf = append(b.buf, msg.ContentType...)
		b.buf = append(b.buf, `","sequence":"`...)
		b.buf = appendPadded(b.buf, e.Offset)
		b.buf = append(b.buf, `","data":`...)
		if isJSON {
			b.buf = append(b.buf, body...)
		} else {
			b.buf = jsontext.AppendString(b.buf, body)
		}
		b.buf = append(b.buf, '}')
		msg.ContentType = "application/cloudevents+json"
	} else {
		b.buf = append(b.buf, body...)
	}
	msg.Body = b.since(start)
	if m.wants.Headers {
		first := len(b.headers)
		if m.shape.Format == "cloudevents-binary" {
			b.headers = append(b.headers, Header{"specversion", keep([]byte("1.0")), true}, Header{"id", msg.ID, true}, Header{"source", keep([]byte(source)), true},
				Header{"type", keep(kind), true}, Header{"time", keep([]byte(when)), true})
			if len(subject) > 0 {
				b.headers = append(b.headers, Header{"subject", keep(subject), true})
			}
		} else {
			b.headers = append(b.headers, Header{"rillmark-id", msg.ID, false}, Header{"rillmark-type", keep(kind), false})
		}
		msg.Headers = b.headers[first:len(b.headers):len(b.headers)]
	}
	b.add(&msg, false)
	return nil
}
