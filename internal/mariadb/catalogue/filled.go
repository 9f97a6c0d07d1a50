package catalogue

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/mariadb/statement"
)

var (
	wholeNumber  = regexp.MustCompile(`^-?[0-9]{1,20}$`)
	plainDecimal = regexp.MustCompile(`^(-?)([0-9]{1,65})(?:\.([0-9]*))?$`)
)

// constant is the value that a column's default gives the rows that are there, as events have it,
// where that is certain: of whole numbers, decimals, texts and enums.
func constant(c *change.Column, stated statement.Column) (text string, known bool) {
	if stated.Computed || !stated.HasDefault && !stated.NotNull {
		return "", false
	}
	given := stated.Default
	switch c.Rule {
	case change.RuleInteger, change.RuleUnsigned:
		if !stated.HasDefault {
			return "0", !strings.HasPrefix(c.Type, "year") && !strings.HasPrefix(c.Type, "bit")
		}
		given = strings.TrimLeft(given, "+")
		if negative := strings.HasPrefix(given, "-"); wholeNumber.MatchString(given) {
			given = strings.TrimLeft(strings.TrimPrefix(given, "-"), "0")
			if given == "" {
				return "0", true
			}
			if negative {
				given = "-" + given
			}
			return given, !strings.HasPrefix(c.Type, "year") && !strings.HasPrefix(c.Type, "bit")
		}
	case change.RuleDecimal:
		_, scale, sized := c.DecimalSize()
		if given == "" {
			given = "0"
		}
		parts := plainDecimal.FindStringSubmatch(given)
		if !sized || parts == nil || len(parts[3]) > scale {
			return "", false
		}
		whole := strings.TrimLeft(parts[2], "0")
		if whole == "" {
			whole = "0"
		}
		if scale > 0 {
			whole += "." + parts[3] + strings.Repeat("0", scale-len(parts[3]))
		}
		if strings.Trim(whole, "0.") != "" {
			whole = parts[1] + whole
		}
		return whole, true
	case change.RuleText:
		kind, _, _ := strings.Cut(c.Type, "(")
		return given, slices.Contains([]string{"varchar", "char", "tinytext", "text", "mediumtext", "longtext"}, kind) && strings.TrimRight(given, " ") == given
	case change.RuleEnum:
		return given, stated.HasDefault && slices.Contains(c.Labels, given)
	default:
	}
	return "", false
}

// Filled are the values that rows which were there have got in new columns of a version, where they are
// known, and which columns have filled rows otherwise. What the statement says that has added a
// column goes before what the catalogue says, which may be of later: filled, nil where it is of
// another version.
func Filled(old *change.Schema, l *rows.Layout, filled []bool, stated map[string]statement.Column) (values map[string]json.RawMessage, unknown []bool) {
	if unknown = slices.Clone(filled); unknown == nil {
		unknown = slices.Repeat([]bool{true}, len(l.Source))
	}
	for i := range l.Schema.Columns {
		c := &l.Schema.Columns[i]
		added, is := stated[strings.ToLower(c.Name)]
		if !is || old.Column(c.Name) != nil {
			continue
		}
		at := l.From[i]
		if !added.HasDefault && !added.NotNull && !added.Computed && c.Nullable {
			unknown[at] = unknown[at] && strings.HasPrefix(l.Source[at].Type, "timestamp") // which a setting lets be NOT NULL unsaid
			continue
		}
		unknown[at] = true
		text, known := constant(&l.Source[at], added)
		if !known {
			continue
		}
		raw, can := change.FilledJSON(c, change.Value{Presence: change.Present, Text: l.Treated(nil, i, []byte(text))})
		if !can {
			continue
		}
		if values == nil {
			values = make(map[string]json.RawMessage)
		}
		values[c.Name], unknown[at] = raw, false
	}
	return values, unknown
}
