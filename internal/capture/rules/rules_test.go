package rules

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/expression"
	"rillmark/internal/shape"
)

func pattern(t *testing.T, text string) shape.Pattern {
	t.Helper()
	p, err := shape.ParsePattern(text)
	require.NoError(t, err)
	return p
}

func column(t *testing.T, text string, treat Treatment) Column {
	t.Helper()
	p, err := shape.ParseColumnPattern(text)
	require.NoError(t, err)
	return Column{Match: p, Treat: treat}
}

// TestTheFirstRuleDecides: of tables, of partitions under their root, and of columns.
func TestTheFirstRuleDecides(t *testing.T) {
	set := Set{
		{Match: pattern(t, "public.secret*")},
		{Match: pattern(t, "public.visits"), Active: true, Root: true, Columns: []Column{column(t, "email", Hash), column(t, "e*", Drop)}},
		{Match: pattern(t, "public.*"), Active: true},
	}
	require.Nil(t, set.For("public.secrets"), "a rule that is not active leaves the table out")
	require.Nil(t, set.For("other.loans"))
	require.Equal(t, &set[2], set.For("public.loans"))
	require.True(t, set.MapsPartitions())
	require.True(t, set.Private())
	require.False(t, set[2:].Private())
	for _, c := range []struct {
		table, root, name string
		rule              *Table
	}{
		{"public.visits_1", "public.visits", "public.visits", &set[1]},
		{"public.visits_1", "", "public.visits_1", &set[2]},
		{"public.part", "public.loans", "public.part", &set[2]},
		{"public.part", "other.loans", "public.part", &set[2]},
		{"public.secret_1", "public.loans", "public.secret_1", nil},
		{"public.secret_1", "public.visits", "public.visits", &set[1]},
	} {
		name, rule := set.Target(c.table, c.root)
		require.Equal(t, c.name, name, c)
		require.Same(t, c.rule, rule, c)
	}
	visits := &set[1]
	require.Equal(t, []Treatment{Hash, Drop, Keep}, []Treatment{visits.Treatment("email"), visits.Treatment("extra"), visits.Treatment("branch")})
	require.True(t, visits.Decides("extra"))
	require.False(t, visits.Decides("branch"))
	require.False(t, visits.Filtered())
}

// TestDigest: it changes with all that decides the content of events, and with nothing else.
func TestDigest(t *testing.T) {
	require.Empty(t, (&Table{Image: ImageBoth, Priority: 3, ByKey: true}).Digest(), "all is captured as it is")
	filter, err := expression.ParseCondition("branch == 'north'")
	require.NoError(t, err)
	seen := map[string]int{"": -1}
	for i, r := range []Table{
		{Image: ImageKey}, {Root: true}, {Key: []string{"id"}}, {Filter: filter}, {Columns: []Column{column(t, "email", Hash)}},
		{Columns: []Column{column(t, "email", Mask)}}, {Columns: []Column{column(t, "email", Mask), column(t, "*", Drop)}}, {Columns: []Column{column(t, "*", Drop), column(t, "email", Mask)}},
	} {
		was, taken := seen[r.Digest()]
		require.False(t, taken, "rules %d and %d have one digest", i, was)
		seen[r.Digest()] = i
		r.Priority, r.Match = 9, pattern(t, "a.b")
		require.Equal(t, i, seen[r.Digest()], "the digest does not depend on what events do not")
	}
}

// TestTreatments: a hash is the value's HMAC under the key, the same for the same value.
func TestTreatments(t *testing.T) {
	require.Equal(t, "x***", string(shape.AppendMask([]byte("x"))))
	hash := shape.NewHasher([]byte("key"))
	const want = "f7bc83f430538424b13298e6aa6fb143ef4d59a14946175997479dbc2d1a3cd8" // of RFC 2104's scheme, by another tool
	for range 2 {
		require.Equal(t, "x"+want, string(hash([]byte("x"), []byte("The quick brown fox jumps over the lazy dog"))))
	}
	require.NotEqual(t, want, string(shape.NewHasher([]byte("other"))(nil, []byte("The quick brown fox jumps over the lazy dog"))))
}
