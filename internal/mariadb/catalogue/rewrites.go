package catalogue

import (
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
)

// Rewrites reports whether a new version has given existing rows values without an event:
// columns that came with one, or whose type is not wider than before.
func Rewrites(old *change.Schema, l *rows.Layout, filled []bool, renamed []change.Rename) bool {
	for i, c := range l.Schema.Columns {
		name := c.Name
		for _, one := range renamed {
			if one.To == name {
				name = one.From
			}
		}
		at := slices.IndexFunc(old.Columns, func(o change.Column) bool { return o.Name == name })
		if at < 0 {
			if filled == nil || filled[l.From[i]] {
				return true
			}
			continue
		}
		if !widened(&old.Columns[at], &c) {
			return true
		}
	}
	return false
}

// widened reports whether every value of a column stays what it is under its new type.
func widened(old, now *change.Column) bool {
	if old.Type == now.Type && old.Treatment == now.Treatment {
		return true
	}
	if old.Treatment != now.Treatment || old.Rule != now.Rule && (old.Rule != change.RuleInteger || now.Rule != change.RuleUnsigned) {
		return false
	}
	switch now.Rule {
	case change.RuleInteger, change.RuleUnsigned, change.RuleFloat:
		return now.Bits >= old.Bits && strings.Contains(now.Type, "unsigned") == strings.Contains(old.Type, "unsigned")
	case change.RuleText, change.RuleEnum, change.RuleJSON:
		return true
	case change.RuleDecimal:
		_, was, _ := old.DecimalSize()
		_, is, _ := now.DecimalSize()
		return was == is
	case change.RuleBinary:
		return !strings.HasPrefix(now.Type, "binary(")
	default:
		return false
	}
}
