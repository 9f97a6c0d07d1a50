package test

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/require"
)

// wire forwards connections to a port, and can swallow all that goes over it
// without closing anything, as a lost network does.
type wire struct {
	port int

	mu      sync.Mutex
	hanging chan struct{} // closed when the wire works
}

func newWire(t *testing.T, to int) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{port: l.Addr().(*net.TCPAddr).Port, hanging: make(chan struct{})}
	close(w.hanging)
	var all sync.WaitGroup
	var mu sync.Mutex
	var conns []net.Conn
	all.Add(1)
	go func() {
		defer all.Done()
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			onward, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to))
			if err != nil {
				from.Close() //nolint:errcheck // nothing went over it
				continue
			}
			mu.Lock()
			conns = append(conns, from, onward)
			mu.Unlock()
			for _, pair := range [][2]net.Conn{{from, onward}, {onward, from}} {
				all.Add(1)
				go func() {
					defer all.Done()
					defer pair[0].Close()                //nolint:errcheck // the other side sees it
					defer pair[1].Close()                //nolint:errcheck // the other side sees it
					io.Copy(w.through(pair[1]), pair[0]) //nolint:errcheck // the connection's end
				}()
			}
		}
	}()
	t.Cleanup(func() {
		l.Close() //nolint:errcheck // nobody dials it any more
		w.hang(false)
		mu.Lock()
		for _, c := range conns {
			c.Close() //nolint:errcheck // it may be closed
		}
		mu.Unlock()
		all.Wait()
	})
	return w
}

func (w *wire) hang(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	select {
	case <-w.hanging:
		if on {
			w.hanging = make(chan struct{})
		}
	default:
		if !on {
			close(w.hanging)
		}
	}
}

type held struct {
	*wire
	to io.Writer
}

func (w *wire) through(to io.Writer) io.Writer { return &held{w, to} }

func (h *held) Write(p []byte) (int, error) {
	h.mu.Lock()
	works := h.hanging
	h.mu.Unlock()
	<-works
	return h.to.Write(p)
}

// holdSlot streams from a slot as another reader would, until it is let go.
func holdSlot(t *testing.T, address, slot, publication string) (letGo func()) {
	t.Helper()
	config, err := pgconn.ParseConfig(address)
	require.NoError(t, err)
	config.RuntimeParams["replication"] = "database"
	conn, err := pgconn.ConnectConfig(t.Context(), config)
	require.NoError(t, err)
	conn.Frontend().Send(&pgproto3.Query{String: "START_REPLICATION SLOT " + slot + " LOGICAL 0/0 (proto_version '1', publication_names '" + publication + "')"})
	require.NoError(t, conn.Frontend().Flush())
	m, err := conn.ReceiveMessage(t.Context())
	require.NoError(t, err)
	require.IsType(t, &pgproto3.CopyBothResponse{}, m)
	return func() { conn.Close(context.Background()) } //nolint:errcheck // it has done its work
}
