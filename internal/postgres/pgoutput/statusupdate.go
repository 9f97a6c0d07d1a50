package pgoutput

import "encoding/binary"

// StatusUpdate reports to the server how far its log has been taken.
type StatusUpdate struct {
	Written        uint64
	Flushed        uint64 // the slot is confirmed up to here
	Applied        uint64
	ClientTime     int64 // microseconds since 2000-01-01 UTC
	ReplyRequested bool
}

// Encode appends the body, the type byte 'r' included.
func (m *StatusUpdate) Encode(dst []byte) []byte {
	dst = binary.BigEndian.AppendUint64(append(dst, 'r'), m.Written)
	dst = binary.BigEndian.AppendUint64(dst, m.Flushed)
	dst = binary.BigEndian.AppendUint64(dst, m.Applied)
	dst = binary.BigEndian.AppendUint64(dst, uint64(m.ClientTime))
	if m.ReplyRequested {
		return append(dst, 1)
	}
	return append(dst, 0)
}
