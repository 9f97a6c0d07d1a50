package mariadb

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

// progress is how far a table's load is; it is stored with the events.
type progress struct {
	load.Task
	// After is the key of the last row that was read, as literals of the server's language.
	After []string `json:"after,omitempty"`
}

// tableLoad is a table's load as the log sees it; the sink's lock guards it.
type tableLoad struct {
	progress progress
	// taken is set while a session reads for it.
	taken bool
	// turn counts how often the load began anew in this run.
	turn int
	// refused counts the values that were too large, in this run.
	refused int
	// limit is how many rows the next chunk has.
	limit int
	// recording is set once changes are kept; floor is the place from which on they are.
	recording bool
	floor     stream.Place
	changes   []overlaid
	bytes     int
	// sound is the newest place up to which a snapshot was known to see every commit.
	sound stream.Place
	// unsure counts the snapshots in a row of which that was not known.
	unsure int
	// listed and layout are what was looked up last, when the table had that version.
	listed  *catalogue.Table
	layout  *rows.Layout
	version int
}

// overlaid is one change of a row, or of the table's definition.
type overlaid struct {
	load.Change
	at  stream.Place // the end of its group
	ddl bool
}

func (o *overlaid) change() *load.Change { return &o.Change }

// restoredLoad is the load that is on record.
func restoredLoad(stored []byte) *tableLoad {
	l := new(tableLoad)
	if stored != nil && json.Unmarshal(stored, &l.progress) != nil {
		l.progress = progress{} // begin anew: the void event makes that safe
	}
	return l
}

// restart has the load begin anew: with a void event, which takes away what was read so far.
func (l *tableLoad) restart() {
	l.progress = progress{Task: l.progress.Anew()}
	l.turn++
}

// record begins to keep changes from a place on, where they are not kept already.
func (l *tableLoad) record(from stream.Place) {
	if !l.recording {
		l.recording, l.floor, l.changes, l.bytes = true, from, nil, 0
	}
}

// observe keeps a changed row of a group that ends at a place.
func (l *tableLoad) observe(at stream.Place, was, is, after []change.Value) {
	if l.recording {
		l.keep(overlaid{Change: load.ChangeOf(was, is, after), at: at})
	}
}

func (l *tableLoad) keep(o overlaid) {
	if l.bytes += o.Size(); l.bytes > load.MaxOverlay {
		// What is being read has to be read again, from a later snapshot.
		l.changes, l.bytes, l.floor = nil, 0, o.at
		return
	}
	l.changes = append(l.changes, o)
}

// disturb keeps that the table's definition has changed in a group that ends at a place.
func (l *tableLoad) disturb(at stream.Place) {
	if l.recording {
		l.keep(overlaid{at: at, ddl: true})
	}
}

// prune forgets what no later snapshot can need.
func (l *tableLoad) prune(low stream.Place) {
	n := 0
	for n < len(l.changes) && !low.Before(l.changes[n].at) {
		n++
	}
	if n == 0 {
		return
	}
	l.changes = slices.Delete(l.changes, 0, n)
	l.floor, l.bytes = low, 0
	for i := range l.changes {
		l.bytes += l.changes[i].Size()
	}
}

// between are the changes behind low; ddl reports whether the definition changed there.
func (l *tableLoad) between(low stream.Place) (changes []overlaid, ddl bool) {
	for _, o := range l.changes {
		if low.Before(o.at) {
			changes = append(changes, o)
			ddl = ddl || o.ddl
		}
	}
	return changes, ddl
}
