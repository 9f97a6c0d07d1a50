package session_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/postgres/session"
	"rillmark/internal/shape"
	"rillmark/internal/testserver"
)

// FuzzNames holds patterns and quoting against a real server: what a pattern chooses
// here its expression chooses there, where it stands in statements, and a name or a text
// that is written into a statement is read as just that.
func FuzzNames(f *testing.F) {
	c := testserver.Start(f)
	conn, err := c.Connect(f.Context(), "postgres")
	require.NoError(f, err)

	for _, seed := range [][3]string{{"public.*", "public", "loans"}, {"loans", "public", "loans"}, {"*", "a.b", "c"}, {`a."b.c"`, "a", "b.c"}, {`"a.b".c`, "a.b", "c"}, {"?.?*", "a", "b\nc"},
		{`a."x\ny"`, "a", "x\ny"}, {"a.b+", "a", "bb"}, {"a.(b|c)", "a", "c"}, {`a.\d`, "a", "1"}, {"a.b[c]", "a", "bc"}, {"a.b$", "a", "b"}, {"a.^b", "a", "b"}, {"a.b{2}", "a", "bb"},
		{"a.ü?", "a", "üß"}, {"a.#b", "a", "#b"}, {"a. b", "a", " b"}, {`a."""`, "a", `"`}, {"***.***", "", ""}, {"a.b", "a", "b\n"}, {"a.$$", "a", "$$"}, {`a.\'`, "a", `\'`}} {
		f.Add(seed[0], seed[1], seed[2])
	}
	f.Fuzz(func(t *testing.T, text, schema, table string) {
		for _, one := range []string{text, schema, table} {
			if !utf8.ValidString(one) || strings.ContainsRune(one, 0) || len(one) > 60 {
				t.Skip() // a server has no such names
			}
		}
		name := change.TableName(schema, table)
		if schema != "" && table != "" {
			var parts []string
			require.NoError(t, conn.QueryRow(t.Context(), "SELECT parse_ident($1)", session.Quoted(schema)+"."+session.Quoted(table)).Scan(&parts))
			require.Equal(t, []string{schema, table}, parts, "quoted names are read as they are")
		}
		var same bool
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT "+session.Literal(name)+" = $1", pgx.QueryExecModeExec, name).Scan(&same))
		require.True(t, same, "a text in a statement is read as it is: %q", name)
		pattern, err := shape.ParsePattern(text)
		if err != nil {
			return
		}
		// As a reader asks for the blocks of tables, and as a function that an
		// administrator made asks for a table.
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT $1 ~ $2", name, pattern.Expression()).Scan(&same))
		require.Equal(t, pattern.Matches(name), same, "%q and %q (%s)", text, name, pattern.Expression())
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT "+session.Literal(name)+" ~ "+session.Literal(pattern.Expression()), pgx.QueryExecModeExec).Scan(&same))
		require.Equal(t, pattern.Matches(name), same, "%q and %q, written into a statement", text, name)
		if single := pattern.Single(); single != "" {
			require.True(t, pattern.Matches(single))
			require.Equal(t, single == name, pattern.Matches(name), "%q chooses %q alone", text, single)
		}
	})
}
