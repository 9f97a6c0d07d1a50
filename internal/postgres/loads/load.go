// Package loads is what is left of a table's load, and what the stream brings meanwhile:
// pieces between two marks, the changes that are laid over them, keys to read again.
package loads

import (
	"encoding/json"
	"slices"

	"rillmark/internal/capture/load"
	"rillmark/internal/change"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/chunk"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
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
	ByRange = "range"
	ByKey   = "key"
	InFull  = "whole"
)

// Progress is how far a table's load is; it is stored with the events.
type Progress struct {
	load.Task
	// By is how the load walks; it is decided when it begins.
	By string `json:"by,omitempty"`
	// Sized is true once the table's pages have been counted, which is after the void event.
	Sized bool `json:"sized,omitempty"`
	// Of a load by range: the table's file and its pages when the load began,
	// the first page that has not been handed out, and the pieces that have been
	// and are not in the journal yet.
	File   uint32        `json:"file,omitempty"`
	Pages  int64         `json:"pages,omitempty"`
	Next   int64         `json:"next,omitempty"`
	Pieces []chunk.Piece `json:"pieces,omitempty"`
	// After is the key of the last row that was read in the order of the key, in
	// the server's own text.
	After []string `json:"after,omitempty"`
	// Keys are those to be read again: of rows that the log left a value out of. A refetch
	// reads nothing else.
	Keys [][]string `json:"again,omitempty"`
	// Read is true once all but Keys is in the journal.
	Read bool `json:"read,omitempty"`
	// From is where in the log the load began.
	From session.LSN `json:"from"`
}

// Restore takes progress that is on record, be it of an earlier version, which had a word
// for each kind.
func (p *Progress) Restore(stored []byte) error {
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

const (
	// MaxRefetch bounds progress.Keys; a load by range that needs more begins anew
	// by key, where a row seldom has to be read again.
	MaxRefetch = 5000
	// RefetchBatch keys are read again in one piece.
	RefetchBatch = 200
)

// TableLoad is a table's load as the stream sees it; the sink's lock guards it.
type TableLoad struct {
	Progress Progress
	// Ready is false until nobody writes to the table any more who began before
	// it was published.
	Ready bool
	// Apart is set once the load could not be done with others.
	Apart bool
	// Alone is set while one session does what no other may do beside it.
	Alone bool
	// Out are the pieces that sessions are reading now.
	Out []chunk.Piece
	// Turn counts how often the load began anew in this run: what was read for
	// an earlier one is thrown away.
	Turn    int
	windows []*Window
	// Refused counts the values that were too large, in this run.
	Refused int
	// Asked are the keys that were asked for while others are being read again, by
	// the key as rows have it; nil while none are.
	Asked map[string][]string
}

// Window is a piece between its marks, as the stream sees it.
type Window struct {
	turn    int
	Voided  bool // truncated or too much to hold: read the piece again
	Layouts []*catalogue.Layout
	Overlay []Overlaid
	held    int
	Touched []uint32 // transactions on the table, where no overlay is kept
}

// Overlaid is one change between a piece's marks.
type Overlaid struct {
	load.Change
	Xid uint32
}

// Anew is the progress of a load that begins again.
func (p *Progress) Anew() Progress { return Progress{Task: p.Task.Anew()} }

// Restart has the load begin anew: with a void event, which takes away what was
// read so far.
func (l *TableLoad) Restart() {
	if l.Progress.Kind != load.Refetch { // what that has to read stays the same
		l.Progress = l.Progress.Anew()
	}
	l.Turn++
	l.Out, l.Asked = nil, nil
	for _, w := range l.windows {
		w.Voided, w.Overlay = true, nil
	}
}

// MovesRows reports whether an update may take a row out of what is yet to be read.
func (l *TableLoad) MovesRows() bool { return l.Progress.Began && l.Progress.By == ByRange }

func (l *TableLoad) Open() *Window {
	w := &Window{turn: l.Turn}
	l.windows = append(l.windows, w)
	return w
}

func (l *TableLoad) Close(w *Window) {
	l.windows = slices.DeleteFunc(l.windows, func(other *Window) bool { return other == w })
}

func (l *TableLoad) RelationChanged(now *catalogue.Layout) {
	for _, w := range l.windows {
		w.Layouts = append(w.Layouts, now)
	}
}

// Observe takes a changed row: its key before and after, nil where there is none, and the
// row after it. All of it is good during the call only.
func (l *TableLoad) Observe(xid uint32, was, is, after []change.Value) {
	if len(l.windows) == 0 {
		return
	}
	key := is
	if after == nil {
		key = was
	} else {
		was = is
	}
	if len(key) == 0 {
		for _, w := range l.windows {
			if n := len(w.Touched); n == 0 || w.Touched[n-1] != xid {
				w.Touched = append(w.Touched, xid)
			}
		}
		return
	}
	l.keep(Overlaid{load.ChangeOf(was, is, after), xid})
}

func (l *TableLoad) ObserveRekey(xid uint32, oldKey, newKey, after []change.Value) {
	if len(l.windows) > 0 {
		l.keep(Overlaid{load.ChangeOf(oldKey, newKey, after), xid})
	}
}

func (l *TableLoad) keep(o Overlaid) {
	size := o.Size()
	for _, w := range l.windows {
		if w.Voided {
			continue
		}
		if w.held += size; w.held > load.MaxOverlay {
			w.Voided, w.Overlay = true, nil
			continue
		}
		w.Overlay = append(w.Overlay, o)
	}
}

// ObserveTruncate has what is being read now read again. What has been read of a
// whole went with the truncate, but its snapshot would still bring the rest.
func (l *TableLoad) ObserveTruncate() {
	for _, w := range l.windows {
		w.Voided, w.Overlay = true, nil
	}
	if l.Progress.By == InFull && l.Progress.Began {
		l.Restart()
	}
}

// ReadAgain asks for a row to be read by its key, of which after is the image;
// was is the old row where the key has changed. It reports whether it noted
// anything.
//
// Once every piece is in the journal, a row is there whole, or waits to be read
// again. From then on only a row that waits is asked for under its new key, so
// that the rows to be read again become fewer, however much is written.
func (l *TableLoad) ReadAgain(from *catalogue.Layout, was, raw []pgoutput.TupleColumn, after []change.Value) bool {
	p := &l.Progress
	if !p.Began || p.By == InFull {
		return false
	}
	if p.Read && len(p.Pieces) == 0 && (was == nil || !p.waits(from.KeyText(was))) {
		return false
	}
	return l.Ask(from, raw, after)
}

// waits reports whether a key is to be read again.
func (p *Progress) waits(key []string) bool {
	return slices.ContainsFunc(p.Keys, func(other []string) bool { return slices.Equal(key, other) })
}

// HaveRead takes keys that were read again off the list, of which rows is what
// was found, laid over to the piece's end. A key that was asked for meanwhile
// stays unless a row was found under it: one may have come that the piece's
// snapshot did not see.
func (l *TableLoad) HaveRead(keys [][]string, schema *change.Schema, rows [][]change.Value) {
	p := &l.Progress
	off := slices.Clone(keys)
	if len(l.Asked) > 0 {
		keyed := schema.Key()
		values := make([]change.Value, len(keyed))
		for _, row := range rows {
			for i, at := range keyed {
				values[i] = row[at]
			}
			if key := l.Asked[change.RowKey(values)]; key != nil {
				off = append(off, key)
				delete(l.Asked, change.RowKey(values))
			}
		}
	}
	p.Keys = slices.DeleteFunc(p.Keys, func(key []string) bool {
		return slices.ContainsFunc(off, func(other []string) bool { return slices.Equal(key, other) })
	})
	for _, key := range l.Asked {
		if !p.waits(key) {
			p.Keys = append(p.Keys, key)
		}
	}
	l.Asked = nil
}

// Complete reports whether everything is in the journal.
func (p *Progress) Complete() bool {
	return p.Read && len(p.Keys) == 0 && len(p.Pieces) == 0
}

// LayOver applies to a piece what came in the stream between its marks and what
// its snapshot did not see.
func LayOver(read *chunk.Rows, overlay []Overlaid) [][]change.Value {
	overlay = slices.DeleteFunc(overlay, func(o Overlaid) bool { return read.Seen.Sees(o.Xid) })
	return load.LayOver(read.Rows, read.Layout.Schema, overlay, func(o *Overlaid) *load.Change { return &o.Change })
}

// Refetch is a load of rows that have entered the filter, and of nothing else.
func Refetch(from session.LSN) *TableLoad {
	return &TableLoad{Ready: true, Progress: Progress{Task: load.Task{Began: true, Kind: load.Refetch}, By: ByKey, Read: true, From: from}}
}

// Ask puts a row's key among those to be read again, and reports whether that is new.
func (l *TableLoad) Ask(from *catalogue.Layout, raw []pgoutput.TupleColumn, after []change.Value) bool {
	p := &l.Progress
	key := from.KeyText(raw)
	if l.Asked != nil {
		values := make([]change.Value, 0, 4)
		for _, i := range from.Schema.Key() {
			values = append(values, after[i])
		}
		l.Asked[change.RowKey(values)] = slices.Clone(key)
	}
	switch {
	case p.waits(key):
		return false
	case len(p.Keys) >= MaxRefetch:
		l.Restart()
	default:
		p.Keys = append(p.Keys, key)
	}
	return true
}
