package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/pgoutput"
)

// A load reads a table in pieces while the table is followed. A commit stands in
// the log, and can reach us, before a query can see it, so that a piece, read
// between two marks in the stream, is laid over with the transactions that its
// snapshot did not see. tableLoad holds what the stream knows for that; loading.go
// hands pieces out to the sessions that read them.
//
// By range, a piece is what lies on some pages of the table's file. Pieces are
// read in any order, several at once. A row that an update moves to pages that
// have been read before is in no piece: its update is in the stream, and where
// that left a value out, the row is read again by its key. By key, one piece
// follows the other. A table without a key is read as a whole, in one snapshot.

// The ways of walking through a table.
const (
	byRange = "range"
	byKey   = "key"
	inFull  = "whole"
)

// progress is how far a table's load is; it is stored with the events.
type progress struct {
	// By is how the load walks; it is decided when it begins.
	By string `json:"by,omitempty"`
	// Began is true once the void event stands in the journal, Sized once the
	// table's pages have been counted, which is after that.
	Began bool `json:"began"`
	Sized bool `json:"sized,omitempty"`
	// Of a load by range: the table's file and its pages when the load began,
	// the first page that has not been handed out, and the pieces that have been
	// and are not in the journal yet.
	File   uint32  `json:"file,omitempty"`
	Pages  int64   `json:"pages,omitempty"`
	Next   int64   `json:"next,omitempty"`
	Pieces []piece `json:"pieces,omitempty"`
	// After is the key of the last row that was read in the order of the key, in
	// the server's own text.
	After []string `json:"after,omitempty"`
	// Keys are those to be read again: of rows that the log left a value out of.
	Keys [][]string `json:"again,omitempty"`
	// Read is true once all but Keys is in the journal.
	Read bool `json:"read,omitempty"`
	// Restarts counts how often the load had to begin anew.
	Restarts int `json:"restarts,omitempty"`
	// Kind says which rows are read. Of a part, Where chooses rows in the engine's own
	// language, or Leaves are the partitions that are read, one after the other. Then and
	// ThenNote are the table's state after anything but a full load. A refetch reads Keys.
	Kind     load.Kind `json:"kind,omitempty"`
	Where    string    `json:"where,omitempty"`
	Leaves   []string  `json:"leaves,omitempty"`
	Then     string    `json:"then,omitempty"`
	ThenNote string    `json:"then_note,omitempty"`
	// From is where in the log the load began.
	From LSN `json:"from"`
}

// read takes progress that is on record, be it of an earlier version, which had a word
// for each kind.
func (p *progress) read(stored []byte) error {
	var former struct {
		Partial bool `json:"partial"`
		Entered bool `json:"entered"`
	}
	if err := json.Unmarshal(stored, &former); err != nil {
		return err
	}
	switch {
	case former.Entered:
		p.Kind = load.Refetch
	case former.Partial:
		p.Kind = load.Part
	}
	return json.Unmarshal(stored, p)
}

// piece is a range of row places: behind From and before To.
type piece struct {
	From place `json:"from"`
	To   place `json:"to"`
}

// place is where a row lies: a page and a number on it, as ctid has them.
type place struct {
	Page int64 `json:"page"`
	Row  int   `json:"row,omitempty"`
}

const (
	// maxRefetch bounds progress.Keys; a load by range that needs more begins anew
	// by key, where a row seldom has to be read again.
	maxRefetch = 5000
	// refetchBatch keys are read again in one piece.
	refetchBatch = 200
	// maxOverlay bounds what a piece holds of the stream between its marks.
	maxOverlay = 16 << 20
)

// tableLoad is a table's load as the stream sees it; the sink's lock guards it.
type tableLoad struct {
	progress progress
	// ready is false until nobody writes to the table any more who began before
	// it was published.
	ready bool
	// apart is set once the load could not be done with others.
	apart bool
	// alone is set while one session does what no other may do beside it.
	alone bool
	// out are the pieces that sessions are reading now.
	out []piece
	// turn counts how often the load began anew in this run: what was read for
	// an earlier one is thrown away.
	turn    int
	windows []*window
	// refused counts the values that were too large, in this run.
	refused int
	// asked are the keys that were asked for while others are being read again, by
	// the key as rows have it; nil while none are.
	asked map[string][]string
}

// window is a piece between its marks, as the stream sees it.
type window struct {
	turn    int
	voided  bool // truncated or too much to hold: read the piece again
	layouts []*layout
	overlay []overlaid
	held    int
	touched []uint32 // transactions on the table, where no overlay is kept
}

// overlaid is one change between a piece's marks.
type overlaid struct {
	xid       uint32
	operation change.Operation
	key       string // of the row before the change
	newKey    string // where the key changed
	rekeyed   bool
	after     []change.Value
}

// wantFull gives a table a load of all its rows, from the beginning: what an
// earlier one read was before changes that are in no stream.
func (r *run) wantFull(t *table) {
	if t.load == nil {
		t.load = new(tableLoad)
		return
	}
	t.load.progress = progress{Restarts: t.load.progress.Restarts}
	t.load.restart()
	t.load.ready = false
}

// wantLoad gives a table the load that is on record, which goes on once releaseLoad
// says so.
func (r *run) wantLoad(t *table) {
	if t.load != nil {
		return
	}
	l := new(tableLoad)
	if t.state.Progress != nil {
		if err := l.progress.read(t.state.Progress); err != nil {
			l.progress = progress{} // begin anew: the void event makes that safe
		}
	}
	if l.progress.By == inFull {
		l.progress = l.progress.anew() // its snapshot went with the last run
	}
	t.load = l
}

// keepReloading takes on what somebody wants to be read anew.
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
		t.load = &tableLoad{progress: progress{Kind: load.Part, Where: where, Then: t.state.State, ThenNote: t.state.Note}}
	default:
		r.wantFull(t)
		t.load.progress = progress{}
	}
	t.state.State, t.state.Note, t.state.RowsDone = engine.StateToLoad, "", 0
	r.sink.Table(t.progressState())
	r.sink.Touch()
	r.releaseLoad(t)
	return nil
}

// releaseLoad lets a table's load begin.
func (r *run) releaseLoad(t *table) {
	if t.load != nil && !t.load.ready {
		t.load.ready = true
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
	t.state.Progress, t.state.Identity = nil, t.id.encode()
	if t.load != nil {
		encoded, err := json.Marshal(t.load.progress)
		if err != nil {
			panic(err) // strings and numbers always marshal
		}
		t.state.Progress = encoded
	}
	return t.state
}

// anew is the progress of a load that begins again.
func (p *progress) anew() progress {
	return progress{Kind: p.Kind, Where: p.Where, Leaves: p.Leaves, Then: p.Then, ThenNote: p.ThenNote, Restarts: p.Restarts + 1}
}

// restart has the load begin anew: with a void event, which takes away what was
// read so far.
func (l *tableLoad) restart() {
	if l.progress.Kind != load.Refetch { // what that has to read stays the same
		l.progress = l.progress.anew()
	}
	l.turn++
	l.out, l.asked = nil, nil
	for _, w := range l.windows {
		w.voided, w.overlay = true, nil
	}
}

// movesRows reports whether an update may take a row out of what is yet to be read.
func (l *tableLoad) movesRows() bool { return l.progress.Began && l.progress.By == byRange }

func (l *tableLoad) open() *window {
	w := &window{turn: l.turn}
	l.windows = append(l.windows, w)
	return w
}

func (l *tableLoad) close(w *window) {
	l.windows = slices.DeleteFunc(l.windows, func(other *window) bool { return other == w })
}

func (l *tableLoad) relationChanged(now *layout) {
	for _, w := range l.windows {
		w.layouts = append(w.layouts, now)
	}
}

func (l *tableLoad) observe(xid uint32, from *layout, row *change.Row) {
	if len(l.windows) == 0 {
		return
	}
	if len(from.schema.Key()) == 0 {
		for _, w := range l.windows {
			if n := len(w.touched); n == 0 || w.touched[n-1] != xid {
				w.touched = append(w.touched, xid)
			}
		}
		return
	}
	image := row.After
	if row.Operation == change.Delete {
		image = row.Before
	}
	key := make([]change.Value, 0, 4)
	for _, i := range from.schema.Key() {
		key = append(key, image[i])
	}
	l.keep(overlaid{xid: xid, operation: row.Operation, key: change.RowKey(key), after: change.CloneImage(row.After)})
}

func (l *tableLoad) observeRekey(xid uint32, oldKey, newKey, after []change.Value) {
	if len(l.windows) > 0 {
		l.keep(overlaid{xid: xid, operation: change.Update, key: change.RowKey(oldKey), newKey: change.RowKey(newKey), rekeyed: true, after: change.CloneImage(after)})
	}
}

func (l *tableLoad) keep(o overlaid) {
	size := 128 + len(o.key) + len(o.newKey)
	for _, v := range o.after {
		size += 32 + len(v.Text)
	}
	for _, w := range l.windows {
		if w.voided {
			continue
		}
		if w.held += size; w.held > maxOverlay {
			w.voided, w.overlay = true, nil
			continue
		}
		w.overlay = append(w.overlay, o)
	}
}

// observeTruncate has what is being read now read again. What has been read of a
// whole went with the truncate, but its snapshot would still bring the rest.
func (l *tableLoad) observeTruncate() {
	for _, w := range l.windows {
		w.voided, w.overlay = true, nil
	}
	if l.progress.By == inFull && l.progress.Began {
		l.restart()
	}
}

// readAgain asks for a row to be read by its key, of which after is the image;
// was is the old row where the key has changed. It reports whether it noted
// anything.
//
// Once every piece is in the journal, a row is there whole, or waits to be read
// again. From then on only a row that waits is asked for under its new key, so
// that the rows to be read again become fewer, however much is written.
func (l *tableLoad) readAgain(from *layout, was, raw []pgoutput.TupleColumn, after []change.Value) bool {
	p := &l.progress
	if !p.Began || p.By == inFull {
		return false
	}
	if p.Read && len(p.Pieces) == 0 && (was == nil || !p.waits(from.keyText(was))) {
		return false
	}
	return l.ask(from, raw, after)
}

// keyText is the key of a row in the server's own text.
func (l *layout) keyText(row []pgoutput.TupleColumn) []string {
	key := make([]string, 0, 4)
	for _, i := range l.schema.Key() {
		key = append(key, string(row[l.from[i]].Data))
	}
	return key
}

// waits reports whether a key is to be read again.
func (p *progress) waits(key []string) bool {
	return slices.ContainsFunc(p.Keys, func(other []string) bool { return slices.Equal(key, other) })
}

// haveRead takes keys that were read again off the list, of which rows is what
// was found, laid over to the piece's end. A key that was asked for meanwhile
// stays unless a row was found under it: one may have come that the piece's
// snapshot did not see.
func (l *tableLoad) haveRead(keys [][]string, schema *change.Schema, rows [][]change.Value) {
	p := &l.progress
	off := slices.Clone(keys)
	if len(l.asked) > 0 {
		keyed := schema.Key()
		values := make([]change.Value, len(keyed))
		for _, row := range rows {
			for i, at := range keyed {
				values[i] = row[at]
			}
			if key := l.asked[change.RowKey(values)]; key != nil {
				off = append(off, key)
				delete(l.asked, change.RowKey(values))
			}
		}
	}
	p.Keys = slices.DeleteFunc(p.Keys, func(key []string) bool {
		return slices.ContainsFunc(off, func(other []string) bool { return slices.Equal(key, other) })
	})
	for _, key := range l.asked {
		if !p.waits(key) {
			p.Keys = append(p.Keys, key)
		}
	}
	l.asked = nil
}

// complete reports whether everything is in the journal.
func (p *progress) complete() bool {
	return p.Read && len(p.Keys) == 0 && len(p.Pieces) == 0
}

// layOver applies to a piece what came in the stream between its marks and what
// its snapshot did not see.
func layOver(read *chunkRows, overlay []overlaid) [][]change.Value {
	overlay = slices.DeleteFunc(overlay, func(o overlaid) bool { return read.seen.sees(o.xid) })
	if len(overlay) == 0 {
		return read.rows
	}
	keyed := read.layout.schema.Key()
	byKey := make(map[string]int, len(read.rows))
	key := make([]change.Value, len(keyed))
	for i, row := range read.rows {
		for j, at := range keyed {
			key[j] = row[at]
		}
		byKey[change.RowKey(key)] = i
	}
	for _, o := range overlay {
		i, found := byKey[o.key]
		if !found {
			continue // its own event in the journal is all there is to it
		}
		if o.operation == change.Delete {
			read.rows[i] = nil
			delete(byKey, o.key)
			continue
		}
		for column, v := range o.after {
			if v.Presence != change.Omitted {
				read.rows[i][column] = v
			}
		}
		if o.rekeyed {
			delete(byKey, o.key)
			byKey[o.newKey] = i
		}
	}
	return slices.DeleteFunc(read.rows, func(row []change.Value) bool { return row == nil })
}
