package loading

import (
	"context"
	"errors"

	"rillmark/internal/capture/load"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/tables"
)

// WantFull gives a table a load of all its rows, from the beginning: what an
// earlier one read was before changes that are in no stream.
func (r *Loading) WantFull(t *tables.Table) {
	if t.Load == nil {
		t.Load = new(loads.TableLoad)
		return
	}
	t.Load.Progress = loads.Progress{Restarts: t.Load.Progress.Restarts}
	t.Load.Restart()
	t.Load.Ready = false
}

// WantLoad gives a table the load that is on record, which goes on once releaseLoad
// says so.
func (r *Loading) WantLoad(t *tables.Table) {
	if t.Load != nil {
		return
	}
	l := new(loads.TableLoad)
	if t.State.Progress != nil {
		if err := l.Progress.Restore(t.State.Progress); err != nil {
			l.Progress = loads.Progress{} // begin anew: the void event makes that safe
		}
	}
	if l.Progress.By == loads.InFull {
		l.Progress = l.Progress.Anew() // its snapshot went with the last run
	}
	t.Load = l
}

// KeepReloading takes requests to read tables anew.
func (r *Loading) KeepReloading(ctx context.Context, reloads <-chan engine.Reload) error {
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case one := <-reloads:
			err := r.sink.Locked(func() error {
				if err := r.Reload(one.Table, one.Ask); err != nil {
					return err
				}
				return r.sink.StoreWhole(ctx)
			})
			one.Done <- err
			if err != nil && !errors.Is(err, engine.ErrCannotLoad) {
				return err
			}
		}
	}
}

// Reload begins a load of a table that is followed, so that no writers are to be waited
// for; the lock is held.
func (r *Loading) Reload(name string, ask load.Ask) error {
	t := r.tables[name]
	if ask.Drop {
		return r.drop(t, ask.For)
	}
	switch {
	case t == nil || t.Captured == nil || engine.Away(t.State.State) || t.State.State == engine.StateUnpublished, (ask != load.Ask{}) && t.Load != nil:
		return engine.ErrCannotLoad
	case t.State.State == engine.StateNew:
		return nil // it is loaded as it is
	case ask != (load.Ask{}):
		p := loads.Progress{Where: ask.Where, For: ask.For, Then: t.State.State, ThenNote: t.State.Note}
		if ask.Where != "" {
			p.Kind = load.Part
		}
		t.Load = &loads.TableLoad{Progress: p}
	default:
		r.WantFull(t)
		t.Load.Progress = loads.Progress{}
	}
	t.State.State, t.State.Note, t.State.RowsDone = engine.StateToLoad, "", 0
	r.sink.Table(t.ProgressState())
	r.sink.Touch()
	r.ReleaseLoad(t)
	return nil
}

// drop ends the load of a table for an outlet that is no more; the lock is held. A chunk that is
// being read comes to nothing.
func (r *Loading) drop(t *tables.Table, whose load.Audience) error {
	if t == nil || t.Load == nil || whose.ID == 0 || t.Load.Progress.For.ID != whose.ID {
		return engine.ErrCannotLoad
	}
	p := t.Load.Progress
	t.Load = nil
	t.State.State, t.State.Note = p.Then, p.ThenNote
	r.sink.Table(t.ProgressState())
	r.sink.Touch()
	r.sink.Report(engine.Report{Level: "info", Event: "load-dropped", Message: t.State.Table + ": the outlet " + whose.Name + ", for which it was loaded, is no more"})
	r.WakeLoaders()
	return nil
}

// ReleaseLoad lets a table's load begin.
func (r *Loading) ReleaseLoad(t *tables.Table) {
	if t.Load != nil && !t.Load.Ready {
		t.Load.Ready = true
		r.WakeLoaders()
	}
}

// WakeLoaders has every session look for something to read; the lock is held.
func (r *Loading) WakeLoaders() {
	close(r.MoreLoads)
	r.MoreLoads = make(chan struct{})
}
