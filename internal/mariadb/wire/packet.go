package wire

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// The sizes of section "0-packet".
const (
	maxFrame = 1<<24 - 1 // a frame of this size is followed by another of the same packet
	// MaxPacket is the largest packet that is taken, in bytes: the server's own bound
	// (slave_max_allowed_packet, 1 GiB) and some for its frames.
	MaxPacket = 1<<30 + 1<<20
	// readBuffer is read at a time; packets that fit are handed out without a copy.
	readBuffer = 256 << 10
	// keptBuffer is the most that is kept of the room for a large packet.
	keptBuffer = 4 << 20
)

// frames reads and writes packets. It is not safe for several goroutines.
type frames struct {
	conn net.Conn
	in   *bufio.Reader
	// sequence numbers the frames of an exchange.
	sequence byte
	large    []byte
	// most is the largest packet that is taken now, in bytes; MaxPacket where it is zero.
	most int
	// passed is what of the buffer was handed out and is not discarded yet.
	passed int
	// silence, where not zero, is how long the server may send nothing; quiet is the
	// deadline that was set last.
	silence time.Duration
	quiet   time.Time
}

func (f *frames) use(conn net.Conn) {
	f.conn, f.in, f.passed = conn, bufio.NewReaderSize(conn, readBuffer), 0
}

// errFrames is what a server that speaks another protocol gives.
var errFrames = errors.New("the server's packets are out of order: this is not its protocol")

// await moves the deadline before a read that may wait.
func (f *frames) await() {
	if f.silence == 0 || f.in.Buffered() >= 4 {
		return
	}
	if now := time.Now(); f.quiet.Sub(now) < f.silence*3/4 {
		f.quiet = now.Add(f.silence)
		f.conn.SetReadDeadline(f.quiet) //nolint:errcheck // the read itself says what is wrong
	}
}

// readPacket is the next packet, good until the next call.
func (f *frames) readPacket() ([]byte, error) {
	if f.passed > 0 {
		f.in.Discard(f.passed) //nolint:errcheck // it was peeked
		f.passed = 0
	}
	f.await()
	n, err := f.head()
	if err != nil {
		return nil, err
	}
	if n <= readBuffer-4 && n < maxFrame {
		body, err := f.in.Peek(n)
		if err != nil {
			return nil, short(err)
		}
		f.passed = n
		return body, nil
	}
	if cap(f.large) > keptBuffer {
		f.large = nil // a large packet's room is given back
	}
	f.large = f.large[:0]
	for {
		most := MaxPacket
		if f.most > 0 {
			most = f.most
		}
		if len(f.large)+n > most {
			return nil, fmt.Errorf("the server sends a packet of more than %d bytes", most)
		}
		if f.large, err = f.appendFrame(f.large, n); err != nil {
			return nil, err
		}
		if n < maxFrame {
			return f.large, nil
		}
		if n, err = f.head(); err != nil {
			return nil, err
		}
	}
}

// appendFrame reads n bytes behind dst; memory grows with what has really come.
func (f *frames) appendFrame(dst []byte, n int) ([]byte, error) {
	for n > 0 {
		step := min(n, 1<<20)
		at := len(dst)
		if cap(dst)-at < step {
			grown := make([]byte, at, max(cap(dst)+cap(dst)/4, at+step))
			copy(grown, dst)
			dst = grown
		}
		dst = dst[:at+step]
		f.await()
		if _, err := io.ReadFull(f.in, dst[at:]); err != nil {
			return nil, short(err)
		}
		n -= step
	}
	return dst, nil
}

func (f *frames) head() (int, error) {
	head, err := f.in.Peek(4)
	if err != nil {
		if len(head) > 0 {
			return 0, short(err)
		}
		return 0, err
	}
	n, sequence := int(head[0])|int(head[1])<<8|int(head[2])<<16, head[3]
	if sequence != f.sequence {
		return 0, errFrames
	}
	f.sequence++
	f.in.Discard(4) //nolint:errcheck // it was peeked
	return n, nil
}

// short is the end of a connection in the middle of something.
func short(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// writePacket sends a packet, one of 16 MiB and more in several frames.
func (f *frames) writePacket(body []byte) error {
	for {
		n := min(len(body), maxFrame)
		frame := make([]byte, 4, 4+n)
		frame[0], frame[1], frame[2], frame[3] = byte(n), byte(n>>8), byte(n>>16), f.sequence
		f.sequence++
		if _, err := f.conn.Write(append(frame, body[:n]...)); err != nil {
			return err
		}
		if body = body[n:]; n < maxFrame {
			return nil
		}
	}
}

// command begins an exchange.
func (f *frames) command(code byte, body string) error {
	f.sequence = 0
	return f.writePacket(append([]byte{code}, body...))
}
