package outlet

import "sync/atomic"

// Room is the memory for batches, which the outlets of a service share: the more
// of them deliver, the smaller their batches are, and ten outlets need little
// more than one.
type Room struct {
	running atomic.Int64
}

const (
	// roomBytes is the memory for the batches of all outlets together.
	roomBytes = 8 << 20
	// leastBatch is what a batch may always have.
	leastBatch = 128 << 10
)

// share is how large an outlet's batches may be now.
func (r *Room) share() int {
	return int(max(roomBytes/(batches*max(r.running.Load(), 1)), leastBatch))
}
