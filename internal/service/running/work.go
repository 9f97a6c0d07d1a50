package running

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// stopTime is what something that runs has to end in once it is asked to. What has not ended then is
// given up: it is named in the log, and nothing waits for it any more.
const stopTime = 4 * time.Second

// work is what is meant to run, or is paused. Anybody may ask it to end, and wait for that.
type work struct {
	now atomic.Pointer[started]
	// still is held by whoever keeps it from running; alignment passes over it meanwhile.
	still   sync.Mutex
	dropped atomic.Bool // it is not to run any more, whoever keeps it still
}

// started is one run of it.
type started struct {
	cancel context.CancelFunc
	done   <-chan struct{}
	asked  atomic.Int64 // when it was asked to end, in Unix nanoseconds; 0 where it was not
	told   atomic.Bool  // that it was given up
}

// Runs reports whether it is meant to run.
func (w *work) Runs() bool { return w.now.Load() != nil }

// begin runs it until [work.ask].
func (w *work) begin(among *Running, run func(context.Context)) {
	one := new(started)
	one.cancel, one.done = among.Start(run)
	w.now.Store(one)
}

// ask has it end; nothing happens where it does not run. It reports whether it has ended, and
// whether nobody has asked before.
func (w *work) ask() (ended, first bool) {
	one := w.now.Load()
	if one == nil {
		return true, false
	}
	first = one.asked.CompareAndSwap(0, time.Now().UnixNano())
	one.cancel()
	select {
	case <-one.done:
		return true, first
	default:
		return false, first
	}
}

// wasAsked reports whether it was asked to end.
func (w *work) wasAsked() bool {
	one := w.now.Load()
	return one != nil && one.asked.Load() != 0
}

// wait waits until what was asked to end has ended, or has had its time; it reports which.
func (w *work) wait() (ended bool) {
	one := w.now.Load()
	if one == nil {
		return true
	}
	select {
	case <-one.done:
		return true
	default:
	}
	left := time.NewTimer(stopTime - time.Since(time.Unix(0, one.asked.Load())))
	defer left.Stop()
	select {
	case <-one.done:
		return true
	case <-left.C:
		return false
	}
}

// giveUp reports whether it is the first time that this run is given up.
func (w *work) giveUp() bool {
	one := w.now.Load()
	return one != nil && one.told.CompareAndSwap(false, true)
}
