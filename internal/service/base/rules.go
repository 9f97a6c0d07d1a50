package base

import (
	"rillmark/internal/definition"
	"rillmark/internal/shape"
)

// TableRules are a source's rules with their patterns.
type TableRules struct {
	rules    []definition.TableRule
	patterns []shape.Pattern
}

// ParseRules reads the patterns of rules.
func ParseRules(rules []definition.TableRule) TableRules {
	r := TableRules{rules, make([]shape.Pattern, len(rules))}
	for i := range rules {
		r.patterns[i], _ = shape.ParsePattern(rules[i].Match) // it was checked when it was stored
	}
	return r
}

// Of is the rule that decides about a table; nil where none does.
func (r TableRules) Of(table string) *definition.TableRule {
	for i := range r.patterns {
		if r.patterns[i].Matches(table) {
			return &r.rules[i]
		}
	}
	return nil
}
