package shape

import (
	"context"
	"fmt"
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
