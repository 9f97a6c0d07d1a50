package expression

import (
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// formulaTable is a table with a column of each kind.
var formulaTable = change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{
	{Name: "loan_id", Rule: change.RuleInteger, Bits: 64, Key: 1}, {Name: "branch_id", Rule: change.RuleInteger, Bits: 32}, {Name: "days", Rule: change.RuleInteger, Bits: 32},
	{Name: "price", Rule: change.RuleDecimal}, {Name: "fee", Rule: change.RuleDecimal}, {Name: "big", Rule: change.RuleUnsigned, Bits: 64}, {Name: "ratio", Rule: change.RuleFloat, Bits: 64},
	{Name: "note", Rule: change.RuleText}, {Name: "text", Rule: change.RuleText}, {Name: "due_on", Rule: change.RuleDate}, {Name: "lent_at", Rule: change.RuleTimestampTZ}, {Name: "returned_at", Rule: change.RuleTimestampTZ},
	{Name: "body", Rule: change.RuleJSON}, {Name: "tags", Rule: change.RuleArray, Element: change.RuleText}, {Name: "cover", Rule: change.RuleBinary}, {Name: "is_open", Rule: change.RuleBoolean}, {Name: "odd name", Rule: change.RuleText}}, nil, false)

func formulaRow(change_ map[string]change.Value) []change.Value {
	row := make([]change.Value, len(formulaTable.Columns))
	for i, c := range formulaTable.Columns {
		row[i] = map[string]change.Value{"loan_id": change.Of("7"), "branch_id": change.Of("3"), "days": change.Of("-4"), "price": change.Of("19.90"), "fee": change.Of("0.25"), "big": change.Of("18446744073709551615"),
			"ratio": change.Of("1.5"), "note": change.Of("lost, a"), "text": change.Of("YWJj"), "due_on": change.Of("2026-12-01"), "lent_at": change.Of("2026-11-23T09:00:00.000000Z"),
			"returned_at": change.Of("2026-11-25T10:00:00.000000Z"), "body": change.Of(`{"reader":{"name":"Ada","n":9007199254740993}}`), "tags": change.Of(`["rare","old"]`), "cover": change.Of("abc"), "is_open": change.Of("true"), "odd name": change.Of("odd")}[c.Name]
		if v, is := change_[c.Name]; is {
			row[i] = v
		}
	}
	return row
}

// TestFormulas: each expression's value and type, exactly.
func TestFormulas(t *testing.T) {
	x, err := NewFormulas([]Function{{"fine", []Argument{{"d", "integer"}, {"rate", "decimal"}}, "decimal(d) * rate"}, {"double_fine", []Argument{{"d", "integer"}}, `fine(d, decimal("0.10")) * 2`}})
	require.NoError(t, err)
	for _, one := range []struct{ is, kind, gives, typed string }{
		{"price * 3", "", "59.70", "numeric"},
		{"1.5 * price", "", "29.850", "numeric"},
		{"3 - price", "", "-16.90", "numeric"},
		{"-price", "", "-19.90", "numeric"},
		{"decimal('0.1') + 0.2", "", "0.3", "numeric"},
		{"big + 1", "", "18446744073709551616", "numeric"},
		{"price / 3", "", "6.6333333333333333333333333333333333333333", "numeric"},
		{"price / 3", "decimal(5,2)", "6.63", "numeric(5,2)"},
		{"round(decimal('2.5'), 0)", "", "3", "numeric"},
		{"round(decimal('-2.5'), 0)", "", "-3", "numeric"},
		{"decimal('1e3')", "", "1000", "numeric"},
		{"price % 3", "", "1.90", "numeric"},
		{"price == decimal('19.9')", "", "true", "boolean"},
		{"price > 19.9 || 20 < price", "", "false", "boolean"},
		{"fine(3, fee)", "", "0.75", "numeric"},
		{"double_fine(3)", "decimal(4,1)", "0.6", "numeric(4,1)"},
		{"int(round(price, 0)) + days", "", "16", "bigint"},
		{"double(price) / 2.0", "", "9.95", "double precision"},
		{"1.0e20", "", "1e+20", "double precision"},
		{"body.reader.n", "integer", "9007199254740993", "bigint"},
		{"body.reader", "json", `{"n":9007199254740993,"name":"Ada"}`, "json"},
		{`[price, fee]`, "", `["19.90","0.25"]`, "json"},
		{"string(price) + note", "", "19.90lost, a", "text"},
		{"lent_at + duration('90m')", "", "2026-11-23T10:30:00.000000Z", "timestamp with time zone"},
		{"row['odd name']", "text", "odd", "text"},
	} {
		f, c, err := x.Bind(formulaTable, one.is, one.kind)
		require.NoError(t, err, one.is)
		text, presence, err := f.Append(nil, formulaRow(nil), nil)
		require.NoError(t, err, one.is)
		require.Equal(t, change.Present, presence, one.is)
		require.Equal(t, one.gives, string(text), one.is)
		require.Equal(t, one.typed, c.Type, one.is)
	}
	for is, wants := range map[string]string{"price / 0": "division by zero", "int(price)": "round it first", "decimal(note)": `"lost, a" is no decimal`, "note.split(',')[9]": "index out of bounds",
		"big * big * big * big": "", "price + decimal('1e3000')": "more than 2000 digits"} {
		f, _, err := x.Bind(formulaTable, is, "")
		require.NoError(t, err, is)
		_, _, err = f.Append(nil, formulaRow(nil), nil)
		if wants == "" {
			require.NoError(t, err, is)
			continue
		}
		require.ErrorContains(t, err, wants, is)
	}
	f, _, err := x.Bind(formulaTable, "price * 3 + fee", "")
	require.NoError(t, err)
	_, presence, err := f.Append(nil, formulaRow(map[string]change.Value{"fee": change.NullValue()}), nil)
	require.NoError(t, err)
	require.Equal(t, change.Null, presence)
	_, presence, err = f.Append(nil, formulaRow(map[string]change.Value{"fee": {}}), nil)
	require.NoError(t, err)
	require.Equal(t, change.Omitted, presence)
	f, _, err = x.Bind(formulaTable, "decimal(loan_id) * 1000", "decimal(3,0)")
	require.NoError(t, err)
	_, _, err = f.Append(nil, formulaRow(nil), nil)
	require.ErrorContains(t, err, "more digits than decimal(3,0) holds")
}

// TestJoinedTexts: what is put together without the interpreter is what that gives, for values of
// every kind, nulls and letters that no text can hold.
func TestJoinedTexts(t *testing.T) {
	x, err := NewFormulas(nil)
	require.NoError(t, err)
	rows := [][]change.Value{formulaRow(nil), formulaRow(map[string]change.Value{"note": change.Of("é")}), formulaRow(map[string]change.Value{"note": change.NullValue()}), formulaRow(map[string]change.Value{"days": change.NullValue()}),
		formulaRow(map[string]change.Value{"note": {}}), formulaRow(map[string]change.Value{"note": change.Of("a\x00b")}), formulaRow(map[string]change.Value{"note": change.Of("")}), formulaRow(map[string]change.Value{"is_open": change.Of("false")})}
	for is, joined := range map[string]bool{"note": true, "note + text": true, `string(loan_id) + "-" + string(days)`: true, `"a" + (note + "b") + string(is_open)`: true, `string(note) + due_on`: true, `string("x") + note`: true,
		"string(price) + note": false, "string(ratio) + note": false, "string(lent_at)": false, "note.trim() + text": false, "string(days + 1) + note": false, `note == null ? "" : note`: false, "string(big)": false} {
		f, _, err := x.Bind(formulaTable, is, "")
		require.NoError(t, err, is)
		require.Equal(t, joined, f.joined != nil, is)
		slow, _, err := x.Bind(formulaTable, is, "")
		require.NoError(t, err)
		slow.joined = nil
		for _, row := range rows {
			text, presence, err := f.Append(nil, row, nil)
			wanted, wants, wantsErr := slow.Append(nil, row, nil)
			require.Equal(t, wantsErr == nil, err == nil, "%s: %v", is, wantsErr)
			require.Equal(t, wants, presence, is)
			require.Equal(t, string(wanted), string(text), is)
		}
	}
}

// TestFormulasOverEvents: what expressions see of an event beside the row, and what becomes of
// them where the log has left that out.
func TestFormulasOverEvents(t *testing.T) {
	x, err := NewFormulas(nil)
	require.NoError(t, err)
	before := formulaRow(map[string]change.Value{"days": change.Of("2"), "note": change.NullValue()})
	after := formulaRow(map[string]change.Value{"days": change.Of("5")})
	keyOnly := make([]change.Value, len(before))
	keyOnly[0] = change.Of("6")
	for name, one := range map[string]struct {
		is            string
		operation     change.Operation
		before, after []change.Value
		gives, fails  string
		presence      change.Presence
	}{
		"a value before":                        {"before.days", change.Update, before, after, "2", "", change.Present},
		"both, and the row":                     {"days - before.days + after.days", change.Update, before, after, "8", "", change.Present},
		"a null before":                         {"before.note", change.Update, before, after, "", "", change.Null},
		"nothing comes of a null before":        {"before.note + note", change.Update, before, after, "", "", change.Null},
		"no row before an insert":               {"before.days", change.Insert, nil, after, "", "", change.Null},
		"an insert may say so":                  {"before == null ? 0 : before.days", change.Insert, nil, after, "0", "", change.Present},
		"no row before an update in the log":    {"before.days", change.Update, nil, after, "", `the log does not have "before"`, change.Omitted},
		"whether there was one, neither":        {"before == null", change.Update, nil, after, "", `the log does not have "before"`, change.Omitted},
		"the key alone before an update":        {"before.days", change.Update, keyOnly, after, "", `the log does not have "before.days"`, change.Omitted},
		"the key before":                        {"before.loan_id", change.Update, keyOnly, after, "6", "", change.Present},
		"which columns changed":                 {"changed.join(',')", change.Update, before, after, "days,note", "", change.Present},
		"the log may not say which":             {"changed.size()", change.Update, keyOnly, after, "", `the log does not have "changed"`, change.Omitted},
		"the operation":                         {"operation == 'insert' ? 'new' : operation", change.Update, nil, after, "update", "", change.Present},
		"the key":                               {"key.loan_id", change.Insert, nil, after, "7", "", change.Present},
		"the table, by the name of its own":     {"table", change.Insert, nil, after, "public.loans", "", change.Present},
		"the time of the commit":                {"transaction.committed_at", change.Insert, nil, after, "2026-11-27T08:00:00.000000Z", "", change.Present},
		"a column has an event's name for once": {"text", change.Insert, nil, after, "YWJj", "", change.Present},
	} {
		t.Run(name, func(t *testing.T) {
			kind := ""
			if one.is == "transaction.committed_at" {
				kind = "timestamp"
			}
			f, _, err := x.Bind(formulaTable, one.is, kind)
			require.NoError(t, err)
			require.Equal(t, one.is != "text", f.AboutEvent())
			e := &change.Event{Operation: one.operation, Table: "public.loans", Schema: formulaTable, Before: one.before, After: one.after,
				Transaction: change.Transaction{CommittedAt: time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)}}
			text, presence, err := f.Append(nil, one.after, e)
			if one.fails != "" {
				require.ErrorContains(t, err, one.fails)
			} else {
				require.NoError(t, err)
			}
			require.Equal(t, one.presence, presence)
			require.Equal(t, one.gives, string(text))
			_, presence, err = f.Append(nil, one.after, nil)
			require.NoError(t, err)
			require.Equal(t, f.AboutEvent(), presence == change.Omitted, "a row alone does not say")
		})
	}
	hidden := change.NewSchema(change.PostgreSQL, "public.visits", []change.Column{{Name: "id", Rule: change.RuleInteger, Bits: 32, Key: 1}, {Name: "operation", Rule: change.RuleText}}, nil, false)
	f, _, err := x.Bind(hidden, "operation", "")
	require.NoError(t, err)
	require.False(t, f.AboutEvent(), "the table's own column is meant")
	f, _, err = x.Bind(formulaTable, `tags.map(key, key + "!").join(",")`, "")
	require.NoError(t, err)
	require.False(t, f.AboutEvent(), "a name of its own is meant")
	_, _, err = x.Bind(formulaTable, "before.dais", "")
	require.ErrorContains(t, err, "days")
	f, _, err = x.Bind(formulaTable, "key.loan_id + days + before.branch_id", "")
	require.NoError(t, err)
	require.Equal(t, []int{0, 1, 2}, f.Uses())
}

// TestUnknownFunctions: a function that is not there is found before any table is known, whatever
// the form of its call, and none is missed that is.
func TestUnknownFunctions(t *testing.T) {
	x, err := NewFormulas([]Function{{"fine", []Argument{{"d", "integer"}}, "d * 2"}})
	require.NoError(t, err)
	for text, says := range map[string]string{"nothing(name)": "no function nothing", "finne(days)": "no function finne; fine?", "name.trimm()": "no function trimm; trim?", "math.absolute(days)": "no function absolute"} {
		require.ErrorContains(t, x.Parse(text), says)
	}
	for _, text := range []string{"fine(days) + 1", "math.abs(days)", "body.reader.name.size()", "tags.map(t, t.upperAscii())", "has(body.reader)", `name in ["a"] ? timestamp("2026-11-23T09:00:00Z") : lent_at`, "base64.encode(cover)", "tags[0] == -days", "{'a': !is_open}"} {
		require.NoError(t, x.Parse(text), text)
	}
}

// TestDocumentedFormulas binds the examples of the page on forms, and works them out.
func TestDocumentedFormulas(t *testing.T) {
	page, err := os.ReadFile("../../docs/forms.md")
	require.NoError(t, err)
	var examples string
	for _, head := range []string{"| library | examples |", "| name | is | examples |"} {
		_, table, found := strings.Cut(string(page), head)
		require.True(t, found)
		table, _, _ = strings.Cut(table, "\n\n")
		for _, line := range strings.Split(table, "\n")[2:] {
			examples += line[strings.LastIndex(strings.ReplaceAll(line, `||`, "  "), "| `"):]
		}
	}
	x, err := NewFormulas(nil)
	require.NoError(t, err)
	all := regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(examples, -1)
	require.Greater(t, len(all), 20)
	for _, one := range all {
		f, _, err := x.Bind(formulaTable, one[1], "")
		if err != nil {
			f, _, err = x.Bind(formulaTable, one[1], "json") // of a JSON column nothing says what it gives
		}
		require.NoError(t, err, one[1])
		e := &change.Event{Operation: change.Update, Table: "public.loans", Schema: formulaTable, Before: formulaRow(nil), After: formulaRow(nil), Transaction: change.Transaction{CommittedAt: time.Now()}}
		_, _, err = f.Append(nil, formulaRow(nil), e)
		require.NoError(t, err, one[1])
	}
}
