package encode

import "rillmark/internal/change"

// structuredFormat is CloudEvents 1.0 in its structured JSON form.
type structuredFormat struct{ m *Maker }

func (f structuredFormat) body(b *Batch, e *change.Event, half string, msg *Message) error {
	start := len(b.buf)
	b.buf = f.m.cloud.appendHalf(b.buf, e, half)
	msg.Body, msg.ContentType = b.since(start), "application/cloudevents+json"
	return nil
}

func (structuredFormat) headers(b *Batch, _ *change.Event, msg *Message) {
	b.header("rillmark-id", msg.ID, false)
}
