package change

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNames: a table's name can be taken apart again and belongs to no other table,
// and columns of flat formats are never alike.
func TestNames(t *testing.T) {
	parts := []string{"public", "a", "b.c", "a.b", "c", `q"q`, "line\nfeed", `back\slash`, "", "ü", "\x01", `"a"`, "a b", "\u0085"}
	seen := make(map[string][2]string)
	for _, schema := range parts {
		for _, table := range parts {
			name := TableName(schema, table)
			was, taken := seen[name]
			require.False(t, taken, "%q is the name of %q and of %q", name, was, [2]string{schema, table})
			seen[name] = [2]string{schema, table}
			back, behind, ok := SplitTable(name)
			require.True(t, ok, name)
			require.Equal(t, []string{schema, table}, []string{back, behind}, name)
		}
	}
	require.Equal(t, `a."b.c"`, TableName("a", "b.c"))
	require.Equal(t, "public.loans", TableName("public", "loans"))
	for _, none := range []string{"", "loans", "a.b.c", `"a`, `a."b`, `a."b"c`, `"a"b.c`} {
		_, _, ok := SplitTable(none)
		require.False(t, ok, none)
	}

	columns := []string{"Name", "name", "_offset", "e\nmail", "e_mail", "ok", "NAME", "e\tmail"}
	first := UniqueNames(columns, []string{"_offset", "_operation"}, nil)
	require.Equal(t, []string{"Name", "e_mail", "ok"}, []string{first[0], first[4], first[5]}, "what needs no change stays")
	require.Regexp(t, `^_offset_[0-9a-f]{6}$`, first[2])
	require.Regexp(t, `^e_mail_[0-9a-f]{6}$`, first[3])
	folded := make(map[string]bool)
	for _, name := range first {
		require.False(t, folded[name])
		folded[name] = true
	}
	require.Equal(t, first, UniqueNames(append(columns, "_offset_2"), []string{"_offset", "_operation"}, nil)[:8], "a column that comes later changes no other's name")
	require.Equal(t, []string{"a_b", "c_d"}, []string{UniqueNames([]string{"a-b", "a_b"}, nil, avroName)[1], UniqueNames([]string{"c-d"}, nil, avroName)[0]})
}
