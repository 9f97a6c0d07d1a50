package pgoutput

// Keepalive is the server's sign of life.
type Keepalive struct {
	End            uint64 // the server's current end of log
	ServerTime     int64  // microseconds since 2000-01-01 UTC
	ReplyRequested bool
}

// Decode reads the body after the type byte 'k'.
func (m *Keepalive) Decode(body []byte) error {
	r := reader{rest: body}
	m.End = r.uint64()
	m.ServerTime = int64(r.uint64())
	m.ReplyRequested = r.uint8() != 0
	return r.finish("Primary keepalive message")
}
