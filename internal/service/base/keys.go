package base

import (
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// MaxKeysAgain is how many rows of a table one load reads by their keys.
const MaxKeysAgain = 500

// KeysCondition is the condition that chooses rows of a table by their keys. Each key has a
// value for every key column of the version. It is empty where a key column has a type, or is
// treated, so that the source cannot select rows by it.
func KeysCondition(checker engine.ConditionChecker, of *change.Schema, keys [][]change.Value) string {
	var columns []string
	for _, i := range of.Key() {
		c := &of.Columns[i]
		if c.Treatment != "" || !slices.Contains([]change.Rule{change.RuleInteger, change.RuleUnsigned, change.RuleDecimal, change.RuleText, change.RuleUUID, change.RuleDate}, c.Rule) {
			return ""
		}
		columns = append(columns, c.Name)
	}
	texts := make([][]string, len(keys))
	for n, key := range keys {
		for _, v := range key {
			text := string(v.Text)
			if v.Presence != change.Present || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == '\\' || r == 0x7f }) {
				return ""
			}
			texts[n] = append(texts[n], text)
		}
	}
	if len(columns) == 0 || len(texts) == 0 {
		return ""
	}
	return checker.KeysCondition(columns, texts)
}
