package encode

import (
	"slices"

	"rillmark/internal/change"
)

// rowFormat is the row, flat, with chosen metadata columns behind its own.
type rowFormat struct{ m *Maker }

func (f rowFormat) body(b *Batch, e *change.Event, half string, msg *Message) error {
	first := len(b.values)
	row, err := f.values(b, e, half, msg)
	if err != nil {
		return err
	}
	start := len(b.buf)
	b.buf = f.m.flatJSON(b.buf, msg.Schema, row, e.Operation.IsRow())
	b.values = b.values[:first]
	msg.Body, msg.ContentType = b.since(start), "application/json"
	return nil
}

func (rowFormat) headers(b *Batch, e *change.Event, msg *Message) { plainHeaders(b, e, msg) }

// values are the row's, then the metadata's, which lie in the batch; the row's own are
// good only until the reader's next call.
func (f rowFormat) values(b *Batch, e *change.Event, half string, msg *Message) ([]change.Value, error) {
	m := f.m
	schema, isNew := m.flat.schema(e.Schema)
	if isNew {
		if err := m.register(schema); err != nil {
			return nil, err
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
	return b.values[first:len(b.values):len(b.values)], nil
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
	changed = m.cloud.withAlong(e.Schema, changed)
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
		if m.Goes != nil && !m.Goes(s, i) {
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
