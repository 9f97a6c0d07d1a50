package encode

import "rillmark/internal/change"

// tableFormat hands the change itself on, as the journal has it.
type tableFormat struct{}

func (tableFormat) body(b *Batch, e *change.Event, _ string, msg *Message) error {
	msg.Operation, msg.Schema = e.Operation, e.Schema
	msg.Row, msg.Before, msg.Rekeyed = b.image(e.After), b.image(e.Before), b.image(e.Rekeyed)
	if len(e.Body) > 0 {
		msg.Document = b.text(string(e.Body))
	}
	return nil
}

func (tableFormat) headers(*Batch, *change.Event, *Message) {}

// image keeps a copy of an event's values in the batch; nil stays nil.
func (b *Batch) image(values []change.Value) []change.Value {
	if values == nil {
		return nil
	}
	first := len(b.values)
	b.values = append(b.values, values...)
	kept := b.values[first:len(b.values):len(b.values)]
	for i := range kept {
		if v := &kept[i]; v.Presence == change.Present {
			start := len(b.buf)
			b.buf = append(b.buf, v.Text...)
			v.Text = b.since(start)
		}
	}
	return kept
}
