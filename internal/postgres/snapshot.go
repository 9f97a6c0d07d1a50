package postgres

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// snapshot is what a query sees, as pg_current_snapshot() tells it.
type snapshot struct {
	xmin, xmax uint64
	running    []uint64
}

// parseSnapshot reads "xmin:xmax:xid,xid,...".
func parseSnapshot(text string) (snapshot, error) {
	var s snapshot
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	var err error
	if s.xmin, err = strconv.ParseUint(parts[0], 10, 64); err != nil {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	if s.xmax, err = strconv.ParseUint(parts[1], 10, 64); err != nil {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	if parts[2] != "" {
		for _, one := range strings.Split(parts[2], ",") {
			xid, err := strconv.ParseUint(one, 10, 64)
			if err != nil {
				return s, fmt.Errorf("%q is no snapshot", text)
			}
			s.running = append(s.running, xid)
		}
	}
	return s, nil
}

// sees reports whether a transaction's effects are visible. The stream carries
// the lower half of a transaction id; the epoch is the one that brings it
// nearest to the snapshot.
func (s *snapshot) sees(xid uint32) bool {
	full := s.xmax&^0xffffffff | uint64(xid)
	switch distance := int64(full) - int64(s.xmax); {
	case distance > 1<<31:
		full -= 1 << 32
	case distance < -(1 << 31):
		full += 1 << 32
	}
	return full < s.xmin || full < s.xmax && !slices.Contains(s.running, full)
}
