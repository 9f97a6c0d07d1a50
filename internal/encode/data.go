package encode

import "rillmark/internal/change"

// dataFormat is the data object alone.
type dataFormat struct{ m *Maker }

func (f dataFormat) body(b *Batch, e *change.Event, _ string, msg *Message) error {
	start := len(b.buf)
	b.buf = f.m.cloud.AppendData(b.buf, e)
	msg.Body, msg.ContentType = b.since(start), "application/json"
	return nil
}

func (dataFormat) headers(b *Batch, e *change.Event, msg *Message) { plainHeaders(b, e, msg) }
