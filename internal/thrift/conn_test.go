package thrift

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestConn: a thrifty connection does what the one below it does: it moves more than a socket
// holds both ways at once, and its errors are the same.
func TestConn(t *testing.T) {
	for _, network := range []string{"tcp", "unix"} {
		for _, plain := range []bool{true, false} {
			t.Run(fmt.Sprint(network, ", plain ", plain), func(t *testing.T) {
				address := "127.0.0.1:0"
				if network == "unix" {
					address = filepath.Join(t.TempDir(), "s")
				}
				listener, err := net.Listen(network, address)
				require.NoError(t, err)
				defer listener.Close() //nolint:errcheck // it ends with the test
				dial := (&net.Dialer{}).DialContext
				if !plain {
					listener, dial = Listener(listener), Dialer(dial)
				}
				pair := func() (ours, theirs net.Conn) {
					ours, err := dial(t.Context(), network, listener.Addr().String())
					require.NoError(t, err)
					theirs, err = listener.Accept()
					require.NoError(t, err)
					t.Cleanup(func() { ours.Close(); theirs.Close() }) //nolint:errcheck // some are closed already
					return ours, theirs
				}

				a, b := pair()
				sent := make([]byte, 9<<20)
				rand.NewChaCha8([32]byte{}).Read(sent) //nolint:errcheck // it never fails
				moved := make(chan error, 4)
				for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
					go func() {
						n, err := way[0].Write(sent)
						if err == nil && n != len(sent) {
							err = io.ErrShortWrite
						}
						moved <- err
					}()
					go func() {
						came := make([]byte, len(sent))
						_, err := io.ReadFull(way[1], came)
						if err == nil && !bytes.Equal(sent, came) {
							err = errors.New("something else came")
						}
						moved <- err
					}()
				}
				for range cap(moved) {
					require.NoError(t, <-moved)
				}

				one := make([]byte, 1)
				check := func(op string, want error, do func() (int, error)) {
					t.Helper()
					n, err := do()
					require.Zero(t, n)
					var told *net.OpError
					require.ErrorAs(t, err, &told)
					require.Equal(t, op, told.Op)
					require.ErrorIs(t, err, want)
				}
				require.NoError(t, a.SetReadDeadline(time.Unix(1, 0)))
				check("read", os.ErrDeadlineExceeded, func() (int, error) { return a.Read(one) })
				require.NoError(t, a.SetDeadline(time.Time{}))
				n, err := a.Read(nil)
				require.NoError(t, err)
				require.Zero(t, n)

				require.NoError(t, b.Close())
				_, err = a.Read(one)
				require.Equal(t, io.EOF, err)
				require.Eventually(t, func() bool { // the first one may be on its way
					_, err = a.Write(one)
					return errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET)
				}, time.Minute, time.Millisecond)

				a, b = pair()
				waiting := make(chan error, 1)
				go func() {
					_, err := a.Read(one)
					waiting <- err
				}()
				_, err = a.Write(one)
				require.NoError(t, err)
				_, err = b.Read(one)
				require.NoError(t, err)
				require.NoError(t, a.Close())
				require.ErrorIs(t, <-waiting, net.ErrClosed)
				check("read", net.ErrClosed, func() (int, error) { return a.Read(one) })
				check("write", net.ErrClosed, func() (int, error) { return a.Write(one) })
			})
		}
	}
	a, _ := net.Pipe()
	require.Equal(t, a, Conn(a), "what is no socket stays as it is")
	_, err := Dialer(func(context.Context, string, string) (net.Conn, error) { return nil, io.ErrClosedPipe })(t.Context(), "tcp", "")
	require.Equal(t, io.ErrClosedPipe, err)
}
