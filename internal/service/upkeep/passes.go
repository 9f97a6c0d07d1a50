package upkeep

import (
	"context"
	"sync"
)

// passes runs work on sources side by side: one pass of a source at a time, and a few of all. It is
// over once Wait has returned.
type passes struct {
	room chan struct{} // as many as may run
	mu   sync.Mutex    // guards busy
	busy map[int64]bool
	sync.WaitGroup
}

func newPasses(atOnce int) *passes {
	return &passes{room: make(chan struct{}, atOnce), busy: make(map[int64]bool)}
}

// begin has a source's pass run as soon as there is room. While the source's last one runs or waits
// there is none to begin, so that there are never more than sources.
func (p *passes) begin(ctx context.Context, source int64, pass func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.busy[source] {
		return
	}
	p.busy[source] = true
	p.Go(func() {
		defer func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			delete(p.busy, source)
		}()
		select {
		case p.room <- struct{}{}:
			defer func() { <-p.room }()
			pass()
		case <-ctx.Done():
		}
	})
}
