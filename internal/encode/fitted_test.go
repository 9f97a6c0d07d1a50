package encode

import (
	"fmt"
	"math/big"
	"testing"
	"time"

	"github.com/hamba/avro/v2"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

func column(name string, rule change.Rule, bits int) change.Column {
	return change.Column{Name: name, Type: string(rule), Rule: rule, Bits: bits}
}

// TestFittedValues: each value that a type holds comes back from a reader that is not ours, and
// each that it does not hold is refused with a sentence.
func TestFittedValues(t *testing.T) {
	at := time.Date(2026, 11, 27, 9, 30, 0, 123000000, time.UTC)
	micros := `{"type":"long","logicalType":"timestamp-micros"}`
	millis := `{"type":"long","logicalType":"timestamp-millis"}`
	decimal := `{"type":"bytes","logicalType":"decimal","precision":5,"scale":2}`
	fixed := `{"type":"fixed","name":"money","size":4,"logicalType":"decimal","precision":9,"scale":2}`
	enum := `{"type":"enum","name":"mood","symbols":["sad","glad"]}`
	array := change.Column{Name: "v", Type: "text[]", Rule: change.RuleArray, Element: change.RuleText}
	numbers := change.Column{Name: "v", Type: "integer[]", Rule: change.RuleArray, Element: change.RuleInteger, Bits: 32}
	for _, one := range []struct {
		column change.Column
		typed  string
		value  string
		gives  any
		fails  string
	}{
		{column("v", change.RuleBoolean, 0), `"boolean"`, "true", true, ""},
		{column("v", change.RuleInteger, 32), `"int"`, "-7", -7, ""},
		{column("v", change.RuleInteger, 64), `"int"`, "3000000000", nil, "no integer of 32 bits"},
		{column("v", change.RuleInteger, 32), `"long"`, "-2147483648", int64(-2147483648), ""},
		{column("v", change.RuleUnsigned, 64), `"long"`, "18446744073709551615", nil, "no integer of 64 bits"},
		{column("v", change.RuleInteger, 32), `"double"`, "7", 7.0, ""},
		{column("v", change.RuleFloat, 64), `"double"`, "1.5", 1.5, ""},
		{column("v", change.RuleFloat, 32), `"float"`, "0.25", float32(0.25), ""},
		{column("v", change.RuleText, 0), `"string"`, "é", "é", ""},
		{column("v", change.RuleInteger, 64), `"string"`, "42", "42", ""},
		{column("v", change.RuleJSON, 0), `"string"`, `{"a":1}`, `{"a":1}`, ""},
		{column("v", change.RuleBinary, 0), `"bytes"`, "\x00\xff", []byte{0, 255}, ""},
		{column("v", change.RuleBinary, 0), `{"type":"fixed","name":"two","size":2}`, "abc", nil, "it takes 2 bytes, and the value has 3"},
		{column("v", change.RuleDate, 0), `{"type":"int","logicalType":"date"}`, "2026-11-27", at.Truncate(24 * time.Hour), ""},
		{column("v", change.RuleTime, 0), `{"type":"long","logicalType":"time-micros"}`, "09:30:00.000001", 9*time.Hour + 30*time.Minute + time.Microsecond, ""},
		{column("v", change.RuleTime, 0), `{"type":"int","logicalType":"time-millis"}`, "09:30:00.000001", nil, "finer than a millisecond"},
		{column("v", change.RuleTimestampTZ, 0), micros, "2026-11-27T09:30:00.123000Z", at, ""},
		{column("v", change.RuleTimestampTZ, 0), millis, "2026-11-27T09:30:00.123000Z", at, ""},
		{column("v", change.RuleTimestampTZ, 0), millis, "2026-11-27T09:30:00.123001Z", nil, "finer than a millisecond"},
		{column("v", change.RuleTimestampTZ, 0), micros, "infinity", nil, `"infinity" has no place in it`},
		{column("v", change.RuleTimestampTZ, 0), `["null",` + micros + `,"string"]`, "infinity", "infinity", ""},
		{column("v", change.RuleInteger, 32), `["string","null","long"]`, "5", int64(5), ""},
		{column("v", change.RuleDecimal, 0), decimal, "-12.5", big.NewRat(-25, 2), ""},
		{column("v", change.RuleDecimal, 0), decimal, "1000.00", nil, "more digits than decimal(5,2) holds"},
		{column("v", change.RuleDecimal, 0), decimal, "0.125", nil, "more digits than decimal(5,2) holds"},
		{column("v", change.RuleDecimal, 0), fixed, "-0.01", big.NewRat(-1, 100), ""},
		{column("v", change.RuleEnum, 0), enum, "glad", "glad", ""},
		{column("v", change.RuleText, 0), enum, "bored", nil, `"bored" is none of its symbols`},
		{array, `{"type":"array","items":["null","string"]}`, `["a",null]`, []any{"a", nil}, ""},
		{array, `{"type":"array","items":"string"}`, `["a",null]`, nil, "an item: it takes no null"},
		{array, `{"type":"array","items":"string"}`, `[["a"]]`, nil, "more than one dimension"},
		{numbers, `{"type":"array","items":"long"}`, `[]`, []any{}, ""},
		{numbers, `{"type":"array","items":"long"}`, `[1,-2]`, []any{int64(1), int64(-2)}, ""},
	} {
		name := fmt.Sprintf("%s %s in %s", one.column.Rule, one.value, one.typed)
		text := `{"type":"record","name":"r","fields":[{"name":"v","type":` + one.typed + `}]}`
		f, fits, err := FitAvro(change.NewSchema(change.PostgreSQL, "public.t", []change.Column{one.column}, nil, false), text)
		require.NoError(t, err, name)
		require.NotNil(t, f, "%s: %+v", name, fits)
		raw, err := f.append([]byte("before"), []change.Value{change.Of(one.value)}, false)
		if one.fails != "" {
			require.ErrorContains(t, err, one.fails, name)
			require.Equal(t, "before", string(raw), "nothing is half written")
			continue
		}
		require.NoError(t, err, name)
		var read map[string]any
		require.NoError(t, avro.Unmarshal(avro.MustParse(text), raw[len("before"):], &read), name)
		got := read["v"]
		if branch, is := got.(map[string]any); is { // a union tells which branch it was
			for _, v := range branch {
				got = v
			}
		}
		if rat, is := got.(*big.Rat); is {
			require.Zero(t, rat.Cmp(one.gives.(*big.Rat)), name)
			continue
		}
		require.Equal(t, one.gives, got, name)
	}
}

// TestFits: what does not fit is named with what may be meant, and fields that no column fills
// have their defaults.
func TestFits(t *testing.T) {
	of := change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{column("loan_id", change.RuleInteger, 64), {Name: "branch_id", Type: "integer", Rule: change.RuleInteger, Bits: 32, Nullable: true},
		column("cover", change.RuleBinary, 0), column("fee", change.RuleDecimal, 0)}, nil, false)
	record := func(fields string) string { return `{"type":"record","name":"loans","fields":[` + fields + `]}` }
	says := func(fits []FieldFit) map[string]string {
		all := make(map[string]string)
		for _, one := range fits {
			all[one.Field] = fmt.Sprintf("%v %s", one.Misfit, one.Says)
		}
		return all
	}
	f, fits, err := FitAvro(of, record(`{"name":"loan_id","type":"string"},{"name":"branchid","type":"int"},{"name":"cover","type":"string"},{"name":"fee","type":"double"}`))
	require.NoError(t, err)
	require.Nil(t, f)
	got := says(fits)
	require.Equal(t, `true no column has the name, and the field has no default; "branch_id" may be it: give it the name by a form of rows`, got["branchid"])
	require.Contains(t, got["cover"], "true binary is not written as string")
	require.Contains(t, got["fee"], "true decimal is not written as double")
	require.Equal(t, "false the registered schema has no such field: not sent", got["branch_id"])
	require.NotContains(t, got, "loan_id")
	require.Contains(t, Misfits(fits), "cover: binary")

	text := record(`{"name":"branch_id","type":"int"},{"name":"kind","type":{"type":"enum","name":"kind","symbols":["a","b"]},"default":"b"},{"name":"n","type":["long","null"],"default":7},{"name":"hint","type":["null","string"],"default":null},{"name":"since","type":["string","null"]},{"name":"loan_id","type":"long"}`)
	f, fits, err = FitAvro(of, text)
	require.NoError(t, err)
	require.NotNil(t, f, "%+v", fits)
	require.True(t, f.Takes("loan_id"))
	require.False(t, f.Takes("kind"))
	require.Contains(t, says(fits)["branch_id"], "rows in which it is null become dead letters")
	raw, err := f.append(nil, []change.Value{change.Of("9"), change.Of("3"), change.Of("x"), change.Of("1")}, false)
	require.NoError(t, err)
	var read map[string]any
	require.NoError(t, avro.Unmarshal(avro.MustParse(text), raw, &read))
	require.Equal(t, map[string]any{"branch_id": 3, "kind": "b", "n": int64(7), "hint": nil, "since": nil, "loan_id": int64(9)}, read)
	for value, wants := range map[change.Presence]string{change.Null: "it takes no null", change.Omitted: "the log does not have the value"} {
		_, err = f.append(nil, []change.Value{change.Of("9"), {Presence: value}, change.Of("x"), change.Of("1")}, false)
		require.ErrorContains(t, err, wants)
	}
	nullable, _, err := FitAvro(of, record(`{"name":"branch_id","type":["null","int"]}`))
	require.NoError(t, err)
	omitted := []change.Value{change.Of("9"), {}, {}, {}}
	_, err = nullable.append(nil, omitted, false)
	require.ErrorContains(t, err, "the log does not have the value", "a null would replace what consumers have")
	raw, err = nullable.append(nil, omitted, true)
	require.NoError(t, err)
	require.Equal(t, []byte{0}, raw, "a row that is gone has its key alone")
	named := record(`{"name":"loan_id","type":{"type":"fixed","name":"id","size":3,"logicalType":"decimal","precision":6,"scale":0}},{"name":"branch_id","type":["null","id"]}`)
	f, fits, err = FitAvro(of, named)
	require.NoError(t, err)
	require.NotNil(t, f, "a type may be named again: %+v", fits)
	raw, err = f.append(nil, []change.Value{change.Of("9"), change.Of("-3"), change.Of("x"), change.Of("1")}, false)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 9, 2, 255, 255, 253}, raw)
	for text, wants := range map[string]string{`"string"`: "is no record", `{"type":`: "cannot be read"} {
		_, _, err = FitAvro(of, text)
		require.ErrorContains(t, err, wants)
	}
}
