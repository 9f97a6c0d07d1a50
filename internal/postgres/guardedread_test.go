package postgres

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

func wire(kind byte, n int) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(n+4)), make([]byte, n)...)
}

// TestGuardedRead: rows of any size pass, however they are cut; a notice does not.
func TestGuardedRead(t *testing.T) {
	rows := append(append(wire('D', 3<<20), wire('N', 100)...), wire('Z', 1)...)
	n, err := io.Copy(io.Discard, &guardedRead{r: iotest.HalfReader(bytes.NewReader(rows))})
	require.NoError(t, err)
	require.EqualValues(t, len(rows), n)
	_, err = io.Copy(io.Discard, &guardedRead{r: bytes.NewReader(wire('N', 1<<20))})
	require.ErrorContains(t, err, "kind 'N'")
}

// TestScriptsQuote: whatever a name holds stays in its place, in comments too.
func TestScriptsQuote(t *testing.T) {
	require.Equal(t, `E'a\\''b'`, literal(`a\'b`))
	require.NotContains(t, inComment("a\nDROP TABLE loans; --\r\u2028b"), "\n")
	require.Equal(t, "$rillmark$", dollarTag("circulation", "a$$b"))
	require.Equal(t, "$rillmark__$", dollarTag("x$rillmark$", "y$rillmark_$"))
}
