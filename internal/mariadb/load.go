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
	// Began is true once the void event stands in the journal.
	Began bool `json:"began"`
	// After is the key of the last row that was read, as literals of the server's language.
	After []string `json:"after,omitempty"`
	// Restarts counts how often the load had to begin anew.
	Restarts int `json:"restarts,omitempty"`
	// Kind says which rows are read; of a part, Where chooses them, and Then and ThenNote
	// are the table's state afterwards.
	Kind     load.Kind `json:"kind,omitempty"`
	Where    string    `json:"where,omitempty"`
	Then     string    `json:"then,omitempty"`
	ThenNote string    `json:"then_note,omitempty"`
	// For is the outlet that the load is for alone. For anybody else the table goes on as
	// it was: its state afterwards is Then, too.
	For load.Audience `json:"for,omitzero"`
}

// apart reports whether the table's state is not what the load leads to, but what it was
// before.
func (p *progress) apart() bool { return p.Kind != load.Full || p.For.ID != 0 }

// maxOverlay bounds what a load holds of the log, in bytes.
const maxOverlay = 16 << 20

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
	at      stream.Place // the end of its group
	was, is string       // the keys; empty for none
	after   []change.Value
	ddl     bool
}

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
	p := l.progress
	l.progress = progress{Kind: p.Kind, Where: p.Where, Then: p.Then, ThenNote: p.ThenNote, For: p.For, Restarts: p.Restarts + 1}
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
	if !l.recording {
		return
	}
	o := overlaid{at: at, after: change.CloneImage(after)}
	if len(was) > 0 {
		o.was = change.RowKey(was)
	}
	if len(is) > 0 {
		o.is = change.RowKey(is)
	}
	l.keep(o)
}

func (l *tableLoad) keep(o overlaid) {
	size := 160 + len(o.was) + len(o.is)
	for _, v := range o.after {
		size += 32 + len(v.Text)
	}
	if l.bytes += size; l.bytes > maxOverlay {
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
	for _, o := range l.changes {
		l.bytes += 160 + len(o.was) + len(o.is)
		for _, v := range o.after {
			l.bytes += 32 + len(v.Text)
		}
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

// layOver applies changes to the rows of a chunk, whose keys are known by place in rows.
// A row that is not among them is in its own event.
func layOver(rows [][]change.Value, schema *change.Schema, changes []overlaid) [][]change.Value {
	if len(changes) == 0 {
		return rows
	}
	keyed := schema.Key()
	byKey := make(map[string]int, len(rows))
	key := make([]change.Value, len(keyed))
	for i, row := range rows {
		for j, at := range keyed {
			key[j] = row[at]
		}
		byKey[change.RowKey(key)] = i
	}
	for _, o := range changes {
		which := o.was
		if which == "" {
			which = o.is
		}
		i, found := byKey[which]
		if !found {
			continue
		}
		if o.is == "" {
			rows[i] = nil
			delete(byKey, which)
			continue
		}
		for column, v := range o.after {
			if v.Presence != change.Omitted {
				rows[i][column] = v
			}
		}
		if o.is != which {
			delete(byKey, which)
			byKey[o.is] = i
		}
	}
	return slices.DeleteFunc(rows, func(row []change.Value) bool { return row == nil })
}
