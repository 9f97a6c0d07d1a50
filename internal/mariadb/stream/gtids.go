package stream

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rillmark/internal/mariadb/binlog"
)

// GTIDs are how far a log has been read: the newest group of each domain.
type GTIDs map[uint32]binlog.GTID

// String is the position as the server writes it: 0-1-42,3-1-7.
func (g GTIDs) String() string {
	parts := make([]string, 0, len(g))
	for _, domain := range slices.Sorted(maps.Keys(g)) {
		parts = append(parts, g[domain].String())
	}
	return strings.Join(parts, ",")
}

// ParseGTIDs reads what String wrote.
func ParseGTIDs(text string) (GTIDs, error) {
	all := make(GTIDs)
	for _, part := range strings.Split(text, ",") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		one, err := binlog.ParseGTID(part)
		if err != nil {
			return nil, err
		}
		if _, twice := all[one.Domain]; twice {
			return nil, fmt.Errorf("%q names domain %d twice", text, one.Domain)
		}
		all[one.Domain] = one
	}
	return all, nil
}

// Last is the newest group of each domain in a list that begins a file: of a domain, the
// last one that is listed.
func Last(list []binlog.GTID) GTIDs {
	last := make(GTIDs)
	for _, one := range list {
		last[one.Domain] = one
	}
	return last
}
