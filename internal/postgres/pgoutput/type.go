package pgoutput

import "encoding/binary"

// Type names a type that is not built in, before the Relation that uses it.
type Type struct {
	OID       uint32
	Namespace string
	Name      string
}

// Decode implements [Message].
func (m *Type) Decode(body []byte) error {
	r := reader{rest: body}
	m.OID = r.uint32()
	m.Namespace = r.string()
	m.Name = r.string()
	return r.finish("Type")
}

// Encode implements [Message].
func (m *Type) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'Y'), m.OID)
	return appendString(appendString(dst, m.Namespace), m.Name)
}
