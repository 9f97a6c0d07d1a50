package encode

import "rillmark/internal/change"

// binaryFormat is CloudEvents 1.0 in the binary form of a protocol: the data is the body,
// the attributes are headers.
type binaryFormat struct{ m *Maker }

func (f binaryFormat) body(b *Batch, e *change.Event, half string, msg *Message) error {
	return dataFormat(f).body(b, e, half, msg)
}

func (f binaryFormat) headers(b *Batch, e *change.Event, msg *Message) {
	m := f.m
	b.header("specversion", b.text("1.0"), true)
	b.header("id", msg.ID, true)
	b.header("source", b.text(m.shape.Address+"/sources/"+e.Source), true)
	b.header("type", b.text(msg.Type), true)
	if e.Table != "" {
		b.header("subject", b.text(e.Table), true)
	}
	b.header("time", b.text(e.Transaction.CommittedAt.UTC().Format("2006-01-02T15:04:05.000000Z")), true)
	if e.Schema != nil {
		b.header("dataschema", b.text(m.shape.Address+"/v1/schemas/"+e.Schema.Fingerprint().String()), true)
	}
	b.header("sequence", b.text(string(appendPadded(nil, e.Offset))), true)
	m.keys = e.KeyValues(m.keys[:0])
	if len(m.keys) > 0 {
		b.header("partitionkey", m.keyText(nil, e), true)
	}
}
