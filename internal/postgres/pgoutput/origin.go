package pgoutput

import "encoding/binary"

// Origin says that a transaction came to the server by replication.
type Origin struct {
	CommitLSN uint64 // on the origin
	Name      string
}

// Decode implements [Message].
func (m *Origin) Decode(body []byte) error {
	r := reader{rest: body}
	m.CommitLSN = r.uint64()
	m.Name = r.string()
	return r.finish("Origin")
}

// Encode implements [Message].
func (m *Origin) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint64(append(dst, 'O'), m.CommitLSN)
	return appendString(dst, m.Name)
}
