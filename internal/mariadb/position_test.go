package mariadb

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/mariadb/binlog"
)

// TestDistributedTransactionsEndTwice: what has ended is known for a while, across restarts,
// until its name is used again; a rollback that was not carried out leaves the place of its
// rows known.
func TestDistributedTransactionsEndTwice(t *testing.T) {
	xid := func(n int) binlog.XID { return binlog.XID{Format: 1, Global: fmt.Sprint("x", n)} }
	p := new(position)
	for n := range 2 * maxEnded {
		p.prepare(prepared{XID: xid(n), Group: fmt.Sprint("0-1-", n), Before: "0-1-0"})
	}
	require.Len(t, p.Prepared, 2*maxEnded)
	for n := range 2 * maxEnded {
		p.end(*p.waiting(xid(n)), n%2 == 0)
	}
	require.Empty(t, p.Prepared)
	require.Len(t, p.Ended, maxEnded)
	require.Nil(t, p.waiting(xid(3)))
	require.Nil(t, p.ending(xid(3)), "too long ago")

	again, err := parseCheckpoint(p.encode())
	require.NoError(t, err)
	p = &position{checkpoint: *again}
	last := p.ending(xid(2*maxEnded - 1))
	require.False(t, last.Committed)
	require.Equal(t, fmt.Sprint("0-1-", 2*maxEnded-1), last.Group)
	require.True(t, p.ending(xid(2*maxEnded-2)).Committed)
	p.end(last.prepared, true)
	require.True(t, p.ending(xid(2*maxEnded-1)).Committed)
	require.Len(t, p.Ended, maxEnded, "each once")
	p.prepare(prepared{XID: xid(2*maxEnded - 1), Group: "0-1-900"})
	require.Nil(t, p.ending(xid(2*maxEnded-1)), "its name is used again")
	require.Equal(t, "0-1-900", p.waiting(xid(2*maxEnded-1)).Group)
}

// TestOffsetsBeyondFourGigabytes: an event's header has the low half of an offset alone.
func TestOffsetsBeyondFourGigabytes(t *testing.T) {
	for _, c := range [][3]uint64{{400, 256, 400}, {256, 256, 256}, {5<<32 + 16, 5<<32 + 4, 5<<32 + 16}, {6<<32 + 16, 5<<32 + 1<<31, 6<<32 + 16}} {
		require.Equal(t, c[0], offsetOf(uint32(c[2]), c[1]), "%x after %x", c[2], c[1])
	}
}
