package pgoutput

import "encoding/binary"

// Begin opens a transaction.
type Begin struct {
	FinalLSN   uint64 // the LSN of the transaction's commit record
	CommitTime int64  // microseconds since 2000-01-01 UTC
	XID        uint32
}

// Decode implements [Message].
func (m *Begin) Decode(body []byte) error {
	r := reader{rest: body}
	m.FinalLSN = r.uint64()
	m.CommitTime = int64(r.uint64())
	m.XID = r.uint32()
	return r.finish("Begin")
}

// Encode implements [Message].
func (m *Begin) Encode(dst []byte) []byte {
	dst = append(dst, 'B')
	dst = binary.BigEndian.AppendUint64(dst, m.FinalLSN)
	dst = binary.BigEndian.AppendUint64(dst, uint64(m.CommitTime))
	return binary.BigEndian.AppendUint32(dst, m.XID)
}
