package running

import (
	"context"
	"sync/atomic"
)

// work is what is meant to run, or is paused. Whoever holds what runs still may begin and end
// it; anybody may ask.
type work struct {
	stop atomic.Pointer[func()]
}

// Runs reports whether it is meant to run.
func (w *work) Runs() bool { return w.stop.Load() != nil }

// begin runs it until [work.end].
func (w *work) begin(among *Running, run func(context.Context)) {
	stop := among.Start(run)
	w.stop.Store(&stop)
}

// end ends it, and waits for that; nothing happens where it does not run.
func (w *work) end() {
	if stop := w.stop.Load(); stop != nil {
		(*stop)()
	}
}
