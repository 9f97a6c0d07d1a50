package encode

import (
	"encoding/json"
	"fmt"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
	"rillmark/internal/shape"
)

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
	if m.shape.Format == FormatCloudEvents {
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
		if m.shape.Format == FormatCloudEventsBinary {
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
