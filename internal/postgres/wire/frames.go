package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"rillmark/internal/postgres/pgoutput"
)

// Frames takes the server's messages off the replication connection (the manual,
// section "Message Formats"). A row whose values are larger than a bound is taken
// apart as it comes: the large values are passed over, and stand in the message as
// [pgoutput.KindTooLarge], so that memory does not grow with them.
type Frames struct {
	in *Conn
	// largest is the size of the largest value that is kept, as the server sends it.
	largest int64
	buf     []byte
}

// NewFrames takes messages off a connection. largest is the size of the largest value
// that is kept, as the server sends it.
func NewFrames(in *Conn, largest int64) *Frames { return &Frames{in: in, largest: largest} }

const (
	// BigFrame is the size, in bytes, from which a row is taken apart.
	BigFrame = 1 << 20
	// MaxNotice is what any message may have that brings no row: an error, a notice, a
	// parameter.
	MaxNotice = 64 << 10
	// MaxFrame is more than the server can send (MaxAllocSize is 1 GiB).
	MaxFrame = 1<<30 + 1<<20
)

// Next returns a message's kind and body, good until the next call.
func (f *Frames) Next() (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(f.in, head[:]); err != nil {
		return 0, nil, err
	}
	n := int64(binary.BigEndian.Uint32(head[1:])) - 4
	if n < 0 || n > MaxFrame {
		return 0, nil, fmt.Errorf("the server sends a message of %d bytes: this is not its protocol", n)
	}
	if n > MaxNotice && head[0] != 'd' {
		return 0, nil, fmt.Errorf("the server sends a message of kind %q and %d bytes, more than any such message needs", head[0], n)
	}
	if n > BigFrame && head[0] == 'd' {
		body, err = f.big(n)
		return head[0], body, err
	}
	if body := f.in.view(int(n)); body != nil {
		return head[0], body, nil
	}
	if cap(f.buf) > 2*BigFrame {
		f.buf = nil // a large message's room is given back
	}
	body, err = f.fill(f.buf[:0], n)
	f.buf = body
	return head[0], body, err
}

// fill appends n bytes of the connection.
func (f *Frames) fill(dst []byte, n int64) ([]byte, error) {
	at := len(dst)
	if need := at + int(n); need > cap(dst) {
		grown := make([]byte, at, max(need, 2*cap(dst)))
		copy(grown, dst)
		dst = grown
	}
	dst = dst[:at+int(n)]
	_, err := io.ReadFull(f.in, dst[at:])
	return dst, err
}

// big takes a large CopyData message.
func (f *Frames) big(n int64) (body []byte, err error) {
	const start = 26 // 'w', three positions, and the plugin's type byte
	if body, err = f.fill(f.buf[:0], start); err != nil {
		return nil, err
	}
	n -= start
	t := taker{frames: f, body: body, left: n}
	switch {
	case body[0] != 'w' || body[25] != 'I' && body[25] != 'U' && body[25] != 'D':
		t.copy(n)
	default:
		t.copy(4) // the relation
		for t.left > 0 && t.err == nil {
			t.copy(1) // which row follows
			t.tuple()
		}
	}
	if t.err != nil {
		return nil, t.err
	}
	f.buf = t.body
	return t.body, nil
}

// taker takes a row apart and keeps its first error.
type taker struct {
	frames *Frames
	body   []byte
	left   int64
	err    error
}

func (t *taker) copy(n int64) {
	if t.err != nil {
		return
	}
	if n < 0 || n > t.left {
		t.err = errors.New("a large row ends too early")
		return
	}
	t.left -= n
	t.body, t.err = t.frames.fill(t.body, n)
}

func (t *taker) tuple() {
	t.copy(2)
	if t.err != nil {
		return
	}
	for columns := binary.BigEndian.Uint16(t.body[len(t.body)-2:]); columns > 0 && t.err == nil; columns-- {
		t.copy(1)
		if t.err != nil {
			return
		}
		if kind := pgoutput.ColumnKind(t.body[len(t.body)-1]); kind != pgoutput.KindText && kind != pgoutput.KindBinary {
			continue
		}
		t.copy(4)
		if t.err != nil {
			return
		}
		size := int64(binary.BigEndian.Uint32(t.body[len(t.body)-4:]))
		if size <= t.frames.largest && int64(len(t.body))+size <= 2*t.frames.largest+BigFrame {
			t.copy(size)
			continue
		}
		if size > t.left {
			t.err = errors.New("a large row ends too early")
			return
		}
		t.left -= size
		_, t.err = io.CopyN(io.Discard, t.frames.in, size)
		kind := t.body[len(t.body)-5]
		t.body = append(t.body[:len(t.body)-5], byte(pgoutput.KindTooLarge))
		t.body = binary.BigEndian.AppendUint32(t.body, 9)
		t.body = binary.BigEndian.AppendUint64(append(t.body, kind), uint64(size))
	}
}
