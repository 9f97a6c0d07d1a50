package chunk

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Snapshot is what a query sees, as pg_current_snapshot() gives it.
type Snapshot struct {
	Xmin, Xmax uint64
	Running    []uint64
}

// ParseSnapshot reads "xmin:xmax:xid,xid,...".
func ParseSnapshot(text string) (Snapshot, error) {
	var s Snapshot
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	var err error
	if s.Xmin, err = strconv.ParseUint(parts[0], 10, 64); err != nil {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	if s.Xmax, err = strconv.ParseUint(parts[1], 10, 64); err != nil {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	if parts[2] != "" {
		for _, one := range strings.Split(parts[2], ",") {
			xid, err := strconv.ParseUint(one, 10, 64)
			if err != nil {
				return s, fmt.Errorf("%q is no snapshot", text)
			}
			s.Running = append(s.Running, xid)
		}
	}
	return s, nil
}

// Sees reports whether a transaction's effects are visible. The stream carries
// the lower half of a transaction id; the epoch is the one that brings it
// nearest to the snapshot.
func (s *Snapshot) Sees(xid uint32) bool {
	full := s.Xmax&^0xffffffff | uint64(xid)
	switch distance := int64(full) - int64(s.Xmax); {
	case distance > 1<<31:
		full -= 1 << 32
	case distance < -(1 << 31):
		full += 1 << 32
	}
	return full < s.Xmin || full < s.Xmax && !slices.Contains(s.Running, full)
}
