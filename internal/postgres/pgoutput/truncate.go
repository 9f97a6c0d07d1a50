package pgoutput

import "encoding/binary"

// Truncate empties tables.
type Truncate struct {
	Flags     uint8 // bit 0: CASCADE; bit 1: RESTART IDENTITY
	Relations []uint32
}

// Decode implements [Message].
func (m *Truncate) Decode(body []byte) error {
	r := reader{rest: body}
	n := r.uint32()
	m.Flags = r.uint8()
	m.Relations = m.Relations[:0]
	for range r.count(n, 4) {
		m.Relations = append(m.Relations, r.uint32())
	}
	return r.finish("Truncate")
}

// Encode implements [Message].
func (m *Truncate) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint32(append(dst, 'T'), uint32(len(m.Relations)))
	dst = append(dst, m.Flags)
	for _, oid := range m.Relations {
		dst = binary.BigEndian.AppendUint32(dst, oid)
	}
	return dst
}
