package loads

import (
	"slices"

	"rillmark/internal/postgres/chunk"
)

// A commit stands in the log, and can reach us, before a query can see it: for
// long, where commits wait for a standby. A load's snapshot must see every
// transaction that touched its table and whose events are in the journal
// already. [NotYetVisible] notes which those may be: each transaction with the tables it
// touched, until a snapshot has shown it to be visible.
//
// What came since our last heartbeat comes again when a run is resumed, and is
// noted again; only what is older, as a rule nothing, goes into the checkpoint.
type NotYetVisible struct {
	touches []touch
	old     int // so many of them came before the last heartbeat
}

type touch struct{ xid, table uint32 }

// Note is called for each row.
func (u *NotYetVisible) Note(xid, table uint32) {
	if n := len(u.touches); n > 0 && u.touches[n-1] == (touch{xid, table}) {
		return
	}
	u.touches = append(u.touches, touch{xid, table})
}

// Of is the transactions that touched a table.
func (u *NotYetVisible) Of(table uint32) []uint32 {
	var xids []uint32
	for _, t := range u.touches {
		if t.table == table {
			xids = append(xids, t.xid)
		}
	}
	return xids
}

// Prune forgets what a snapshot sees.
func (u *NotYetVisible) Prune(s *chunk.Snapshot) {
	kept, old := u.touches[:0], 0
	for i, t := range u.touches {
		if s.Sees(t.xid) {
			continue
		}
		kept = append(kept, t)
		if i < u.old {
			old++
		}
	}
	u.touches, u.old = kept, old
	if cap(u.touches) > 4096 && len(u.touches) < cap(u.touches)/8 {
		u.touches = slices.Clone(u.touches) // a burst's room is given back
	}
}

// Heartbeat says that all that was noted so far will not come again.
func (u *NotYetVisible) Heartbeat() { u.old = len(u.touches) }

// Stored is what the checkpoint needs, by the tables' names.
func (u *NotYetVisible) Stored(name func(uint32) string) map[string][]uint32 {
	if u.old == 0 {
		return nil
	}
	byTable := make(map[string][]uint32)
	for _, t := range u.touches[:u.old] {
		byTable[name(t.table)] = append(byTable[name(t.table)], t.xid)
	}
	return byTable
}
