package outlet

import (
	"time"

	"rillmark/internal/encode"
)

const (
	// idleFlushes in a row that made nothing durable are followed by slower ones: files are
	// closed by their age or size, and a flush makes that no earlier.
	idleFlushes = 3
	// calmFlushes in a row are a steady trickle, if each had fewer than calmMessages, and the
	// next one came soon. A flush and its commit cost as much as some deliveries.
	calmFlushes  = 10
	calmMessages = 100
)

// pace decides whether flushes may be further apart.
type pace struct {
	idle  int       // flushes in a row that made nothing durable
	calm  int       // flushes in a row of a steady trickle
	began time.Time // the last one
}

// begin takes note that a flush of so many messages begins.
func (p *pace) begin(now time.Time, messages int64) {
	if p.calm++; messages >= calmMessages || now.Sub(p.began) > 2*lateFlushEvery {
		p.calm = 0
	}
	p.began = now
}

// end takes note of whether it made anything durable.
func (p *pace) end(durable bool) {
	if p.idle++; durable {
		p.idle = 0
	}
}

func (p *pace) trickles() bool { return p.calm > calmFlushes }

func (p *pace) slow() bool { return p.idle > idleFlushes || p.trickles() }

// nap is how far apart the moments are to which a destination's messages may wait: zero where
// they go out at once.
func (p *pace) nap(to encode.Capabilities) time.Duration {
	switch {
	case !to.Followed || !p.trickles():
		return 0
	case to.Late:
		return lateFlushEvery // nothing would show earlier
	}
	return lateFlushEvery / 4
}

// most is how many messages are sent without a flush. What comes at once after a trickle does
// not wait for the slow moment: a kill would have all of it repeated.
func (p *pace) most() int64 {
	if p.trickles() {
		return calmMessages
	}
	return flushEvents
}
