package states

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sort"
	"strings"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/engine"
)

// Wake has every session look for something to read.
func (k *Keeper) Wake() {
	k.reading = !k.AllLoaded()
	if k.more != nil {
		close(k.more)
		k.more = nil
	}
}

// Reading reports whether any table was being read when the sessions were woken last.
func (k *Keeper) Reading() bool { return k.reading }

// More is closed when there may be more to read.
func (k *Keeper) More() <-chan struct{} {
	if k.more == nil {
		k.more = make(chan struct{})
	}
	return k.more
}

// AllLoaded reports whether no table is left to read.
func (k *Keeper) AllLoaded() bool {
	for t := range k.All {
		if t.Task() != nil || t.Status().State == engine.StateNew {
			return false
		}
	}
	return true
}

// First is the table with the highest priority, and then the first by its name, of those that
// may be read now; false where there is none.
func First[T Table](tables iter.Seq[T], may func(T) bool) (best T, found bool) {
	for t := range tables {
		if t.Task() == nil || t.Rule() == nil || !may(t) {
			continue
		}
		if !found || t.Rule().Priority > best.Rule().Priority || t.Rule().Priority == best.Rule().Priority && t.Status().Table < best.Status().Table {
			best, found = t, true
		}
	}
	return best, found
}

// tellEvery is how often the status page learns what is being read, where there are many
// tables.
const tellEvery = 200 * time.Millisecond

// Tell puts what is being read on the status page, now or soon.
func (k *Keeper) Tell(now bool) {
	if !now && time.Since(k.told) < tellEvery && k.many() {
		return // the session that finds nothing left to read reports
	}
	k.told = time.Now()
	var names []string
	for t := range k.All {
		if task := t.Task(); task != nil && task.Began && task.Kind != load.Refetch {
			names = append(names, t.Status().Table)
		}
	}
	sort.Strings(names)
	doing := "following"
	switch {
	case len(names) > 3:
		doing = fmt.Sprintf("following, and loading %d tables", len(names))
	case len(names) > 0:
		doing = "following, and loading " + strings.Join(names, ", ")
	}
	k.Sink.Report(engine.Report{Doing: doing})
}

func (k *Keeper) many() bool {
	n := 0
	for range k.All {
		if n++; n > 100 {
			return true
		}
	}
	return false
}

// Session is one session that reads rows, a job after the other.
type Session[J any] interface {
	// Next hands out what is to be done next, under the lock; false where there is nothing.
	Next() (j J, found bool)
	// Do does it, with a connection that it opens where there is none.
	Do(ctx context.Context, j J) error
	// Done is called under the lock with what Do returned. Its error ends the run; soon has
	// the session wait a moment before its next job.
	Done(j J, err error) (soon bool, _ error)
	// HangUp closes the connection while there is nothing to do.
	HangUp(ctx context.Context)
}

// soon is how long a session waits before it tries again what could not be done just now.
const soon = 50 * time.Millisecond

// Work does one job after the other until the context is done. The first session of a run
// also sees to the end of one that only loads: [engine.ErrComplete].
func Work[J any](ctx context.Context, k *Keeper, s Session[J], first bool) error {
	defer s.HangUp(ctx)
	for {
		var j J
		var found bool
		var more <-chan struct{}
		err := k.Sink.Locked(func() error {
			if j, found = s.Next(); found {
				return nil
			}
			more = k.More()
			if !first || !k.LoadOnly || !k.AllLoaded() {
				k.Tell(true)
				return nil
			}
			if err := k.Sink.StoreWhole(ctx); err != nil {
				return err
			}
			return engine.ErrComplete
		})
		if err != nil {
			return err
		}
		if !found {
			s.HangUp(ctx)
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-more:
			}
			continue
		}
		err = s.Do(ctx, j)
		again := false
		if err = k.Sink.Locked(func() (err2 error) {
			again, err2 = s.Done(j, err)
			return err2
		}); err != nil {
			return err
		}
		if again {
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(soon):
			}
		}
	}
}

// Resume begins the loads that were asked for while nothing ran.
func (k *Keeper) Resume(recorded map[string]*engine.TableState, find func(name string) (Table, bool)) error {
	for name, state := range recorded {
		if state.Reload == nil {
			continue
		}
		err := k.Sink.Locked(func() error {
			if t, found := find(name); found {
				return k.Ask(t, load.Ask{Where: *state.Reload})
			}
			return nil
		})
		if err != nil && !errors.Is(err, engine.ErrCannotLoad) {
			return err
		}
	}
	return nil
}

// KeepReloading takes requests to read tables anew until the context is done.
func (k *Keeper) KeepReloading(ctx context.Context, reloads <-chan engine.Reload, find func(name string) (Table, bool)) error {
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case one := <-reloads:
			err := k.Sink.Locked(func() error {
				t, found := find(one.Table)
				if !found {
					return engine.ErrCannotLoad
				}
				if err := k.Ask(t, one.Ask); err != nil {
					return err
				}
				return k.Sink.StoreWhole(ctx)
			})
			one.Done <- err
			if err != nil && !errors.Is(err, engine.ErrCannotLoad) {
				return err
			}
		}
	}
}
