package expression

import (
	"cmp"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
)

var filtered = change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{
	{Name: "loan_id", Type: "bigint", Rule: change.RuleInteger, Key: 1}, {Name: "branch_id", Type: "integer", Rule: change.RuleInteger, Nullable: true}, {Name: "other_branch", Type: "integer", Rule: change.RuleInteger, Nullable: true},
	{Name: "note", Type: "text", Rule: change.RuleText, Nullable: true}, {Name: "state", Type: "text", Rule: change.RuleText, Nullable: true}, {Name: "open", Type: "boolean", Rule: change.RuleBoolean, Nullable: true},
	{Name: "fee", Type: "numeric(8,2)", Rule: change.RuleDecimal, Nullable: true}, {Name: "tags", Type: "jsonb", Rule: change.RuleJSON, Nullable: true}}, nil, false)

func image(values ...string) []change.Value {
	row := make([]change.Value, len(filtered.Columns))
	for i := range row {
		row[i] = change.NullValue()
		if i < len(values) {
			switch values[i] {
			case "-":
			case "?":
				row[i] = change.Value{}
			default:
				row[i] = change.Of(values[i])
			}
		}
	}
	return row
}

// TestPlainConditions draws conditions and rows: what is worked out without the interpreter
// is what CEL makes of them.
func TestPlainConditions(t *testing.T) {
	random := seeded.Random(t, 41)
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	var draw func(depth int) string
	draw = func(depth int) string {
		if depth > 0 {
			switch random.IntN(4) {
			case 0:
				return "(" + draw(depth-1) + " && " + draw(depth-1) + ")"
			case 1:
				return "(" + draw(depth-1) + " || " + draw(depth-1) + ")"
			case 2:
				return "!(" + draw(depth-1) + ")"
			}
		}
		operator := pick("==", "!=", "<", "<=", ">", ">=")
		switch random.IntN(8) {
		case 6:
			return pick("fee", "branch_id", "2", "2.5") + " " + operator + " fee"
		case 7:
			return "fee " + pick(operator+" branch_id", operator+" -1", operator+" 0.1", "in [2, 2.5]", "in [3, -1, 0]", "!= null")
		case 0:
			return pick("branch_id", "other_branch", "loan_id") + " " + operator + " " + pick("branch_id", "other_branch", "3", "-1", "9223372036854775807", "-9223372036854775808")
		case 1:
			return pick("note", "state") + " " + operator + " " + pick("note", "state", `"lent"`, `""`, `"é"`)
		case 2:
			return pick("branch_id", "other_branch") + " in [" + pick("1, 2, 3", "-1", "3, 9223372036854775807") + "]"
		case 3:
			return pick("note", "state") + ` in ["lent", "é"]`
		case 4:
			return pick("branch_id", "note", "open") + " " + pick("==", "!=") + " null"
		default:
			return "open " + pick("==", "!=") + " " + pick("true", "false")
		}
	}
	seen := map[string]int{}
	for range 3000 {
		text := draw(3)
		c, err := ParseCondition(text)
		require.NoError(t, err, text)
		bound, err := c.Bind(filtered.Table, filtered.Columns)
		require.NoError(t, err, text)
		require.NotNil(t, bound.plain, "%s needs no interpreter", text)
		slow := *bound
		slow.plain = nil
		for range 5 {
			number := func() string {
				return pick("-", "3", "-1", "0", "4", "9223372036854775807", "-9223372036854775808")
			}
			row := image(pick("1", "3"), number(), number(), pick("-", "lent", "", "é", "z"), pick("-", "lent", "", "é"), pick("-", "true", "false"), pick("-", "2.00", "2.50", "0.10", "0.1000000000000000055", "-0.00", "-1", "9223372036854775807.0", "NaN", "Infinity", "-Infinity"))
			fast := bound.VerdictOn(row)
			require.Equal(t, slow.VerdictOn(row), fast, "%s of %v", text, row)
			seen[fmt.Sprint(fast)]++
		}
	}
	require.Greater(t, seen[fmt.Sprint(Fails)], 1000)
	require.Greater(t, seen[fmt.Sprint(Holds)], 1000)
	bound, err := mustParse(t, "branch_id == other_branch && note != \"lost\" && fee > 2 || state in [\"lent\"]").Bind(filtered)
	require.NoError(t, err)
	event := &change.Event{Operation: change.Update, Schema: filtered, Before: image("1", "3", "4", "x", "y", "-", "2.50"), After: image("1", "3", "3", "x", "y", "-", "1.50")}
	require.Zero(t, testing.AllocsPerRun(100, func() { bound.Effect(event) }))
}

// TestNumbersInOrder: decimals are compared by their texts as they are by their values.
func TestNumbersInOrder(t *testing.T) {
	ascending := []string{"-Infinity", "-12345678901234567890.5", "-10", "-9.99", "-0.01", "0", "0.0000001", "0.1", "0.10000000000000000001", "1", "1.5", "9.99", "10", "99999999999999999999999.9", "Infinity", "NaN"}
	for i, a := range ascending {
		for j, b := range ascending {
			require.Equal(t, cmp.Compare(i, j), compareNumbers([]byte(a), []byte(b)), "%s and %s", a, b)
		}
	}
	for a, b := range map[string]string{"1.50": "1.5", "-0.00": "0", "007": "7", "18446744073709551615": "18446744073709551615.000"} {
		require.Zero(t, compareNumbers([]byte(a), []byte(b)), "%s and %s", a, b)
	}
}

func mustParse(t *testing.T, text string) *EventCondition {
	t.Helper()
	c, err := ParseEventCondition(text)
	require.NoError(t, err, text)
	return c
}

// TestEventConditions: what conditions make of events, with missing, null and omitted values.
func TestEventConditions(t *testing.T) {
	one, two := image("1", "3", "4", "x", "lent", "true", "2.50", `{"a": [1, 2]}`), image("1", "4", "4", "x", "back", "true", "0.50", `{"a": []}`)
	unknown := image("1", "?", "4", "?", "lent")
	for _, c := range []struct {
		condition     string
		operation     change.Operation
		before, after []change.Value
		want          Effect
	}{
		{"branch_id == 3", change.Insert, nil, one, Changes},
		{"branch_id == 3", change.Existing, nil, two, Nothing},
		{"branch_id == 3", change.Update, one, two, Leaves},
		{"branch_id == 3", change.Update, two, one, Enters},
		{"branch_id == 3", change.Update, two, two, Nothing},
		{"branch_id == 3", change.Update, nil, two, Leaves},
		{"branch_id == 3", change.Update, nil, one, Changes},
		{"branch_id == 3", change.Delete, two, nil, Nothing},
		{"branch_id == 3", change.Delete, unknown, nil, Changes},
		{"branch_id == 3", change.Insert, nil, image("1"), Nothing},
		{"fee > 1.0", change.Insert, nil, one, Changes},
		{"fee > 1.0", change.Insert, nil, image("1"), Nothing},
		{"fee == 2.5 && fee > 2 && 3 > fee && 2.5 in [fee] && fee in [1, 2.5] && fee * 2 == 5 && 5 == fee + fee && fee != 2", change.Insert, nil, one, Changes},
		{`row["fee"] == 2.5 && 2.5 == row["fee"] && row["fee"] in [2.5] && row["loan_id"] != row["fee"]`, change.Insert, nil, one, Changes},
		{"after.fee == 2.5 && after.fee > 2", change.Update, two, one, Changes},
		{"note.upperAscii() == \"X\" && math.greatest(branch_id, 1) == 3", change.Insert, nil, one, Changes},
		{"fee > 0", change.Insert, nil, image("1", "1", "1", "-", "-", "-", "Infinity"), Changes},
		{"fee < 0 || fee + 1 > 0", change.Insert, nil, image("1", "1", "1", "-", "-", "-", "NaN"), Changes}, // it cannot be worked out
		{"fee == 0.1", change.Insert, nil, image("1", "1", "1", "-", "-", "-", "0.1000000000000000055"), Nothing},
		{"tags.a.size() > 0", change.Insert, nil, one, Changes},
		{`row["state"] == "lent"`, change.Update, one, two, Leaves},
		{"10 / (branch_id - 3) > 0", change.Insert, nil, one, Changes}, // it cannot be worked out: nothing is lost
		{"10 / branch_id > 0", change.Insert, nil, image("1"), Nothing},
		{"before.branch_id != after.branch_id", change.Update, one, two, Changes},
		{"before.branch_id != after.branch_id", change.Update, one, one, Nothing},
		{"before.branch_id != after.branch_id", change.Insert, nil, one, Nothing},
		{"before == null || before.branch_id != after.branch_id", change.Insert, nil, one, Changes},
		{"after.branch_id == 3", change.Update, one, unknown, Changes},
		{`"state" in changed`, change.Update, one, two, Changes},
		{`"note" in changed`, change.Update, one, two, Nothing},
		{`"note" in changed`, change.Update, nil, two, Changes},
		{`operation == "delete" && key.loan_id == 1`, change.Delete, one, nil, Changes},
		{`operation == "delete"`, change.Update, one, two, Nothing},
		{`table == "public.loans" && transaction.id == "900" && transaction.committed_at > timestamp("2026-01-01T00:00:00Z")`, change.Insert, nil, one, Nothing},
	} {
		bound, err := mustParse(t, c.condition).Bind(filtered)
		require.NoError(t, err, c.condition)
		e := &change.Event{Operation: c.operation, Table: filtered.Table, Schema: filtered, Before: c.before, After: c.after, Transaction: change.Transaction{ID: "900"}}
		require.Equal(t, c.want, bound.Effect(e), "%s of a %s", c.condition, c.operation)
	}
	for text, told := range map[string]string{
		"brnach_id == 3":           "(branch_id?)",
		"after.brnach_id == 3":     "(branch_id?)",
		`branch_id == "3"`:         "no matching overload",
		`fee == "2.00"`:            "no matching overload",
		"branch_id + 1":            "has to give true or false",
		"nothing_like_it == 3":     "its columns are loan_id",
		"operation":                "has to give true or false",
		`after.note.nope() == "x"`: "nope",
		"[1].all(x, [1].all(y, [1].all(z, tags_of == 1)))":                                               "tags_of",
		`after.tags.all(a, after.tags.all(b, after.tags.all(c, after.tags.all(d, a + b + c + d == 1))))`: "may take too long",
	} {
		_, err := mustParse(t, text).Bind(filtered)
		require.ErrorContains(t, err, told, text)
	}
	for _, text := range []string{"branch_id ==", strings.Repeat("x", maxCondition+1), ""} {
		_, err := ParseEventCondition(text)
		require.Error(t, err, text)
	}
}
