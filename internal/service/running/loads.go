package running

import (
	"context"
	"errors"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/catalog"
	"rillmark/internal/engine"
)

// Loads hands loads for one outlet to the captures that run.
type Loads struct {
	running *Running
	woken   chan struct{}
}

// ReloadTime is how long a running capture may take to have a load on record.
const ReloadTime = 10 * time.Second

const (
	// loadsEvery is how often it is looked for loads that another instance was asked for.
	loadsEvery = 5 * time.Second
	// loadsSoon is how often while there are some.
	loadsSoon = 500 * time.Millisecond
)

// Wake has it looked at once what was asked for.
func (l *Loads) Wake() {
	select {
	case l.woken <- struct{}{}:
	default:
	}
}

// Keep hands loads out until the service stops.
func (l *Loads) Keep() {
	work := l.running.Work
	for {
		wait := loadsEvery
		if some, err := l.align(work); some || err != nil {
			wait = loadsSoon // the state database's being away is on record already
		}
		timer := time.NewTimer(wait)
		select {
		case <-work.Done():
			timer.Stop()
			return
		case <-l.woken:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// align begins the loads that can begin, and takes those that are done off the record; some
// reports whether any are left.
func (l *Loads) align(ctx context.Context) (some bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if some, err = l.reloads(ctx); err != nil {
		return true, err
	}
	all, err := l.running.Catalog.OutletLoads(ctx)
	if err != nil {
		return false, err
	}
	phases := make(map[int64]map[string]string)
	for i := range all {
		one := &all[i]
		if phases[one.Source] == nil {
			if phases[one.Source], err = l.running.Catalog.TablePhases(ctx, one.Source); err != nil {
				return true, err
			}
		}
		if err := l.advance(ctx, one, phases[one.Source]); err != nil {
			return true, err
		}
	}
	return some || len(all) > 0, nil
}

// reloads has the captures of this instance take on what another instance was asked for;
// some reports whether any are left.
func (l *Loads) reloads(ctx context.Context) (some bool, err error) {
	all, err := l.running.Catalog.AskedReloads(ctx)
	if err != nil {
		return false, err
	}
	for i := range all {
		one := &all[i]
		source := l.running.Source(one.SourceOf)
		if source == nil || !source.Runs() {
			continue // it waits until the source runs
		}
		asked, cancel := context.WithTimeout(ctx, ReloadTime)
		ask := load.Ask{Where: one.Condition}
		if one.Dropped != 0 {
			ask = load.Ask{For: load.Audience{ID: one.Dropped, Name: one.OutletName}, Drop: true}
		}
		taken, err := source.Capture.Reload(asked, one.Table, ask)
		cancel()
		switch {
		case errors.Is(err, engine.ErrCannotLoad) && ask.Drop: // it is over already
		case errors.Is(err, engine.ErrCannotLoad):
			l.running.RunLog.Write("warn", "source/"+one.SourceOf, "load-dropped", one.Table+" cannot be loaded now: its reload, which another instance was asked for, is dropped")
		case err != nil:
			return true, err
		case !taken:
			some = true // it is tried again soon, here or by the instance that captures
			continue
		}
		if err := l.running.Catalog.EndAskedReload(ctx, one); err != nil {
			return true, err
		}
	}
	return some, nil
}

// advance does what can be done for one load.
func (l *Loads) advance(ctx context.Context, one *catalog.OutletLoad, phases map[string]string) error {
	phase := phases[one.Table]
	busy := phase == engine.StateNew || phase == engine.StateToLoad || phase == engine.StateLoading
	subject := "outlet/" + one.OutletName
	switch {
	case phase == "" || engine.Away(phase):
		l.running.RunLog.Write("warn", subject, "load-dropped", one.Table+" is no longer captured: it is not loaded for this outlet")
		return l.running.Catalog.EndOutletLoad(ctx, one)
	case one.Begun && !busy:
		l.running.RunLog.Write("info", subject, "load-read", one.Table+" has been read for this outlet")
		l.running.Parts.Changed()
		return l.running.Catalog.EndOutletLoad(ctx, one)
	case one.Begun || busy:
		return nil
	}
	source := l.running.Source(one.SourceOf)
	if source == nil || !source.Runs() {
		return nil // it waits until the source runs
	}
	asked, cancel := context.WithTimeout(ctx, ReloadTime)
	defer cancel()
	taken, err := source.Capture.Reload(asked, one.Table, load.Ask{Where: one.Condition, For: load.Audience{ID: one.Outlet, Name: one.OutletName}})
	if !taken || errors.Is(err, engine.ErrCannotLoad) {
		return nil //nolint:nilerr // it is tried again soon
	}
	if err != nil {
		return err
	}
	phases[one.Table] = engine.StateToLoad
	return l.running.Catalog.OutletLoadBegun(ctx, one)
}

// DropLoad ends a load that is under way for an outlet that is no more, here or by the instance
// that captures the source.
func (s *Running) DropLoad(ctx context.Context, one *catalog.OutletLoad) error {
	if source := s.Source(one.SourceOf); source != nil && source.Runs() {
		asked, cancel := context.WithTimeout(ctx, ReloadTime)
		defer cancel()
		taken, err := source.Capture.Reload(asked, one.Table, load.Ask{For: load.Audience{ID: one.Outlet, Name: one.OutletName}, Drop: true})
		if taken || errors.Is(err, engine.ErrCannotLoad) {
			return nil
		}
	}
	return s.Catalog.AskDrop(ctx, one)
}
