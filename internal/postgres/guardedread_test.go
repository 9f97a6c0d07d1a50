package postgres

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"io"
	"testing"
	"testing/iotest"

	"rillmark/internal/capture/rules"

	"github.com/stretchr/testify/require"
)

func message(kind byte, n int) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(n+4)), make([]byte, n)...)
}

// TestGuardedRead: rows of any size pass, however they are cut; a notice does not.
func TestGuardedRead(t *testing.T) {
	rows := append(append(message('D', 3<<20), message('N', 100)...), message('Z', 1)...)
	n, err := io.Copy(io.Discard, &guardedRead{r: iotest.HalfReader(bytes.NewReader(rows))})
	require.NoError(t, err)
	require.EqualValues(t, len(rows), n)
	_, err = io.Copy(io.Discard, &guardedRead{r: bytes.NewReader(message('N', 1<<20))})
	require.ErrorContains(t, err, "kind 'N'")
}

// TestScriptsQuote: whatever a name holds stays in its place, in comments too.
func TestScriptsQuote(t *testing.T) {
	require.Equal(t, `E'a\\''b'`, literal(`a\'b`))
	require.NotContains(t, inComment("a\nDROP TABLE loans; --\r\u2028b"), "\n")
	require.Equal(t, "$rillmark$", dollarTag("circulation", "a$$b"))
	require.Equal(t, "$rillmark__$", dollarTag("x$rillmark$", "y$rillmark_$"))
}

// TestATellableStatement: a text that came with others, or that is a call, may hold what
// a rule keeps private; so may one of a table whose rule treats a column.
func TestATellableStatement(t *testing.T) {
	secret, open := &table{}, &table{}
	rules := []rules.Table{{Columns: []rules.Column{{Treat: rules.Mask}}}, {Columns: []rules.Column{{Treat: rules.Keep}}}}
	secret.state.Table, open.state.Table = "public.patrons", "public.loans"
	r := &run{config: &Config{Rules: rules}, owners: map[uint32]*table{1: secret, 2: open}}
	secret.captured, open.captured = &captured{rule: &rules[0]}, &captured{rule: &rules[1]}
	for text, tellable := range map[string]bool{
		"ALTER TABLE loans ADD COLUMN shelf text":                        true,
		" alter\n table loans add shelf text ;\n":                        true,
		"UPDATE patrons SET pin = 'x'; ALTER TABLE loans ADD shelf text": false,
		"ALTER TABLE loans ADD shelf text; UPDATE patrons SET pin = 'x'": false,
		"SELECT change_tables('x')":                                      false,
		"CREATE TABLE loans AS SELECT pin FROM patrons":                  false,
	} {
		n := &noted{Tag: "ALTER TABLE", Statement: text}
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 2}]`), &n.Tables))
		require.Equal(t, tellable, r.tellable(n), text)
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 2}, {"oid": 1}]`), &n.Tables))
		require.False(t, r.tellable(n), text)
		require.NoError(t, json.Unmarshal([]byte(`[{"oid": 3, "table": "public.unknown"}]`), &n.Tables))
		require.False(t, r.tellable(n), text)
	}
}
