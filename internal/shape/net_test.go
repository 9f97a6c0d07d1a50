package shape

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
)

// recorded hands out events that are there already.
type recorded struct{ rest []change.Event }

func (r *recorded) Next(context.Context) (*change.Event, error) {
	if len(r.rest) == 0 {
		return nil, nil
	}
	e := &r.rest[0]
	r.rest = r.rest[1:]
	return e, nil
}

func (r *recorded) KeptBack(func(*change.Event, []change.Value)) {}

var noteSchema = change.NewSchema(change.PostgreSQL, "public.desk", []change.Column{{Name: "id", Type: "int64", Key: 1}, {Name: "note", Type: "string"}}, nil, false)

func noteRow(id int, note string) []change.Value {
	return []change.Value{change.Of(fmt.Sprint(id)), change.Of(note)}
}

// TestNetInShares compares the net of random changes with a fold, with room for all
// rows and with room for few, and with truncates in between.
func TestNetInShares(t *testing.T) {
	random := seeded.Random(t, 0)
	var events []change.Event
	rows := map[int]string{}
	for id := range 200 {
		rows[id] = "before"
	}
	for offset := int64(1); offset <= 5000; offset++ {
		id, note := random.IntN(400), fmt.Sprint("note ", offset)
		e := change.Event{Offset: offset, Table: noteSchema.Table, Schema: noteSchema}
		was, there := rows[id]
		switch {
		case random.IntN(1500) == 0:
			e.Operation = change.Truncate
			clear(rows)
		case !there:
			e.Operation, e.After = change.Insert, noteRow(id, note)
			rows[id] = note
		case random.IntN(3) == 0:
			e.Operation, e.Before = change.Delete, noteRow(id, was)
			delete(rows, id)
		default:
			e.Operation, e.Before, e.After = change.Update, noteRow(id, was), noteRow(id, note)
			rows[id] = note
		}
		events = append(events, e)
	}
	net := func(limit int) (said map[string]bool, folded map[int]string, reads int) {
		said, folded = make(map[string]bool), map[int]string{}
		for id := range 200 {
			folded[id] = "before"
		}
		between := NetBetween{Limit: limit, Open: func(from int64) Events {
			reads++
			copied := make([]change.Event, 0, len(events)) // readers fill what they hand out anew
			for _, e := range events[from-1:] {
				e.Before, e.After = change.CloneImage(e.Before), change.CloneImage(e.After)
				copied = append(copied, e)
			}
			return &recorded{copied}
		}}
		require.NoError(t, between.Each(context.Background(), 1, func(e *change.Event) error {
			if e.Operation == change.Truncate {
				clear(folded)
				return nil
			}
			var id int
			fmt.Sscan(string(e.Image()[0].Text), &id) //nolint:errcheck // a number
			once := fmt.Sprintf("%d %d %s", e.Offset, id, e.Operation)
			require.False(t, said[once], "twice: %s", once)
			said[once] = true
			if e.Operation == change.Delete {
				require.Contains(t, folded, id, "what was not there is not deleted")
				delete(folded, id)
				return nil
			}
			_, there := folded[id]
			require.Equal(t, there, e.Operation == change.Update, once)
			folded[id] = string(e.After[1].Text)
			return nil
		}))
		return said, folded, reads
	}
	whole, folded, once := net(0)
	require.Equal(t, rows, folded)
	shares, folded, often := net(8 << 10)
	require.Equal(t, rows, folded)
	require.Equal(t, whole, shares, "the same, whatever the room")
	require.Greater(t, often, once, "with little room it is read again")
}

// TestNetCompletesByCopy draws changes of rows with values that the log omits, of which a part is
// kept back and keys change: what comes out folds to the rows, and what was given stays as it was.
func TestNetCompletesByCopy(t *testing.T) {
	random := seeded.Random(t, 1)
	for round := range 2000 {
		var net Net
		rows, target := map[int][2]string{}, map[int][2]string{}
		for id := range 3 {
			rows[id], target[id] = [2]string{"there", "large"}, [2]string{"there", "large"}
		}
		var given, copies []change.Event
		add := func(e change.Event, keptBack bool) {
			e.Offset, e.Table, e.Schema = int64(len(given)+1), largeSchema.Table, largeSchema
			given = append(given, e)
			kept := e
			kept.Before, kept.After = change.CloneImage(e.Before), change.CloneImage(e.After)
			copies = append(copies, kept)
			if keptBack {
				net.KeepBack(&e, e.After)
			} else {
				net.Add(&e)
			}
		}
		key := func(id int) []change.Value { return []change.Value{change.Of(fmt.Sprint(id))} }
		image := func(id int, note, large string) []change.Value {
			return append(key(id), change.Of(note), map[bool]change.Value{true: change.Of(large)}[large != ""])
		}
		for step := range 1 + random.IntN(8) {
			id, other, note := random.IntN(4), random.IntN(5), fmt.Sprintf("%d.%d", round, step)
			row, there := rows[id]
			_, taken := rows[other]
			switch kind := random.IntN(5); {
			case !there:
				add(change.Event{Operation: change.Insert, After: image(id, note, "L"+note)}, false)
				rows[id] = [2]string{note, "L" + note}
			case kind == 0:
				add(change.Event{Operation: change.Delete, Before: image(id, note, "")}, false)
				delete(rows, id)
			case kind == 1 && !taken:
				add(change.Event{Operation: change.Delete, Before: image(id, note, ""), Rekeyed: key(other)}, false)
				add(change.Event{Operation: change.Insert, After: image(other, note, ""), Rekeyed: key(id)}, false)
				delete(rows, id)
				rows[other] = [2]string{note, row[1]}
			case kind == 2: // its values come later, by an update that omits the large one
				add(change.Event{Operation: change.Update, After: image(id, "hidden", "L"+note)}, true)
				add(change.Event{Operation: change.Update, After: image(id, note, "")}, false)
				rows[id] = [2]string{note, "L" + note}
			default:
				add(change.Event{Operation: change.Update, After: image(id, note, "")}, false)
				rows[id] = [2]string{note, row[1]}
			}
		}
		before := map[int][2]string{} // as rows stood when the net began, for keys that have changed
		for id, row := range target {
			before[id] = row
		}
		require.NoError(t, net.Take(func(e *change.Event) error {
			var id, was int
			fmt.Sscan(string(e.Image()[0].Text), &id) //nolint:errcheck // a number
			if e.Operation == change.Delete {
				delete(target, id)
				return nil
			}
			row := target[id]
			if e.Rekeyed != nil && change.Omits(e.After) {
				fmt.Sscan(string(e.Rekeyed[0].Text), &was) //nolint:errcheck // a number
				row = before[was]
			}
			for i, v := range e.After[1:] {
				if v.Presence == change.Present {
					row[i] = string(v.Text)
				}
			}
			target[id] = row
			return nil
		}))
		require.Equal(t, rows, target, "round %d: %v", round, copies)
		require.Equal(t, copies, given, "what was given is read-only")
		var readers sync.WaitGroup // of one journal, at its end; the race detector looks on
		for range 2 {
			readers.Go(func() {
				var another Net
				for _, e := range given {
					another.Add(&e)
				}
			})
		}
		readers.Wait()
	}
}

var largeSchema = change.NewSchema(change.PostgreSQL, "public.essays", []change.Column{{Name: "id", Type: "int64", Key: 1}, {Name: "note", Type: "string"}, {Name: "essay", Type: "string"}}, nil, false)
