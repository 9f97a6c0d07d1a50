package change

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDiff(t *testing.T) {
	before := NewSchema(PostgreSQL, "public.loans", []Column{{Name: "id", Type: "integer", Rule: RuleInteger, Key: 1}, {Name: "gone", Type: "text"}, {Name: "state", Type: "mood", Rule: RuleEnum, Labels: []string{"low"}}, {Name: "note", Type: "text", Nullable: true}, {Name: "last", Type: "text"}}, nil, false)
	after := NewSchema(PostgreSQL, "public.loans", []Column{{Name: "id", Type: "bigint", Rule: RuleInteger}, {Name: "state", Type: "mood", Rule: RuleEnum, Labels: []string{"low", "fine"}}, {Name: "note", Type: "text", Key: 1}, {Name: "extra", Type: "text"}}, nil, false)
	var got [][3]string
	for _, d := range Diff(before, after) {
		got = append(got, [3]string{d.Name, d.What, d.Says})
	}
	require.Equal(t, [][3]string{
		{"id", "changed", "type integer → bigint; no longer in the key"}, {"gone", "dropped", ""}, {"state", "changed", "labels low → low, fine"},
		{"note", "changed", "nulls no longer allowed; now in the key"}, {"last", "dropped", ""}, {"extra", "added", ""}}, got)
	for _, d := range Diff(after, after) {
		require.Equal(t, "same", d.What)
	}
}
