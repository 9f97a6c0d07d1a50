package rows

import (
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
)

// Writer makes events of changed rows. The sink's lock guards it.
type Writer struct {
	Sink engine.Sink
	// Largest is the size in bytes above which a value is left out.
	Largest int64
	// Observe, where not nil, sees each change of a row that brings events: its key before
	// and after, nil where there is none, and the row after it as events have it. An update
	// that leaves the key alone may come without the key before. All of it is good during
	// the call only.
	Observe func(was, is, after []change.Value)
	// Refused is called where values of a row of a table were left out, key being the
	// row's in words.
	Refused func(table, key string)

	row   change.Row
	arena []byte
	image [2][]change.Value
	keys  [2][]change.Value
	large map[string]int64
}

// Brings reports whether a change brings an event, and which effect the rule's filter
// gives an update. One of before and after is nil for an insert and a delete.
func (l *Layout) Brings(before, after []change.Value) (expression.Effect, bool) {
	if !l.Rule.Filtered() {
		return expression.Changes, true
	}
	old := func(i int) change.Value { return before[i] }
	now := func(i int) change.Value { return after[i] }
	switch {
	case before == nil:
		return expression.Changes, l.Verdict(now) != expression.Fails
	case after == nil:
		return expression.Changes, l.Verdict(old) != expression.Fails
	}
	return l.Concerns(l.Verdict(old), l.Verdict(now), func() bool {
		return slices.ContainsFunc(l.From, func(i int) bool { return !before[i].Equal(after[i]) })
	})
}

// Lacking reports whether a change leaves consumers without a value that they cannot know:
// one that the log left out of a row that may be new to them, or that the filter asks for.
// before and after are as for [Layout.Brings], of which effect came.
func (l *Layout) Lacking(effect expression.Effect, before, after []change.Value) bool {
	if after == nil || effect == expression.Leaves {
		return false // nothing of the new row goes out
	}
	verdict := func(image []change.Value) expression.Verdict {
		return l.Verdict(func(i int) change.Value { return image[i] })
	}
	if verdict(after) == expression.Unknown {
		return true
	}
	isNew := before == nil || effect == expression.Enters || verdict(before) == expression.Unknown
	return isNew && slices.ContainsFunc(l.From, func(i int) bool { return after[i].Presence == change.Omitted })
}

// maxArena is the room for a row's values that is kept for the next.
const maxArena = 1 << 20

// Write adds what a change of a row of the source brings, effect being what
// [Layout.Brings] said. A unit and a transaction are open.
func (w *Writer) Write(l *Layout, place uint64, effect expression.Effect, before, after []change.Value) {
	w.Next()
	switch {
	case before == nil:
		w.Insert(l, place, w.Project(l, after, 1))
	case after == nil:
		w.Delete(l, place, w.Project(l, before, 0))
	default:
		was := w.Project(l, before, 0)
		w.Update(l, place, effect, was, w.Project(l, after, 1), false)
	}
}

// Next forgets the last row; its room is used again.
func (w *Writer) Next() {
	w.arena, w.large = w.arena[:0], nil
	if cap(w.arena) > maxArena {
		w.arena = nil // a large row's room is given back
	}
}

// LeaveOut notes that a value of the row at hand, of so many bytes, is left out of it.
func (w *Writer) LeaveOut(column string, size int64) {
	if w.large == nil {
		w.large = make(map[string]int64)
	}
	w.large[column] = size
}

// Insert adds the event of a row that came, as events have it.
func (w *Writer) Insert(l *Layout, place uint64, is []change.Value) {
	w.add(l, change.Row{Operation: change.Insert, Place: place, After: is}, nil, is)
}

// Delete adds the event of a row that went, as events have it. It may change was.
func (w *Writer) Delete(l *Layout, place uint64, was []change.Value) {
	w.add(l, change.Row{Operation: change.Delete, Place: place, Before: l.recorded(was)}, was, nil)
}

// Update adds the events of a row that changed, as events have it. Of the old row only the
// key may be known, which keyOnly says; it is nil where the log has nothing of it, and the
// key is as it was. Of a row that leaves the filter, was is its key at least. Update may
// change was.
func (w *Writer) Update(l *Layout, place uint64, effect expression.Effect, was, is []change.Value, keyOnly bool) {
	switch {
	case effect == expression.Leaves:
		w.Delete(l, place, was)
	case effect == expression.Enters:
		w.Insert(l, place, is)
	case was != nil && w.keyChanged(l, was, is):
		w.rekey(l, place, was, is)
	default:
		row := change.Row{Operation: change.Update, Place: place, After: is}
		if l.Rule.Image == rules.ImageBoth && !keyOnly {
			row.Before = was
		}
		w.add(l, row, was, is)
	}
}

// add puts a row on record, and has it observed.
func (w *Writer) add(l *Layout, row change.Row, was, is []change.Value) {
	w.row = row
	w.row.Schema, w.row.Table = l.Schema, l.Schema.Table
	w.refuse(l, &w.row)
	w.Sink.Add(&w.row)
	if w.Observe != nil {
		w.Observe(w.key(l, was, 0), w.key(l, is, 1), is)
	}
}

// Existing adds a row that a load found. A unit and a transaction are open; the row is one
// that Project made, with what it left out. only is the outlet that it is for, 0 for
// everybody.
func (w *Writer) Existing(l *Layout, place uint64, row []change.Value, large map[string]int64, only int64) {
	w.row = change.Row{For: only, Operation: change.Existing, Schema: l.Schema, Table: l.Schema.Table, Place: place, After: row}
	w.large = large
	w.refuse(l, &w.row)
	w.Sink.Add(&w.row)
}

// Project is a row of the source as events have it, in room that is used again for the next
// of the same half.
func (w *Writer) Project(l *Layout, row []change.Value, half int) []change.Value {
	n := len(l.From)
	image := slices.Grow(w.image[half][:0], n)[:n]
	w.image[half] = image
	for i, from := range l.From {
		image[i] = w.treat(l, i, row[from])
	}
	return image
}

// Fresh gives the rows that are projected from now on room of their own: those before keep
// theirs.
func (w *Writer) Fresh() { w.arena = nil }

// Large is what the last rows that were projected had left out: sizes by column; it is
// forgotten with the call.
func (w *Writer) Large() map[string]int64 {
	large := w.large
	w.large = nil
	return large
}

func (w *Writer) treat(l *Layout, i int, v change.Value) change.Value {
	if v.Presence != change.Present {
		return v
	}
	if l.Treat[i] == rules.Keep {
		if int64(len(v.Text)) > w.Largest {
			w.LeaveOut(l.Schema.Columns[i].Name, int64(len(v.Text)))
			return change.Value{}
		}
		return v
	}
	start := len(w.arena)
	w.arena = l.Treated(w.arena, i, v.Text)
	return change.Value{Presence: change.Present, Text: w.arena[start:len(w.arena):len(w.arena)]}
}

// recorded is what a rule records of an old row.
func (l *Layout) recorded(before []change.Value) []change.Value {
	if l.Rule.Image == rules.ImageBoth || len(l.Schema.Key()) == 0 {
		return before
	}
	for i := range before {
		if l.Schema.Columns[i].Key == 0 {
			before[i] = change.Value{}
		}
	}
	return before
}

// key is the key of an image; nil for no image.
func (w *Writer) key(l *Layout, image []change.Value, half int) []change.Value {
	if image == nil {
		return nil
	}
	w.keys[half] = w.keys[half][:0]
	for _, i := range l.Schema.Key() {
		w.keys[half] = append(w.keys[half], image[i])
	}
	return w.keys[half]
}

func (w *Writer) keyChanged(l *Layout, before, after []change.Value) bool {
	for _, i := range l.Schema.Key() {
		if !before[i].Equal(after[i]) {
			return true
		}
	}
	return false
}

// rekey makes a changed key a delete of the old row and an insert of the new one, each
// with the other's key.
func (w *Writer) rekey(l *Layout, place uint64, before, after []change.Value) {
	was, is := w.key(l, before, 0), w.key(l, after, 1)
	w.row = change.Row{Operation: change.Delete, Schema: l.Schema, Table: l.Schema.Table, Place: place, Before: l.recorded(before), Rekeyed: is}
	w.Sink.Add(&w.row)
	w.row.Operation, w.row.Before, w.row.After, w.row.Rekeyed = change.Insert, nil, after, was
	w.refuse(l, &w.row)
	w.Sink.Add(&w.row)
	w.row.Body = nil
	if w.Observe != nil {
		w.Observe(was, is, after)
	}
}

// refuse puts what was left out of a row on record in its event.
func (w *Writer) refuse(l *Layout, row *change.Row) {
	large := w.Large()
	if len(large) == 0 {
		return
	}
	row.Body = change.TooLargeBody(large)
	image := row.After
	if image == nil {
		image = row.Before
	}
	parts := make([]string, 0, 2)
	for _, i := range l.Schema.Key() {
		parts = append(parts, l.Schema.Columns[i].Name+" "+string(image[i].Text))
	}
	key := strings.Join(parts, ", ")
	for column, size := range large {
		w.Sink.Report(engine.Report{Level: "error", Event: "value-too-large", Message: fmt.Sprintf("%s, %s: the value of column %s, of %d bytes, is larger than largest_value and left out", l.Schema.Table, key, column, size)})
	}
	if w.Refused != nil {
		w.Refused(l.Schema.Table, key)
	}
}
