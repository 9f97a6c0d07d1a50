package loading

import (
	"rillmark/internal/capture/load"
	"rillmark/internal/capture/states"
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
	t.Load.Progress = loads.Progress{Task: load.Task{Restarts: t.Load.Progress.Restarts}}
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

// Find is the table of a name.
func (r *Loading) Find(name string) (states.Table, bool) {
	t, found := r.tables[name]
	return t, found
}

// ReleaseLoad lets a table's load begin.
func (r *Loading) ReleaseLoad(t *tables.Table) {
	if t.Load != nil && !t.Load.Ready {
		t.Load.Ready = true
		r.Wake()
	}
}
