package verify

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"rillmark/internal/change"
)

// form brings values of two columns into one text, where the databases write them in
// different ways. What is not of the kind that it expects it leaves as it is.
type form func(text []byte) []byte

// formOf is how values of a column on both sides are compared; nil for their canonical texts
// as they are.
func formOf(source, target *change.Column, sameEngine bool) form {
	if source.Treatment != "" || sameEngine && source.Rule == target.Rule {
		return nil
	}
	is := func(rules ...change.Rule) bool {
		return slices.Contains(rules, source.Rule) && slices.Contains(rules, target.Rule)
	}
	either := func(r change.Rule) bool { return source.Rule == r || target.Rule == r }
	numbers := []change.Rule{change.RuleBoolean, change.RuleInteger, change.RuleUnsigned, change.RuleDecimal, change.RuleFloat}
	switch {
	case is(append(numbers, change.RuleText, change.RuleEngineText)...) && (is(numbers...) || either(change.RuleDecimal)):
		if either(change.RuleFloat) {
			return floats
		}
		return exactNumbers
	case is(change.RuleTimestamp, change.RuleTimestampTZ):
		return instants
	case is(change.RuleTime, change.RuleDuration) && either(change.RuleDuration):
		return clocks
	case either(change.RuleJSON) || either(change.RuleArray):
		return documents
	}
	return nil
}

// exactNumbers are without zeros that say nothing; true is 1.
func exactNumbers(text []byte) []byte {
	switch string(text) {
	case "true":
		return []byte("1")
	case "false":
		return []byte("0")
	}
	r, ok := new(big.Rat).SetString(string(text))
	if !ok || len(text) > 10000 {
		return text
	}
	scale := 0
	if at := bytes.IndexByte(text, '.'); at >= 0 {
		scale = len(text) - at - 1
	}
	if bytes.ContainsAny(text, "eE") {
		return []byte(r.RatString())
	}
	plain := r.FloatString(scale)
	if scale > 0 {
		plain = strings.TrimSuffix(strings.TrimRight(plain, "0"), ".")
	}
	if plain == "-0" {
		plain = "0"
	}
	return []byte(plain)
}

func floats(text []byte) []byte {
	f, err := strconv.ParseFloat(string(text), 64)
	if err != nil {
		return text
	}
	return strconv.AppendFloat(nil, f, 'g', -1, 64)
}

// instants are without their zone, which is UTC.
func instants(text []byte) []byte {
	return bytes.TrimSuffix(bytes.Replace(text, []byte("T"), []byte(" "), 1), []byte("Z"))
}

var (
	clock    = regexp.MustCompile(`^(-?)(\d+):(\d\d):(\d\d)(?:\.(\d{1,6}))?$`)
	duration = regexp.MustCompile(`^PT(?:(-?)(\d+)H)?(?:(-?)(\d+)M)?(?:(-?)(\d+)(?:\.(\d{1,6}))?S)?$`)
)

// clocks are microseconds: a TIME of MariaDB is a duration.
func clocks(text []byte) []byte {
	number := func(sign, digits string, unit int64) int64 {
		n, _ := strconv.ParseInt(digits, 10, 64) // digits, or nothing
		if sign == "-" {
			n = -n
		}
		return n * unit
	}
	fraction := func(sign, digits string) int64 { return number(sign, (digits + "000000")[:6], 1) }
	const second, minute, hour = 1e6, 60e6, 3600e6
	if p := clock.FindStringSubmatch(string(text)); p != nil {
		return strconv.AppendInt(nil, number(p[1], p[2], hour)+number(p[1], p[3], minute)+number(p[1], p[4], second)+fraction(p[1], p[5]), 10)
	}
	if p := duration.FindStringSubmatch(string(text)); p != nil {
		return strconv.AppendInt(nil, number(p[1], p[2], hour)+number(p[3], p[4], minute)+number(p[5], p[6], second)+fraction(p[5], p[7]), 10)
	}
	return text
}

// documents are JSON with the members of objects in one order, the last of equal names, and
// exact numbers.
func documents(text []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil || d.More() {
		return text
	}
	again, err := json.Marshal(plainNumbers(v))
	if err != nil {
		return text
	}
	return again
}

func plainNumbers(v any) any {
	switch v := v.(type) {
	case json.Number:
		return json.RawMessage(exactNumbers([]byte(v)))
	case []any:
		for i := range v {
			v[i] = plainNumbers(v[i])
		}
	case map[string]any:
		for name := range v {
			v[name] = plainNumbers(v[name])
		}
	}
	return v
}

// KeyText is a value of a key's column as both sides read it: bytes in hexadecimal digits
// behind \x, all else in canonical text.
func KeyText(c *change.Column, v change.Value) string {
	if c.Rule == change.RuleBinary {
		return fmt.Sprintf(`\x%x`, v.Text)
	}
	return string(v.Text)
}

// Incomparable is why a table cannot be compared.
type Incomparable string

// Error is the reason.
func (i Incomparable) Error() string { return string(i) }
