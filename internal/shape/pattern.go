// Package shape decides what of a journal an outlet gets and in which form, and which tables
// a source's rules choose: patterns, filters, forms of rows, the net of changes, templates.
// Conditions and computed columns are package expression's. It is pure.
package shape

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
)

// Pattern chooses tables by their schema-qualified names as [change.TableName]
// writes them: * stands for any run of characters, ? for one; a part in double
// quotes, a JSON string, stands for just itself. A pattern without a dot means the
// schema public.
type Pattern struct {
	text       string
	expression string
	re         *regexp.Regexp
}

func makePattern(text, expression string) Pattern {
	// A name may hold a line feed, which a dot has to match.
	return Pattern{text, expression, regexp.MustCompile("(?s)" + expression)}
}

// ParsePattern reads a pattern.
func ParsePattern(text string) (Pattern, error) {
	if text == "" {
		return Pattern{}, fmt.Errorf("a table pattern is empty: write a name such as public.loans, or public.* for a whole schema")
	}
	if strings.IndexFunc(text, unicode.IsControl) >= 0 {
		return Pattern{}, fmt.Errorf("table pattern %q holds a control character: write it in a part in double quotes, with \\n or \\u0001", text)
	}
	expression, parts, err := tableExpression(text)
	if err != nil {
		return Pattern{}, fmt.Errorf("table pattern %q: %w", text, err)
	}
	switch {
	case parts == 1 && text == "*":
		expression = `.*\..*`
	case parts == 1:
		expression = `public\.` + expression
	}
	return makePattern(text, "^"+expression+"$"), nil
}

// tableExpression is a pattern as a regular expression, and how many parts it has.
func tableExpression(text string) (expression string, parts int, err error) {
	var b strings.Builder
	for rest := text; ; {
		parts++
		if strings.HasPrefix(rest, `"`) {
			value, behind, err := jsontext.Next([]byte(rest))
			var name string
			if err != nil || json.Unmarshal(value, &name) != nil || len(behind) > 0 && behind[0] != '.' {
				return "", 0, errors.New("a part in double quotes is a JSON string, and ends at a dot or at the end")
			}
			b.WriteString(regexp.QuoteMeta(change.NamePart(name)))
			rest = string(behind)
		} else {
			end := strings.IndexByte(rest, '.')
			if end < 0 {
				end = len(rest)
			}
			b.WriteString(glob(rest[:end]))
			rest = rest[end:]
		}
		if rest == "" {
			return b.String(), parts, nil
		}
		b.WriteString(`\.`)
		rest = rest[1:]
	}
}

// ParseColumnPattern reads a pattern of column names, in the same signs; one that is
// a JSON string stands for just that name.
func ParseColumnPattern(text string) (Pattern, error) {
	if text == "" {
		return Pattern{}, fmt.Errorf("a column pattern is empty: write a name such as email, or *_note")
	}
	var name string
	if strings.HasPrefix(text, `"`) && json.Unmarshal([]byte(text), &name) == nil {
		return makePattern(text, "^"+regexp.QuoteMeta(name)+"$"), nil
	}
	return makePattern(text, "^"+glob(text)+"$"), nil
}

func glob(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch r {
		case '*':
			b.WriteString(".*")
		case '?':
			b.WriteString(".")
		default:
			b.WriteString(regexp.QuoteMeta(string(r)))
		}
	}
	return b.String()
}

// Single is the one table that the pattern chooses; empty where it may choose several.
func (p Pattern) Single() string {
	if strings.ContainsAny(p.text, "*?") && !strings.ContainsRune(p.text, '"') {
		return ""
	}
	schema, table, ok := change.SplitTable(p.text)
	if name := change.TableName(schema, table); ok && p.Matches(name) && !strings.ContainsAny(schema+table, "*?") {
		return name
	}
	if !ok && !strings.ContainsAny(p.text, `.*?"`) && p.text != "" {
		return "public." + p.text
	}
	return ""
}

// Matches reports whether the pattern chooses a table; the zero pattern chooses none.
func (p Pattern) Matches(table string) bool { return p.re != nil && p.re.MatchString(table) }

// Expression is the pattern as a regular expression that Go and PostgreSQL share.
func (p Pattern) Expression() string { return p.expression }

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Expression is one regular expression for several patterns, in the syntax that
// Go and PostgreSQL share; empty for none, which means every table.
func Expression(patterns []Pattern) string {
	parts := make([]string, len(patterns))
	for i, p := range patterns {
		parts[i] = p.expression
	}
	return strings.Join(parts, "|")
}
