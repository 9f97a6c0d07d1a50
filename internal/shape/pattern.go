// Package shape decides what of a journal an outlet gets, and which tables a
// source's rules choose. It is pure.
package shape

import (
	"fmt"
	"regexp"
	"strings"
)

// Pattern chooses tables by their schema-qualified names: * stands for any run
// of characters, ? for one. A pattern without a dot means the schema public.
type Pattern struct {
	text string
	re   *regexp.Regexp
}

// ParsePattern reads a pattern.
func ParsePattern(text string) (Pattern, error) {
	if text == "" {
		return Pattern{}, fmt.Errorf("a table pattern is empty: write a name such as public.loans, or public.* for a whole schema")
	}
	if strings.ContainsAny(text, "\n\r\t\x00") {
		return Pattern{}, fmt.Errorf("table pattern %q holds a control character", text)
	}
	qualified := text
	if !strings.Contains(text, ".") {
		if text == "*" {
			qualified = "*.*"
		} else {
			qualified = "public." + text
		}
	}
	return Pattern{text: text, re: regexp.MustCompile("^" + expression(qualified) + "$")}, nil
}

// ParseColumnPattern reads a pattern of column names, in the same signs.
func ParseColumnPattern(text string) (Pattern, error) {
	if text == "" {
		return Pattern{}, fmt.Errorf("a column pattern is empty: write a name such as email, or *_note")
	}
	return Pattern{text: text, re: regexp.MustCompile("^" + expression(text) + "$")}, nil
}

func expression(glob string) string {
	var b strings.Builder
	for _, r := range glob {
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

// Matches reports whether the pattern chooses a table; the zero pattern chooses none.
func (p Pattern) Matches(table string) bool { return p.re != nil && p.re.MatchString(table) }

// Expression is the pattern as a regular expression that Go and PostgreSQL share.
func (p Pattern) Expression() string { return p.re.String() }

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Expression is one regular expression for several patterns, in the syntax that
// Go and PostgreSQL share; empty for none, which means every table.
func Expression(patterns []Pattern) string {
	parts := make([]string, len(patterns))
	for i, p := range patterns {
		parts[i] = p.re.String()
	}
	return strings.Join(parts, "|")
}
