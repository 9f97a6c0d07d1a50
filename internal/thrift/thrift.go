// Package thrift has a process that has little to do use little.
package thrift

import (
	"context"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
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

// Keep has the process use little where it has little to do, until ctx is done: one processor
// (see [processors]), and memory that follows what is in use (see [bounds]). Both are looked at
// in one wake-up.
func Keep(ctx context.Context) {
	keep(ctx, processors(), bound(debug.SetMemoryLimit))
}

// steering looks at one thing now and then; its end leaves all as it was.
type steering struct{ look, end func() }

func keep(ctx context.Context, all ...*steering) {
	all = slices.DeleteFunc(all, func(s *steering) bool { return s == nil })
	if len(all) == 0 {
		return // somebody else decides
	}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		for _, one := range all {
			one.look()
		}
		select {
		case <-ctx.Done():
			for _, one := range all {
				one.end()
			}
			return
		case <-ticker.C:
		}
	}
}

// processors lets the process run on one processor while there is little to do: a few steps
// for each transaction, of which each would wake a second processor that finds nothing left,
// at more than the step costs. Whoever sets GOMAXPROCS decides.
func processors() *steering {
	if runtime.GOMAXPROCS(0) == 1 || os.Getenv("GOMAXPROCS") != "" {
		return nil
	}
	t := judge{}
	at, used := time.Now(), cpuTime()
	return &steering{end: runtime.SetDefaultGOMAXPROCS, look: func() {
		now, usedNow := time.Now(), cpuTime()
		if now.Sub(at) < lookEvery/2 {
			return // the first look: too short for a share
		}
		was := t.single
		t.look((usedNow - used).Seconds() / now.Sub(at).Seconds())
		at, used = now, usedNow
		switch {
		case t.single && !was:
			runtime.GOMAXPROCS(1)
		case was && !t.single:
			runtime.SetDefaultGOMAXPROCS() // as many as the machine and its limits allow now
		}
	}}
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
