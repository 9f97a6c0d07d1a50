package expression

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestCostly: what takes too much of any row is refused when it is saved, with what it calls.
func TestCostly(t *testing.T) {
	schema := &change.Schema{Table: "public.loans", Columns: []change.Column{{Name: "note", Type: "text", Rule: change.RuleText}}}
	nested := "note"
	for range 4 {
		nested = fmt.Sprintf(`%s.replace("", note)`, nested)
	}
	functions := []Function{{"f0", []Argument{{"x", "text"}}, "x + x"}}
	for n := 1; n < 40; n++ {
		functions = append(functions, Function{fmt.Sprint("f", n), []Argument{{"x", "text"}}, fmt.Sprintf("f%d(x) + f%[1]d(x + '%d')", n-1, n)})
	}
	_, err := NewFormulas(functions)
	require.ErrorContains(t, err, "may take too long")
	few, err := NewFormulas(functions[:5])
	require.NoError(t, err)
	for _, text := range []string{nested, "[note, note].map(x, [x, x].map(y, [1, 2, 3].map(z, " + nested + ")))", "f4(f4(f4(note)))", "f4(note.replace('', note))"} {
		_, _, err := few.Bind(schema, text, "")
		require.ErrorContains(t, err, "may take too long", text)
	}
	for _, text := range []string{"f2(note)", "note.replace('a', 'bb').replace('b', 'cc')", "note.split(',').map(x, x.trim()).join('; ')"} {
		_, _, err := few.Bind(schema, text, "")
		require.NoError(t, err, text)
	}
}

// TestBeyond: what takes too much of one row is given up for that row, whatever stands around it.
func TestBeyond(t *testing.T) {
	schema := &change.Schema{Table: "public.loans", Columns: []change.Column{{Name: "note", Type: "text", Rule: change.RuleText}, {Name: "list", Type: "jsonb", Rule: change.RuleJSON}}}
	x, err := NewFormulas([]Function{{"twice", []Argument{{"x", "text"}}, "x + x"}})
	require.NoError(t, err)
	small := []change.Value{textValue("ab"), textValue("[1, 2, 3]")}
	large := []change.Value{textValue(strings.Repeat("ab", 2<<20)), textValue("[" + strings.Repeat("1, ", 200_000) + "1]")}
	for _, text := range []string{
		`note.replace("", note)`, `note + note + note + note + note + note + note + note + note + note + note + note + note + note + note + note + note`, `note.split("").join("; ")`, `[note, note, note].map(x, x + note + note).map(y, y + y).join()`,
		`twice(twice(twice(twice(note))))`, `string(list.map(x, x).map(x, x).map(x, x).map(x, x).map(x, x).map(x, x).size())`, `list.map(x, twice(string(x))).map(x, twice(x)).map(x, twice(x))[0]`, `string(list.distinct().size())`,
		`string(lists.range(size(note) * 1000).size())`, `note.replace("b", note, 100)`, `string(note.indexOf(note.substring(size(note) / 2) + "c"))`, `strings.quote(note + note + note + note + note).replace("a", "\n\n\n\n")`, `true || list.all(y, y == 2) ? note + note.replace("a", note) : note`,
	} {
		f, _, err := x.Bind(schema, text, "")
		require.NoError(t, err, text)
		_, presence, err := f.Append(nil, small, nil)
		require.NoError(t, err, text)
		require.Equal(t, change.Present, presence, text)
		_, _, err = f.Append(nil, large, nil)
		var is *Beyond
		require.ErrorAs(t, err, &is, text)
		_, _, err = f.Append(nil, small, nil)
		require.NoError(t, err, "it is counted for each row anew: %s", text)
	}
	c, err := ParseEventCondition(`list.map(x, x).map(x, x).map(x, x).map(x, x).map(x, x).size() == 3`)
	require.NoError(t, err)
	b, err := c.Bind(schema)
	require.NoError(t, err)
	insert := func(row []change.Value) *change.Event {
		return &change.Event{Operation: change.Insert, Schema: schema, After: row}
	}
	require.Equal(t, Changes, b.Effect(insert(small)))
	require.NoError(t, b.Beyond())
	b.Effect(insert(large))
	require.ErrorContains(t, b.Beyond(), "takes too much for this row: more than 1000000 steps")
	require.NoError(t, b.Beyond())
}

func textValue(text string) change.Value {
	return change.Value{Presence: change.Present, Text: []byte(text)}
}
