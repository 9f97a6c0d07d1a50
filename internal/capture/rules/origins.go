package rules

import (
	"fmt"
	"path"
	"slices"
)

// Origins are patterns of the origins whose transactions are left out: the names of
// replication origins, or the ids of servers. A * stands for any characters, a ? for one.
type Origins []string

// ParseOrigins checks patterns of origins.
func ParseOrigins(patterns []string) (Origins, error) {
	for i, p := range patterns {
		if _, err := path.Match(p, ""); err != nil || p == "" {
			return nil, fmt.Errorf("pattern %d, %q, is no pattern of an origin's name", i+1, p)
		}
	}
	return Origins(patterns), nil
}

// LeaveOut reports whether a transaction of an origin is left out; one of the server itself
// has none, and is not.
func (o Origins) LeaveOut(origin string) bool {
	return origin != "" && slices.ContainsFunc(o, func(p string) bool {
		matches, _ := path.Match(p, origin) // it has been parsed
		return matches
	})
}
