package catalogue

import (
	"slices"
	"strconv"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
)

// Rewrites reports whether a new version has given existing rows values without an event:
// columns that came with one, or whose type is not wider than before. lossy says that values
// may have been cut to fit.
func Rewrites(old *change.Schema, l *rows.Layout, filled []bool, renamed []change.Rename, lossy bool) bool {
	for i, c := range l.Schema.Columns {
		name := c.Name
		for _, one := range renamed {
			if one.To == c.Name {
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
		if !widened(&old.Columns[at], &c, lossy) {
			return true
		}
	}
	return false
}

// widened reports whether every value of a column stays what it is under its new type.
func widened(old, now *change.Column, lossy bool) bool {
	if lossy && old.Nullable && !now.Nullable || old.Treatment != now.Treatment {
		return false
	}
	if old.Type == now.Type && slices.Equal(old.Labels, now.Labels) {
		return true
	}
	if old.Rule != now.Rule && (old.Rule != change.RuleInteger || now.Rule != change.RuleUnsigned) {
		return false
	}
	switch now.Rule {
	case change.RuleInteger, change.RuleUnsigned:
		return now.Bits >= old.Bits && strings.Contains(now.Type, "unsigned") == strings.Contains(old.Type, "unsigned")
	case change.RuleFloat:
		return now.Bits == old.Bits
	case change.RuleText:
		is := strings.HasPrefix(now.Type, "char(")
		if is && !strings.HasPrefix(old.Type, "char(") {
			return false // which loses spaces at the end
		}
		return !lossy || longer(old.Type, now.Type)
	case change.RuleJSON:
		return true
	case change.RuleEnum: // a label in use goes only where values may be cut
		return !lossy || !slices.ContainsFunc(old.Labels, func(l string) bool { return !slices.Contains(now.Labels, l) })
	case change.RuleDecimal:
		before, was, _ := old.DecimalSize()
		precision, is, _ := now.DecimalSize()
		return was == is && (!lossy || precision >= before)
	case change.RuleBinary:
		return !lossy && !strings.HasPrefix(now.Type, "binary(")
	default:
		return false
	}
}

// capacity is how many bytes a text of a type with no length has room for.
var capacity = map[string]int{"tinytext": 255, "text": 65535, "mediumtext": 1<<24 - 1, "longtext": 1<<32 - 1}

// longer reports whether a type of text holds what another does, however long.
func longer(old, now string) bool {
	kind := func(of string) (name string, length int) {
		name, rest, sized := strings.Cut(of, "(")
		if !sized {
			return name, -1 // of a version that only the log tells
		}
		length, _ = strconv.Atoi(strings.TrimSuffix(rest, ")"))
		return name, length
	}
	was, before := kind(old)
	is, length := kind(now)
	switch {
	case was == "set" && is == "set":
		return strings.HasPrefix(now, strings.TrimSuffix(old, ")"))
	case capacity[was] > 0:
		return capacity[is] >= capacity[was]
	case was != "char" && was != "varchar":
		return false
	case capacity[is] > 0:
		return capacity[is] >= 4*before
	}
	return (is == was || is == "varchar") && (length >= before || length < 0)
}
