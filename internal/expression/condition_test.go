package expression

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestConditions: what a row's filter says of values, of null and of what the log left
// out.
func TestConditions(t *testing.T) {
	columns := []change.Column{{Name: "id", Type: "bigint", Rule: change.RuleInteger, Bits: 64}, {Name: "state", Type: "text", Rule: change.RuleText}, {Name: "active", Type: "boolean", Rule: change.RuleBoolean},
		{Name: "amount", Type: "numeric", Rule: change.RuleDecimal}, {Name: "odd name", Type: "text", Rule: change.RuleText},
		{Name: "type", Type: "text", Rule: change.RuleText}, {Name: "list", Type: "bigint", Rule: change.RuleInteger, Bits: 64}}
	values := []change.Value{change.Of("9007199254740993"), change.Of("waits"), change.Of("true"), change.Of("1.50"), change.NullValue(), change.Of("copy"), change.Of("4")}
	for _, c := range []struct {
		text         string
		holds, known bool
		uses         []int
	}{
		{"id == 9007199254740993", true, true, []int{0}},
		{"id == 9007199254740992", false, true, []int{0}},
		{`state in ["waits", "ready"] && active`, true, true, []int{1, 2}},
		{`row["odd name"] == null`, true, true, []int{0, 1, 2, 3, 4, 5, 6}},
		{`row["odd name"] == "x"`, false, true, []int{0, 1, 2, 3, 4, 5, 6}},
		{`state.startsWith("w") || id < 0`, true, true, []int{0, 1}},
		{`1 / (id - id) == 1`, false, false, []int{0}},          // it cannot be worked out
		{`type == "copy" && list > 3`, true, true, []int{5, 6}}, // CEL has types of these names
		{`string(id) == "9007199254740993" && [1].map(x, x + list) == [5]`, true, true, []int{0, 6}},
		{"true", true, true, nil},
	} {
		condition, err := ParseCondition(c.text)
		require.NoError(t, err)
		bound, err := condition.Bind("public.holds", columns)
		require.NoError(t, err, c.text)
		require.ElementsMatch(t, c.uses, bound.Uses(), c.text)
		holds, known := bound.Holds(func(i int) change.Value { return values[i] })
		require.Equal(t, []bool{c.holds, c.known}, []bool{holds, known}, c.text)
	}
	condition, err := ParseCondition("active && id > 1")
	require.NoError(t, err)
	bound, err := condition.Bind("public.holds", columns)
	require.NoError(t, err)
	_, known := bound.Holds(func(int) change.Value { return change.Value{} })
	require.False(t, known, "what the log left out is not false")
	for text, told := range map[string]string{"id ==": "line 1", "state = 'a'": "line 1"} {
		_, err := ParseCondition(text)
		require.ErrorContains(t, err, told)
	}
	for text, told := range map[string]string{"nothing == 1": "its columns are", `id == "a"`: "does not fit public.holds", "id + 1": "has to give true or false"} {
		condition, err := ParseCondition(text)
		require.NoError(t, err)
		_, err = condition.Bind("public.holds", columns)
		require.ErrorContains(t, err, told)
	}
}
