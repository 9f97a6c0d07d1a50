package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"rillmark/internal/capture/load"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/loads"
)

// wantFull gives a table a load of all its rows, from the beginning: what an
// earlier one read was before changes that are in no stream.
func (r *run) wantFull(t *table) {
	if t.load == nil {
		t.load = new(loads.TableLoad)
		return
	}
	t.load.Progress = loads.Progress{Restarts: t.load.Progress.Restarts}
	t.load.Restart()
	t.load.Ready = false
}

// wantLoad gives a table the load that is on record, which goes on once releaseLoad
// says so.
func (r *run) wantLoad(t *table) {
	if t.load != nil {
		return
	}
	l := new(loads.TableLoad)
	if t.state.Progress != nil {
		if err := l.Progress.Restore(t.state.Progress); err != nil {
			l.Progress = loads.Progress{} // begin anew: the void event makes that safe
		}
	}
	if l.Progress.By == loads.InFull {
		l.Progress = l.Progress.Anew() // its snapshot went with the last run
	}
	t.load = l
}

// keepReloading takes requests to read tables anew.
func (r *run) keepReloading(ctx context.Context, reloads <-chan engine.Reload) error {
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case one := <-reloads:
			err := r.sink.Locked(func() error {
				if err := r.reload(one.Table, one.Where); err != nil {
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

// reload begins a load of a table that is followed, so that no writers are to be waited
// for; the lock is held.
func (r *run) reload(name, where string) error {
	t := r.tables[name]
	switch {
	case t == nil || t.captured == nil || engine.Away(t.state.State) || t.state.State == engine.StateUnpublished, where != "" && t.load != nil:
		return engine.ErrCannotLoad
	case t.state.State == engine.StateNew:
		return nil // it is loaded as it is
	case where != "":
		t.load = &loads.TableLoad{Progress: loads.Progress{Kind: load.Part, Where: where, Then: t.state.State, ThenNote: t.state.Note}}
	default:
		r.wantFull(t)
		t.load.Progress = loads.Progress{}
	}
	t.state.State, t.state.Note, t.state.RowsDone = engine.StateToLoad, "", 0
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.releaseLoad(t)
	return nil
}

// releaseLoad lets a table's load begin.
func (r *run) releaseLoad(t *table) {
	if t.load != nil && !t.load.Ready {
		t.load.Ready = true
		r.wakeLoaders()
	}
}

// wakeLoaders has every session look for something to read; the lock is held.
func (r *run) wakeLoaders() {
	close(r.moreLoads)
	r.moreLoads = make(chan struct{})
}

// progressState is the table's state with its load's progress.
func (t *table) progressState() engine.TableState {
	t.state.Progress, t.state.Identity = nil, t.id.Encode()
	if t.load != nil {
		encoded, err := json.Marshal(t.load.Progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.state.Progress = encoded
	}
	return t.state
}
