// Package wire takes the messages of a replication connection off the network: in large
// pieces, and without memory that grows with the values in them. What is in the
// messages is package pgoutput's matter.
package wire

import (
	"io"
	"net"
	"sync/atomic"
	"syscall"
	"time"

	"rillmark/internal/thrift"
)

// coalescePause is how long a reader waits after a short read: reading eagerly
// makes the server send tiny pieces, and a pause of this length doubles its rate
// on small transactions and halves our CPU.
const coalescePause = 500 * time.Microsecond

const (
	// quietGap is how far apart reads are where the stream is quiet: then a pause only wakes us
	// once more.
	quietGap = 4 * time.Millisecond
	// quietFollows is from how many reads in a row on, each soon after the one before, the stream
	// is not quiet: one transaction may come in some pieces.
	quietFollows = 8
)

// Conn reads in large pieces, and pauses after a piece that was not large.
type Conn struct {
	net.Conn
	pause time.Duration // zero until the stream has started
	timer pauser
	buf   []byte
	rest  []byte
	short bool
	soon  int // reads in a row that came soon after the one before
	last  atomic.Int64
	raw   syscall.RawConn // nil where the connection is not TCP
	tried bool
	// wakeAt is from how many bytes on the kernel wakes us (SO_RCVLOWAT).
	wakeAt int
}

// wakeBytes is what has to have come before the kernel wakes us while we pause: a
// wake-up for each small piece would cost both ends more than the piece.
const wakeBytes = 64 << 10

const bufferBytes = 256 << 10

// NewConn reads from a connection.
func NewConn(conn net.Conn) *Conn { return &Conn{Conn: conn} }

// Coalesce has it pause after small pieces from here on.
func (c *Conn) Coalesce() { c.pause, c.timer = coalescePause, newPauser() }

// Close implements [net.Conn]. A pause ends, too.
func (c *Conn) Close() error {
	c.timer.close()
	return c.Conn.Close()
}

// LastRead is when something came last.
func (c *Conn) LastRead() time.Time { return time.Unix(0, c.last.Load()) }

// view is the next n bytes where all of them have been read already, good until
// the next call of any method; nil otherwise.
func (c *Conn) view(n int) []byte {
	if n > len(c.rest) {
		return nil
	}
	seen := c.rest[:n:n]
	c.rest = c.rest[n:]
	return seen
}

// Read implements [net.Conn].
func (c *Conn) Read(p []byte) (int, error) {
	if len(c.rest) == 0 {
		if c.pause == 0 {
			n, err := c.Conn.Read(p)
			c.last.Store(time.Now().UnixNano())
			return n, err
		}
		if c.buf == nil {
			c.buf = make([]byte, bufferBytes)
		}
		if c.short {
			c.setWake(wakeBytes)
			c.timer.wait(c.pause)
		}
		n, err := c.receive()
		if n == 0 {
			return 0, err
		}
		now := time.Now()
		if c.soon++; now.Sub(c.LastRead()) > quietGap {
			c.soon = 0
		}
		c.last.Store(now.UnixNano())
		c.short = n < len(c.buf)/4 && c.soon >= quietFollows
		c.rest = c.buf[:n]
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// setWake says from how many bytes on we are to be woken. Where it cannot be said
// we are woken for each piece.
func (c *Conn) setWake(bytes int) {
	if !c.tried {
		c.tried = true
		if socket, ok := c.Conn.(syscall.Conn); ok && c.LocalAddr().Network() == "tcp" {
			c.raw, _ = socket.SyscallConn() // then raw is nil
		}
	}
	if c.raw == nil || c.wakeAt == bytes {
		return
	}
	c.wakeAt = bytes
	c.raw.Control(func(fd uintptr) { //nolint:errcheck // a closed connection shows at its next use
		syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVLOWAT, bytes) //nolint:errcheck // then each piece wakes us
	})
}

// receive reads what is there; where nothing is, it waits for the first byte.
func (c *Conn) receive() (int, error) {
	if c.raw == nil {
		return c.Conn.Read(c.buf)
	}
	var n int
	var err syscall.Errno
	wait := c.raw.Read(func(fd uintptr) (done bool) {
		if n, err = thrift.Read(fd, c.buf); err != syscall.EAGAIN {
			return true
		}
		if c.wakeAt != 1 {
			c.wakeAt = 1
			syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVLOWAT, 1) //nolint:errcheck // it was 1 then
			// A byte may have come before that was said.
			if n, err = thrift.Read(fd, c.buf); err != syscall.EAGAIN {
				return true
			}
		}
		return false
	})
	switch {
	case wait != nil:
		return 0, wait
	case err != 0:
		return 0, &net.OpError{Op: "read", Net: "tcp", Err: err}
	case n == 0:
		return 0, io.EOF
	}
	return n, nil
}
