package session

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

func message(kind byte, n int) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(n+4)), make([]byte, n)...)
}

// TestGuardedRead: rows of any size pass, however they are cut; a notice does not.
func TestGuardedRead(t *testing.T) {
	rows := append(append(message('D', 3<<20), message('N', 100)...), message('Z', 1)...)
	n, err := io.Copy(io.Discard, &GuardedRead{R: iotest.HalfReader(bytes.NewReader(rows))})
	require.NoError(t, err)
	require.EqualValues(t, len(rows), n)
	_, err = io.Copy(io.Discard, &GuardedRead{R: bytes.NewReader(message('N', 1<<20))})
	require.ErrorContains(t, err, "kind 'N'")
}

// TestScriptsQuote: whatever a name holds stays in its place, in comments too.
func TestScriptsQuote(t *testing.T) {
	require.Equal(t, `E'a\\''b'`, Literal(`a\'b`))
	require.NotContains(t, InComment("a\nDROP TABLE loans; --\r\u2028b"), "\n")
	require.Equal(t, "$rillmark$", DollarTag("circulation", "a$$b"))
	require.Equal(t, "$rillmark__$", DollarTag("x$rillmark$", "y$rillmark_$"))
}
