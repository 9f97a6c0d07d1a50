package shape

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no []string
		single  string
	}{
		{"loans", []string{"public.loans"}, []string{"desk.loans", "public.loansx", "loans"}, "public.loans"},
		{"public.*", []string{"public.loans", `public."a.b"`}, []string{"desk.loans", "publicx.a"}, ""},
		{"*", []string{"public.loans", `"a.b".c`, "a.x\ny"}, []string{"loans"}, ""},
		{"desk.lo?n*", []string{"desk.loans", "desk.loan"}, []string{"desk.lon", "desk.Loans"}, ""},
		{`a."b.c"`, []string{`a."b.c"`}, []string{`"a.b".c`, "a.b"}, `a."b.c"`},
		{`a."b*"`, []string{"a.b*"}, []string{"a.bc"}, ""},
		{`"line\nfeed".*`, []string{change.TableName("line\nfeed", "x")}, []string{"line.x"}, ""},
		{"a.b(c)+", []string{"a.b(c)+"}, []string{"a.bc"}, "a.b(c)+"},
	} {
		p, err := ParsePattern(c.pattern)
		require.NoError(t, err, c.pattern)
		for _, name := range c.yes {
			require.True(t, p.Matches(name), "%s chooses %q", c.pattern, name)
		}
		for _, name := range c.no {
			require.False(t, p.Matches(name), "%s does not choose %q", c.pattern, name)
		}
		require.Equal(t, c.single, p.Single(), c.pattern)
		require.Equal(t, c.pattern, p.String())
	}
	for text, told := range map[string]string{"": "empty", "a\nb": "control character", `a."b`: "JSON string", `"a"b.c`: "JSON string", `a."\x"`: "JSON string"} {
		_, err := ParsePattern(text)
		require.ErrorContains(t, err, told, text)
	}
	require.False(t, Pattern{}.Matches("public.loans"), "the zero pattern chooses none")
	column, err := ParseColumnPattern("*_note")
	require.NoError(t, err)
	require.True(t, column.Matches("shelf\n_note"))
	exact, err := ParseColumnPattern(`"a*"`)
	require.NoError(t, err)
	require.Equal(t, []bool{true, false}, []bool{exact.Matches("a*"), exact.Matches("ab")})
	one, _ := ParsePattern("loans")
	two, _ := ParsePattern("desk.*")
	require.Equal(t, `^public\.loans$|^desk\..*$`, Expression([]Pattern{one, two}))
}

// TestTemplates: what stands in braces comes from the event, with a text for where it has
// nothing.
func TestTemplates(t *testing.T) {
	schema := change.NewSchema(change.PostgreSQL, "desk.loans", []change.Column{{Name: "id", Type: "bigint", Rule: change.RuleInteger, Key: 1}, {Name: "branch", Type: "text", Rule: change.RuleText}}, nil, false)
	row := &change.Event{Source: "circulation", Database: "library", Operation: change.Update, Table: "desk.loans", Schema: schema, After: []change.Value{change.Of("7"), change.Of("north")},
		Transaction: change.Transaction{ID: "900"}}
	message := &change.Event{Source: "circulation", Operation: change.Message}
	for _, c := range []struct {
		text  string
		event *change.Event
		want  string
	}{
		{"{source}.{schema}.{table}", row, "circulation.desk.loans"},
		{"{database}/{operation}/{transaction}", row, "library/update/900"},
		{"{row.branch}-{row.id}", row, "north-7"},
		{"{row.nothing|none}", row, "none"},
		{"{row.nothing}", row, ""},
		{"{key}", row, "K"},
		{"{table|messages}", message, "messages"},
		{"plain", message, "plain"},
	} {
		template, err := ParseTemplate(c.text)
		require.NoError(t, err)
		require.Equal(t, c.want, string(template.Append(nil, c.event, []byte("K"), nil)), c.text)
	}
	for text, told := range map[string]string{"{table": "without a closing", "table}": "without an opening", "{colour}": "which no event has", "{row.}": "row.COLUMN"} {
		_, err := ParseTemplate(text)
		require.ErrorContains(t, err, told)
	}
	template, err := ParseTemplate("{source}.{kind}", "kind")
	require.NoError(t, err)
	require.Equal(t, "circulation.hold", string(template.Append(nil, row, nil, func(string) []byte { return []byte("hold") })))
	require.False(t, template.Fixed())
	fixed, err := ParseTemplate("{source}.all")
	require.NoError(t, err)
	require.True(t, fixed.Fixed())
	channel, err := ParseTemplate("{source}.{table}.{row.branch|none}.{operation}")
	require.NoError(t, err)
	address, parameters := channel.Channel("circulation", "desk.loans")
	require.Equal(t, "circulation.loans.{row_branch}.{operation}", address)
	require.Equal(t, []string{"row_branch", "operation"}, parameters)
	require.Equal(t, []string{"branch"}, channel.Columns())
	require.Empty(t, channel.Needs(), "a text stands where it is missing")
}

func TestFilters(t *testing.T) {
	loans, err := ParsePattern("loans")
	require.NoError(t, err)
	f := &Filter{Tables: []Pattern{loans}, Operations: []change.Operation{change.Insert, change.Message}}
	for _, c := range []struct {
		table     string
		operation change.Operation
		want      bool
	}{{"public.loans", change.Insert, true}, {"public.loans", change.Update, false}, {"public.holds", change.Insert, false}, {"", change.Message, true}} {
		admitted, err := f.Admits(&change.Event{Table: c.table, Operation: c.operation})
		require.NoError(t, err)
		require.Equal(t, c.want, admitted, "%v", c)
	}
	admitted, err := new(Filter).Admits(&change.Event{Table: "public.holds"})
	require.NoError(t, err)
	require.True(t, admitted, "the zero filter lets all through")
}
