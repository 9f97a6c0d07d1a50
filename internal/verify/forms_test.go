package verify

import (
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestForms: what two engines write in different ways is the same, and what differs is not.
func TestForms(t *testing.T) {
	for _, one := range []struct {
		source, target change.Rule
		a, b           string
		same           bool
	}{
		{change.RuleBoolean, change.RuleInteger, "true", "1", true},
		{change.RuleBoolean, change.RuleInteger, "false", "1", false},
		{change.RuleDecimal, change.RuleDecimal, "1.50", "1.5", true},
		{change.RuleDecimal, change.RuleText, "-0.00", "0", true},
		{change.RuleDecimal, change.RuleDecimal, "12345678901234567890.123456789", "12345678901234567890.123456788", false},
		{change.RuleDecimal, change.RuleText, "NaN", "NaN", true},
		{change.RuleText, change.RuleText, "1.50", "1.5", false},
		{change.RuleUnsigned, change.RuleDecimal, "18446744073709551615", "18446744073709551615", true},
		{change.RuleFloat, change.RuleFloat, "1e+300", "1e300", true},
		{change.RuleFloat, change.RuleFloat, "0.1", "0.10000000000000002", false},
		{change.RuleTimestampTZ, change.RuleTimestamp, "2026-11-23T07:14:07.123456Z", "2026-11-23T07:14:07.123456", true},
		{change.RuleTimestampTZ, change.RuleTimestamp, "2026-11-23T07:14:07.123456Z", "2026-11-23T07:14:07.123457", false},
		{change.RuleTimestamp, change.RuleTimestamp, "0000-00-00 00:00:00.000000", "0000-00-00 00:00:00.000000", true},
		{change.RuleTime, change.RuleDuration, "-12:34:56.789012", "PT-12H-34M-56.789012S", true},
		{change.RuleTime, change.RuleDuration, "838:59:59.000000", "PT838H59M59S", true},
		{change.RuleTime, change.RuleDuration, "00:00:00.000000", "PT0S", true},
		{change.RuleTime, change.RuleDuration, "00:00:01.000000", "PT0S", false},
		{change.RuleJSON, change.RuleJSON, `{"b":1,"a":[1.0,"x"]}`, `{"a": [1, "x"], "b": 1}`, true},
		{change.RuleJSON, change.RuleJSON, `{"a":9007199254740993}`, `{"a": 9007199254740992}`, false},
		{change.RuleJSON, change.RuleJSON, "null", `"null"`, false},
		{change.RuleArray, change.RuleJSON, `["a",null]`, `["a", null]`, true},
		{change.RuleEnum, change.RuleText, "fine", "fine", true},
		{change.RuleText, change.RuleText, "a", "a ", false},
		{change.RuleBinary, change.RuleBinary, "\x00", "", false},
	} {
		f := formOf(&change.Column{Rule: one.source}, &change.Column{Rule: one.target}, false)
		if f == nil {
			f = func(text []byte) []byte { return text }
		}
		require.Equal(t, one.same, string(f([]byte(one.a))) == string(f([]byte(one.b))), "%s %s, %s %s", one.source, one.a, one.target, one.b)
	}
	require.Nil(t, formOf(&change.Column{Rule: change.RuleJSON}, &change.Column{Rule: change.RuleJSON}, true), "one engine writes one way")
	require.Nil(t, formOf(&change.Column{Rule: change.RuleText, Treatment: change.Masked}, &change.Column{Rule: change.RuleDecimal}, false))
}

// TestOrderAgrees: keys are gone through side by side only where both servers order them alike.
func TestOrderAgrees(t *testing.T) {
	of := func(e change.Engine, rules ...change.Rule) *change.Schema {
		var columns []change.Column
		for i, r := range rules {
			columns = append(columns, change.Column{Name: string(rune('a' + i)), Rule: r, Key: i + 1})
		}
		return change.NewSchema(e, "t", columns, nil, false)
	}
	for _, one := range []struct {
		source, target *change.Schema
		agree          bool
	}{
		{of(change.PostgreSQL, change.RuleInteger), of(change.MariaDB, change.RuleInteger), true},
		{of(change.PostgreSQL, change.RuleInteger, change.RuleTimestampTZ), of(change.MariaDB, change.RuleInteger, change.RuleTimestamp), true},
		{of(change.PostgreSQL, change.RuleDecimal), of(change.MariaDB, change.RuleText), false},
		{of(change.PostgreSQL, change.RuleUUID), of(change.PostgreSQL, change.RuleUUID), true},
		{of(change.PostgreSQL, change.RuleUUID), of(change.MariaDB, change.RuleUUID), false},
		{of(change.PostgreSQL, change.RuleText), of(change.PostgreSQL, change.RuleText), false},
		{of(change.PostgreSQL, change.RuleInteger), of(change.PostgreSQL, change.RuleInteger, change.RuleInteger), false},
	} {
		require.Equal(t, one.agree, OrderAgrees(one.source, one.target), "%v %v", one.source, one.target)
	}
}
