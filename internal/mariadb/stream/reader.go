package stream

import (
	"errors"
	"fmt"
	"strings"

	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
)

// reader takes events off the connection; its goroutine alone uses it.
type reader struct {
	conn        *wire.Conn
	user, where string
	// checksum says whether events of the file at hand have one.
	checksum bool
	at       standing
}

// run hands batches over until the log ends or the stream is closed.
func (r *reader) run(s *Stream) {
	for {
		var b *batch
		select {
		case b = <-s.spare:
		case <-s.closing:
			return
		}
		if cap(b.data) > 4*batchBytes {
			b.data = nil // a large event's room is given back
		}
		b.data, b.events, b.err = b.data[:0], b.events[:0], nil
		b.err = guard.Run(func() error { return r.fill(b) })
		select {
		case s.batches <- b:
		case <-s.closing:
			return
		}
		if b.err != nil {
			return
		}
	}
}

// fill reads what has come already, and one event at least.
func (r *reader) fill(b *batch) error {
	for len(b.events) == 0 || len(b.data) < batchBytes && len(b.events) < batchEvents && r.conn.Pending() {
		raw, err := r.conn.NextEvent()
		if err != nil {
			return noRight(err, r.user, r.where)
		}
		h, body, err := r.split(raw)
		if err != nil {
			return err
		}
		r.advance(&h)
		if h.Type == binlog.TypeRotate {
			if err := r.rotate(body); err != nil {
				return err
			}
			continue
		}
		b.data = append(b.data, body...)
		b.events = append(b.events, batched{h, len(b.data), r.at})
	}
	return nil
}

// split takes an event apart and checks it.
func (r *reader) split(raw []byte) (h binlog.Header, body []byte, err error) {
	if len(raw) > 4 && binlog.Type(raw[4]) == binlog.TypeFormatDescription {
		d, err := binlog.DecodeFormatDescription(raw)
		if err != nil {
			return h, nil, r.broken(err)
		}
		r.checksum = d.Checksum
		h, _, err = binlog.Split(raw, false)
		return h, nil, err
	}
	if h, body, err = binlog.Split(raw, r.checksum); err != nil {
		return h, nil, r.broken(err)
	}
	return h, body, nil
}

func (r *reader) rotate(body []byte) error {
	if r.at.file == "" && len(body) > 12 && !validFile(string(body[8:])) {
		// Whether the first event has a checksum is said by the second.
		if named := string(body[8 : len(body)-4]); validFile(named) {
			body = body[:len(body)-4]
		}
	}
	to, err := binlog.DecodeRotate(body)
	if err != nil {
		return r.broken(err)
	}
	if to.File == r.at.file {
		return nil
	}
	r.at.rotated = r.at.rotated || r.at.file != ""
	r.at.file, r.at.place = to.File, Place{FileNumber(to.File), to.Offset}
	return nil
}

// validFile reports whether a name ends with a file's number.
func validFile(name string) bool {
	at := strings.LastIndexByte(name, '.')
	return at >= 0 && len(name)-at >= 2 && strings.Trim(name[at+1:], "0123456789") == ""
}

// advance moves on behind an event. Its header has the low half of the offset only.
func (r *reader) advance(h *binlog.Header) {
	if h.End == 0 || h.Flags&binlog.FlagArtificial != 0 || h.Type == binlog.TypeHeartbeat {
		return
	}
	end := r.at.place.Offset&^(1<<32-1) | uint64(h.End)
	if end < r.at.place.Offset {
		end += 1 << 32
	}
	r.at.place.Offset = end
}

func (r *reader) broken(err error) error {
	if errors.Is(err, binlog.ErrChecksum) {
		return &engine.Fault{Code: "log-damaged", Cause: err, Message: fmt.Sprintf("the event behind %s:%d of the log was damaged on its way, or on the server's disk", r.at.file, r.at.place.Offset),
			Fix: "it is read again; where it stays so, the server's log is damaged: " + session.Anew}
	}
	return cannotDecode(&r.at, err)
}
