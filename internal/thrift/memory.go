package thrift

import (
	"os"
	"runtime/metrics"
)

const (
	// spare is how much the process may take above what it has in use: garbage that was not
	// collected yet, and what the runtime needs for itself. With a third of that, collecting was
	// more than half of the service's work in a full load.
	spare = 32 << 20
	// leastLimit is what the limit never goes below.
	leastLimit = 56 << 20
	// livesKept is how many of the latest looks count, of which the largest decides: what is in
	// use goes up and down with the batches on their way.
	livesKept = 6
	// limitStep is by how much the limit changes at least: each change stops all goroutines
	// for a moment.
	limitStep = 4 << 20
)

// bound holds the memory that the runtime takes to what is in use and a little more:
// garbage is collected early rather than the process grown, but not again and again where
// much is in use. It is no hard limit. Whoever sets GOMEMLIMIT decides. set sets the limit, and
// gives the one before it.
func bound(set func(int64) int64) *steering {
	if os.Getenv("GOMEMLIMIT") != "" {
		return nil
	}
	before := set(-1)
	var b bounds
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	return &steering{end: func() { set(before) }, look: func() {
		metrics.Read(live)
		if limit, changed := b.look(int64(live[0].Value.Uint64())); changed {
			set(limit)
		}
	}}
}

// bounds works out the limit.
type bounds struct {
	lives [livesKept]int64 // bytes in use at the latest looks, as the last collection found them
	next  int
	limit int64
}

// look takes note of how many bytes are in use, and gives the limit that follows and
// whether it is another one than before.
func (b *bounds) look(live int64) (limit int64, changed bool) {
	b.lives[b.next] = live
	b.next = (b.next + 1) % livesKept
	most := int64(0)
	for _, l := range b.lives {
		most = max(most, l)
	}
	limit = max(leastLimit, most+spare)
	if limit-b.limit < limitStep && b.limit-limit < limitStep {
		return b.limit, false
	}
	b.limit = limit
	return limit, true
}
