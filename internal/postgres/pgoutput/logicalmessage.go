package pgoutput

import "encoding/binary"

// LogicalMessage is what an application wrote into the log on purpose.
type LogicalMessage struct {
	// Transactional is false for a message that stands outside of any
	// transaction, between a Commit and the next Begin.
	Transactional bool
	LSN           uint64
	Prefix        string
	Content       []byte
}

// Decode implements [Message].
func (m *LogicalMessage) Decode(body []byte) error {
	r := reader{rest: body}
	m.Transactional = r.uint8()&1 != 0
	m.LSN = r.uint64()
	m.Prefix = r.string()
	m.Content = r.take(r.count(r.uint32(), 1))
	return r.finish("Message")
}

// Encode implements [Message].
func (m *LogicalMessage) Encode(dst []byte) []byte {
	flags := byte(0)
	if m.Transactional {
		flags = 1
	}
	dst = binary.BigEndian.AppendUint64(append(dst, 'M', flags), m.LSN)
	dst = appendString(dst, m.Prefix)
	dst = binary.BigEndian.AppendUint32(dst, uint32(len(m.Content)))
	return append(dst, m.Content...)
}
