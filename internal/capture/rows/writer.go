package rows

import (
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// Writer makes events of changed rows. The sink's lock guards it.
type Writer struct {
	Sink engine.Sink
	// Largest is the size in bytes above which a value is left out.
	Largest int64
	// Observe, where not nil, sees each change of a row that brings events: its key before
	// and after, nil where there is none, and the row after it as events have it. All of
	// it is good during the call only.
	Observe func(was, is, after []change.Value)
	// Refused is called where values of a row were left out, key being the row's in words.
	Refused func(key string)

	row   change.Row
	arena []byte
	image [2][]change.Value
	keys  [2][]change.Value
	large map[string]int64
}

// Brings reports whether a change brings an event, and which effect the rule's filter
// gives an update. One of before and after is nil for an insert and a delete.
func (l *Layout) Brings(before, after []change.Value) (rules.Effect, bool) {
	if !l.Rule.Filtered() {
		return rules.Changes, true
	}
	switch {
	case before == nil:
		return rules.Changes, l.Verdict(after) != rules.Fails
	case after == nil:
		return rules.Changes, l.Verdict(before) != rules.Fails
	}
	was, is := l.Verdict(before), l.Verdict(after)
	effect := rules.EffectOf(was, is)
	if effect == rules.Nothing {
		return effect, false
	}
	if !l.Rule.SkipUntouched || was != is {
		return effect, true
	}
	return effect, slices.ContainsFunc(l.From, func(i int) bool { return !before[i].Equal(after[i]) })
}

// maxArena is the room for a row's values that is kept for the next.
const maxArena = 1 << 20

// Write adds what a change of a row brings, effect being what [Layout.Brings] said. A unit
// and a transaction are open.
func (w *Writer) Write(l *Layout, place uint64, effect rules.Effect, before, after []change.Value) {
	w.arena, w.large = w.arena[:0], nil
	if cap(w.arena) > maxArena {
		w.arena = nil // a large row's room is given back
	}
	w.row = change.Row{Schema: l.Schema, Table: l.Schema.Table, Place: place}
	was, is := before, after
	if before != nil {
		was = w.Project(l, before, 0)
	}
	if after != nil {
		is = w.Project(l, after, 1)
	}
	switch {
	case was == nil:
		w.row.Operation, w.row.After = change.Insert, is
	case is == nil:
		w.row.Operation, w.row.Before = change.Delete, l.recorded(was)
	case effect == rules.Leaves:
		w.row.Operation, w.row.Before = change.Delete, l.recorded(was)
		is = nil
	case effect == rules.Enters:
		w.row.Operation, w.row.After = change.Insert, is
		was = nil
	case w.keyChanged(l, was, is):
		w.rekey(l, was, is)
		return
	default:
		w.row.Operation, w.row.After = change.Update, is
		if l.Rule.Image == rules.ImageBoth {
			w.row.Before = was
		}
	}
	w.refuse(l, &w.row)
	w.Sink.Add(&w.row)
	if w.Observe != nil {
		w.Observe(w.key(l, was, 0), w.key(l, is, 1), is)
	}
}

// Existing adds a row that a load found. A unit and a transaction are open; the row is one
// that Project made, with what it left out.
func (w *Writer) Existing(l *Layout, place uint64, row []change.Value, large map[string]int64) {
	w.row = change.Row{Operation: change.Existing, Schema: l.Schema, Table: l.Schema.Table, Place: place, After: row}
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
	start := len(w.arena)
	switch l.treat[i] {
	case rules.Mask:
		w.arena = rules.AppendMask(w.arena)
	case rules.Hash:
		w.arena = l.hash(w.arena, v.Text)
	case rules.Keep, rules.Drop:
		if int64(len(v.Text)) > w.Largest {
			if w.large == nil {
				w.large = make(map[string]int64)
			}
			w.large[l.Schema.Columns[i].Name] = int64(len(v.Text))
			return change.Value{}
		}
		return v
	}
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
func (w *Writer) rekey(l *Layout, before, after []change.Value) {
	was, is := w.key(l, before, 0), w.key(l, after, 1)
	w.row.Operation, w.row.Before, w.row.Rekeyed = change.Delete, l.recorded(before), is
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
		w.Refused(key)
	}
}
