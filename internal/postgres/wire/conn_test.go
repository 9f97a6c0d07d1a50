package wire

import (
	"bytes"
	"errors"
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// TestSmallPiecesAreReadTogether: what is read with pauses, and with the kernel
// waking us for large pieces alone, is what was sent; a small piece that nothing
// follows comes, too; an end and a deadline are reported.
func TestSmallPiecesAreReadTogether(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close() //nolint:errcheck // it was only opened to be closed
	ours, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	defer ours.Close() //nolint:errcheck // nothing is open on it
	theirs, err := listener.Accept()
	require.NoError(t, err)
	c := NewConn(ours)
	c.Coalesce()
	require.NotNil(t, c.timer.timer, "the kernel's timer")

	random, pieces := seeded.Random(t, 1), seeded.Random(t, 2)
	sent := make([]byte, 3*bufferBytes)
	for n := range sent {
		sent[n] = byte(random.Uint32())
	}
	go func() {
		for at := 0; at < len(sent); {
			n := min(1+pieces.IntN(500), len(sent)-at)
			if pieces.IntN(100) == 0 {
				n = min(2*bufferBytes, len(sent)-at)
			}
			theirs.Write(sent[at : at+n]) //nolint:errcheck // the reader tells
			at += n
		}
	}()
	got := make([]byte, 0, len(sent))
	for len(got) < len(sent) {
		if seen := c.view(7); seen != nil { // as messages are taken that lie there whole
			got = append(got, seen...)
			continue
		}
		n, err := c.Read(got[len(got):min(len(got)+1+random.IntN(9000), cap(got))])
		require.NoError(t, err)
		got = got[:len(got)+n]
	}
	require.True(t, bytes.Equal(sent, got))
	require.Nil(t, c.view(1))

	one := make([]byte, 10)
	for _, word := range []string{"a", "coalescing"} {
		_, err = theirs.Write([]byte(word))
		require.NoError(t, err)
		n, err := c.Read(one)
		require.NoError(t, err)
		require.Equal(t, word, string(one[:n]), "a small piece that nothing follows")
	}
	require.NoError(t, ours.SetReadDeadline(time.Unix(1, 0)))
	_, err = c.Read(one)
	require.True(t, errors.Is(err, os.ErrDeadlineExceeded), err)
	require.NoError(t, ours.SetReadDeadline(time.Time{}))
	require.NoError(t, theirs.Close())
	_, err = c.Read(one)
	require.ErrorIs(t, err, io.EOF)
	require.NoError(t, c.Close())
	c.timer.wait(time.Hour) // whoever pauses goes on
}
