// Package thrift has a process that has little to do use little.
package thrift

import (
	"context"
	"os"
	"runtime"
	"syscall"
	"time"
)

const (
	// lookEvery is how often it is looked at how much there is to do.
	lookEvery = 500 * time.Millisecond
	// busyShare of one processor uses them all, at once; below quietShare for
	// quietLooks one is enough.
	busyShare  = 0.25
	quietShare = 0.12
	quietLooks = 10
)

// Keep lets the process run on one processor while there is little to do, until ctx
// is done: a few steps for each transaction, of which each would wake a second processor
// that finds nothing left, at more than the step costs. Whoever sets GOMAXPROCS decides.
func Keep(ctx context.Context) {
	all := runtime.GOMAXPROCS(0)
	if all == 1 || os.Getenv("GOMAXPROCS") != "" {
		return
	}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	defer runtime.SetDefaultGOMAXPROCS()
	t := judge{}
	at, used := time.Now(), cpuTime()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		now, usedNow := time.Now(), cpuTime()
		was := t.single
		t.look((usedNow - used).Seconds() / now.Sub(at).Seconds())
		at, used = now, usedNow
		switch {
		case t.single && !was:
			runtime.GOMAXPROCS(1)
		case was && !t.single:
			runtime.SetDefaultGOMAXPROCS() // as many as the machine and its limits allow now
		}
	}
}

// judge decides.
type judge struct {
	single bool
	quiet  int // looks in a row at which little was done
}

// look takes note of the share of a processor that was used since the last look.
func (t *judge) look(share float64) {
	switch {
	case share > busyShare:
		t.single, t.quiet = false, 0
	case share > quietShare:
		t.quiet = 0
	default:
		if t.quiet++; t.quiet >= quietLooks {
			t.single = true
		}
	}
}

// cpuTime is what the process has used so far.
func cpuTime() time.Duration {
	var used syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &used); err != nil {
		return 0
	}
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}
