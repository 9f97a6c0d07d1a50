package thrift

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"syscall"
	"unsafe"
)

// largestStep is what one read or write moves at most: the runtime cannot stop a goroutine in
// the midst of one.
const largestStep = 256 << 10

// Dialer makes the connections of a dialer thrifty (see [Conn]).
func Dialer(dial func(ctx context.Context, network, address string) (net.Conn, error)) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return Conn(conn), nil
	}
}

// Listener makes the connections that a listener accepts thrifty (see [Conn]).
func Listener(l net.Listener) net.Listener { return &listener{l} }

type listener struct{ net.Listener }

// Accept implements [net.Listener].
func (l *listener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return Conn(conn), nil
}

// Conn is a connection that reads and writes without a word to the runtime's scheduler. Its
// socket does not block, so there is nothing to say; but at the first system call after a rest
// the scheduler wakes its monitor's thread, which goes back to sleep in three steps: a tenth of
// what a service with little to do takes. A connection that is no socket stays as it is.
func Conn(conn net.Conn) net.Conn {
	socket, ok := conn.(syscall.Conn)
	if !ok {
		return conn
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return conn
	}
	c := &thrifty{Conn: conn, raw: raw}
	c.in.step, c.out.step = c.in.read, c.out.write
	return c
}

type thrifty struct {
	net.Conn
	raw     syscall.RawConn
	in, out direction
}

// direction is the reading or the writing half. Its fields are its own while mu is held.
type direction struct {
	mu   sync.Mutex
	step func(fd uintptr) (done bool)
	p    []byte
	n    int
	err  syscall.Errno
}

// SyscallConn implements [syscall.Conn].
func (c *thrifty) SyscallConn() (syscall.RawConn, error) { return c.raw, nil }

// Read implements [net.Conn].
func (c *thrifty) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return c.Conn.Read(p)
	}
	n, err := c.in.move(p, c.raw.Read)
	switch {
	case err != nil:
		return n, c.fault("read", err)
	case n == 0:
		return 0, io.EOF
	}
	return n, nil
}

// Write implements [net.Conn].
func (c *thrifty) Write(p []byte) (int, error) {
	n, err := c.out.move(p, c.raw.Write)
	if err != nil {
		return n, c.fault("write", err)
	}
	return n, nil
}

// fault is an error as the connection itself would give it.
func (c *thrifty) fault(op string, err error) error {
	var known *net.OpError
	if errors.As(err, &known) {
		err = known.Err
	}
	return &net.OpError{Op: op, Net: c.LocalAddr().Network(), Source: c.LocalAddr(), Addr: c.RemoteAddr(), Err: err}
}

// move goes step by step, and waits between them, until a step says that it is done.
func (d *direction) move(p []byte, waiting func(func(uintptr) bool) error) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.p, d.n, d.err = p, 0, 0
	err := waiting(d.step)
	d.p = nil
	if err == nil && d.err != 0 {
		err = d.err
	}
	return d.n, err
}

func (d *direction) read(fd uintptr) (done bool) {
	d.n, d.err = Read(fd, d.p)
	return d.err != syscall.EAGAIN
}

func (d *direction) write(fd uintptr) (done bool) {
	for d.n < len(d.p) {
		n, err := call(syscall.SYS_WRITE, fd, d.p[d.n:])
		if err != 0 {
			d.err = err
			return err != syscall.EAGAIN
		}
		d.n += n
	}
	d.err = 0
	return true
}

// Read reads once from a socket that does not block, without a word to the scheduler; err is
// zero where it could. Without anything to read, it is EAGAIN.
func Read(socket uintptr, p []byte) (n int, err syscall.Errno) {
	return call(syscall.SYS_READ, socket, p)
}

// call reads or writes once.
func call(number, fd uintptr, p []byte) (int, syscall.Errno) {
	p = p[:min(len(p), largestStep)]
	for {
		n, _, err := syscall.RawSyscall(number, fd, uintptr(unsafe.Pointer(unsafe.SliceData(p))), uintptr(len(p)))
		switch err {
		case 0:
			return int(n), 0
		case syscall.EINTR:
		default:
			return 0, err
		}
	}
}
