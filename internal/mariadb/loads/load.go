// Package loads is what a run knows of its tables and of their loads, and what it remembers of
// the log while tables are read: which commits a snapshot sees, and what has changed since.
package loads

import (
	"encoding/json"
	"slices"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/rows"
	"rillmark/internal/change"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/stream"
)

// A load reads a table in chunks, in the order of its key, while the table is followed.
// What a snapshot sees is known only within bounds: every group of the log up to a place
// low, and none behind a place high. A chunk is therefore put into the journal where the
// log has been taken beyond high, and everything between low and there is laid over it;
// laying over what the snapshot has seen already changes nothing, since images are whole.

// Progress is how far a table's load is; it is stored with the events.
type Progress struct {
	load.Task
	// After is the key of the last row that was read, as literals of the server's language.
	After []string `json:"after,omitempty"`
}

// TableLoad is a table's load as the log sees it; the sink's lock guards it.
type TableLoad struct {
	Progress Progress
	// Taken is set while a session reads for it.
	Taken bool
	// Turn counts how often the load began anew in this run.
	Turn int
	// Refused counts the values that were too large, in this run.
	Refused int
	// Limit is how many rows the next chunk has.
	Limit int
	// recording is set once changes are kept; Floor is the place from which on they are.
	recording bool
	Floor     stream.Place
	changes   []overlaid
	bytes     int
	// Sound is the newest place up to which a snapshot was known to see every commit.
	Sound stream.Place
	// Unsure counts the snapshots in a row of which that was not known.
	Unsure int
	// Listed and layout are what was looked up last, when the table had that version.
	Listed  *catalogue.Table
	Layout  *rows.Layout
	Version int
}

// overlaid is one change of a row, or of the table's definition.
type overlaid struct {
	load.Change
	at  stream.Place // the end of its group
	ddl bool
}

// LayOver applies changes to the rows of a chunk.
func LayOver(rows [][]change.Value, schema *change.Schema, changes []overlaid) [][]change.Value {
	return load.LayOver(rows, schema, changes, func(o *overlaid) *load.Change { return &o.Change })
}

// RestoredLoad is the load that is on record.
func RestoredLoad(stored []byte) *TableLoad {
	l := new(TableLoad)
	if stored != nil && json.Unmarshal(stored, &l.Progress) != nil {
		l.Progress = Progress{} // begin anew: the void event makes that safe
	}
	return l
}

// Restart has the load begin anew: with a void event, which takes away what was read so far.
func (l *TableLoad) Restart() {
	l.Progress = Progress{Task: l.Progress.Anew()}
	l.Turn++
}

// Record begins to keep changes from a place on, where they are not kept already.
func (l *TableLoad) Record(from stream.Place) {
	if !l.recording {
		l.recording, l.Floor, l.changes, l.bytes = true, from, nil, 0
	}
}

// Observe keeps a changed row of a group that ends at a place.
func (l *TableLoad) Observe(at stream.Place, was, is, after []change.Value) {
	if l.recording {
		l.keep(overlaid{Change: load.ChangeOf(was, is, after), at: at})
	}
}

func (l *TableLoad) keep(o overlaid) {
	if l.bytes += o.Size(); l.bytes > load.MaxOverlay {
		// What is being read has to be read again, from a later snapshot.
		l.changes, l.bytes, l.Floor = nil, 0, o.at
		return
	}
	l.changes = append(l.changes, o)
}

// Disturb keeps that the table's definition has changed in a group that ends at a place.
func (l *TableLoad) Disturb(at stream.Place) {
	if l.recording {
		l.keep(overlaid{at: at, ddl: true})
	}
}

// Prune forgets what no later snapshot can need.
func (l *TableLoad) Prune(low stream.Place) {
	n := 0
	for n < len(l.changes) && !low.Before(l.changes[n].at) {
		n++
	}
	if n == 0 {
		return
	}
	l.changes = slices.Delete(l.changes, 0, n)
	l.Floor, l.bytes = low, 0
	for i := range l.changes {
		l.bytes += l.changes[i].Size()
	}
}

// Between are the changes behind low; ddl reports whether the definition changed there.
func (l *TableLoad) Between(low stream.Place) (changes []overlaid, ddl bool) {
	for _, o := range l.changes {
		if low.Before(o.at) {
			changes = append(changes, o)
			ddl = ddl || o.ddl
		}
	}
	return changes, ddl
}
