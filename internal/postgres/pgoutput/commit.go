package pgoutput

import "encoding/binary"

// Commit closes a transaction.
type Commit struct {
	Flags      uint8  // unused by the server
	CommitLSN  uint64 // the same as the Begin's FinalLSN
	EndLSN     uint64 // just after the commit record
	CommitTime int64  // microseconds since 2000-01-01 UTC
}

// Decode implements [Message].
func (m *Commit) Decode(body []byte) error {
	r := reader{rest: body}
	m.Flags = r.uint8()
	m.CommitLSN = r.uint64()
	m.EndLSN = r.uint64()
	m.CommitTime = int64(r.uint64())
	return r.finish("Commit")
}

// Encode implements [Message].
func (m *Commit) Encode(dst []byte) []byte {
	dst = append(dst, 'C', m.Flags)
	dst = binary.BigEndian.AppendUint64(dst, m.CommitLSN)
	dst = binary.BigEndian.AppendUint64(dst, m.EndLSN)
	return binary.BigEndian.AppendUint64(dst, uint64(m.CommitTime))
}
