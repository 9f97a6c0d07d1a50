package outlet

import (
	"sync"
	"sync/atomic"
	"time"
)

// MemoryBudget is the memory for batches, which the outlets of a service share: the more
// of them deliver, the smaller their batches are, and ten outlets need little
// more than one.
type MemoryBudget struct {
	running atomic.Int64
	once    sync.Once
	start   time.Time
}

const (
	// roomBytes is the memory for the batches of all outlets together.
	roomBytes = 8 << 20
	// leastBatch is what a batch may always have.
	leastBatch = 128 << 10
)

// share is how large an outlet's batches may be now.
func (r *MemoryBudget) share() int {
	return int(max(roomBytes/(batches*max(r.running.Load(), 1)), leastBatch))
}

const (
	// unhurried is how many outlets may deliver before each of them flushes less often.
	unhurried = 32
	// mostStretch bounds how much less often.
	mostStretch = 4
)

// stretch is a time between flushes, made longer where many outlets deliver.
func (r *MemoryBudget) stretch(every time.Duration) time.Duration {
	return every * time.Duration(min(max(r.running.Load(), unhurried), mostStretch*unhurried)) / unhurried
}

// moment is the first one after now of those that lie every so far apart, the same for
// all outlets.
func (r *MemoryBudget) moment(now time.Time, every time.Duration) time.Time {
	return now.Add(every - now.Sub(r.began())%every)
}

// began is when the first outlet asked.
func (r *MemoryBudget) began() time.Time {
	r.once.Do(func() { r.start = time.Now() })
	return r.start
}
