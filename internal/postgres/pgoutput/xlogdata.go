package pgoutput

// XLogData wraps one message of the plugin on its way from the server.
type XLogData struct {
	Start      uint64 // the message's own place in the log
	End        uint64 // the server's current end of log
	ServerTime int64  // microseconds since 2000-01-01 UTC
	Data       []byte
}

// Decode reads the body after the type byte 'w'.
func (m *XLogData) Decode(body []byte) error {
	r := reader{rest: body}
	m.Start = r.uint64()
	m.End = r.uint64()
	m.ServerTime = int64(r.uint64())
	m.Data = r.take(len(r.rest))
	return r.finish("XLogData")
}
