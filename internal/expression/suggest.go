package expression

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/google/cel-go/cel"

	"rillmark/internal/change"
)

var unknownName = regexp.MustCompile(`(?:undeclared reference to|undefined field) '([^']+)'`)

// closest names the column that somebody may have meant by a name that is not there; empty
// where none is close.
func closest(issues *cel.Issues, columns []change.Column) string {
	for _, e := range issues.Errors() {
		found := unknownName.FindStringSubmatch(e.Message)
		if found == nil {
			continue
		}
		if close := ClosestTo(found[1], columns); close != "" {
			return close
		}
	}
	return ""
}

// Similar is the one of some names that somebody may have meant by a name: one that differs
// from it in a few letters, in case or underscores alone, or has it as a part. Empty where there
// is none, or more than one.
func Similar(name string, of []string) string {
	bare := func(s string) string { return strings.ReplaceAll(strings.ToLower(s), "_", "") }
	best, least, ties := "", len(name)/4+2, 0
	for _, one := range of {
		a, b := bare(name), bare(one)
		d := distance(a, b, least)
		if short := min(len(a), len(b)); short >= 3 && (strings.Contains(a, b) || strings.Contains(b, a)) {
			d = min(d, 1)
		}
		switch {
		case d < least && d <= 1+len(name)/4:
			best, least, ties = one, d, 0
		case d == least && best != "":
			ties++
		}
	}
	if ties > 0 {
		return ""
	}
	return best
}

// ClosestTo names the column that somebody may have meant by a name.
func ClosestTo(name string, columns []change.Column) string {
	best, least := "", 1+len(name)/3
	for _, c := range columns {
		if d := distance(name, c.Name, least); d <= least {
			best, least = c.Name, d-1
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(" (%s?)", best)
}

// distance is how many letters have to be changed, put in, taken out, or exchanged with their
// neighbour to make one name of another; more than most where it is more.
func distance(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) > most || len(y)-len(x) > most {
		return most + 1
	}
	before, former, now := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range former {
		former[j] = j
	}
	for i := 1; i <= len(x); i++ {
		now[0] = i
		for j := 1; j <= len(y); j++ {
			change := 1
			if x[i-1] == y[j-1] {
				change = 0
			}
			now[j] = min(former[j]+1, now[j-1]+1, former[j-1]+change)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, former, now = former, now, before
	}
	return former[len(y)]
}
