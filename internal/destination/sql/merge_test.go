package sql

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

var schema = change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{{Name: "id", Rule: change.RuleInteger, Key: 1}, {Name: "note", Rule: change.RuleText}, {Name: "body", Rule: change.RuleText}}, nil, false)

func value(text string) change.Value {
	if text == "" {
		return change.Value{} // omitted
	}
	return change.Of(text)
}

func message(o change.Operation, id, note, body string) *encode.Message {
	m := &encode.Message{Operation: o, Schema: schema, OrderingKey: []byte("public.loans\x00" + id)}
	image := []change.Value{value(id), value(note), value(body)}
	if o == change.Delete {
		m.Before = image
	} else {
		m.Row = image
	}
	return m
}

func rekeyed(from, to, note, body string) []*encode.Message {
	was, is := message(change.Delete, from, "", ""), message(change.Insert, to, note, body)
	was.Rekeyed, is.Rekeyed = []change.Value{change.Of(to)}, []change.Value{change.Of(from)}
	return []*encode.Message{was, is}
}

// TestNet: whatever changes come to, put into a table they leave the same rows as one after
// another.
func TestNet(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for round := range 3000 {
		// What the target has: rows by key; b0 stands for a body that the log may leave out.
		target := map[string][2]string{"1": {"n", "b1"}, "2": {"n", "b2"}, "3": {"n", "b3"}}
		want := map[string][2]string{}
		for k, v := range target {
			want[k] = v
		}
		var messages []*encode.Message
		for step := range 1 + random.IntN(9) {
			id, other := fmt.Sprint(1+random.IntN(4)), fmt.Sprint(1+random.IntN(5))
			row, there := want[id]
			_, taken := want[other]
			text := fmt.Sprintf("r%d.%d", round, step)
			switch kind := random.IntN(4); {
			case !there:
				messages = append(messages, message(change.Insert, id, text, "b"+text))
				want[id] = [2]string{text, "b" + text}
			case kind == 0:
				messages = append(messages, message(change.Delete, id, "", ""))
				delete(want, id)
			case kind == 1 && !taken:
				body := []string{"", row[1]}[random.IntN(2)]
				messages = append(messages, rekeyed(id, other, text, body)...)
				delete(want, id)
				want[other] = [2]string{text, row[1]}
			case kind == 2:
				messages = append(messages, message(change.Update, id, text, ""))
				want[id] = [2]string{text, row[1]}
			default:
				messages = append(messages, message(change.Update, id, text, "b"+text))
				want[id] = [2]string{text, "b" + text}
			}
		}
		var n Net
		all := messages
		given := make([][]change.Value, len(all)) // what is tried again one by one has to be as it came
		for i, m := range all {
			given[i] = change.CloneImage(m.Row)
		}
		for len(messages) > 0 {
			n.Reset()
			taken := n.Add(messages)
			gone, partial, there, fresh := n.Rows()
			for _, r := range gone {
				delete(target, string(r.Key[0].Text))
			}
			for _, r := range append(append(partial, there...), fresh...) {
				key := string(r.Key[0].Text)
				if r.New {
					require.NotContains(t, target, key, "a new row was not there")
				}
				row := target[key]
				for i := range row {
					if v := r.Values[i+1]; v.Presence == change.Present {
						row[i] = string(v.Text)
					}
				}
				target[key] = row
			}
			if messages = messages[taken:]; len(messages) > 0 { // a key that only the target's row can follow
				was, is := messages[0], messages[1]
				require.Equal(t, change.Delete, was.Operation)
				row := target[string(was.Before[0].Text)]
				delete(target, string(was.Before[0].Text))
				target[string(is.Row[0].Text)] = [2]string{string(is.Row[1].Text), row[1]}
				messages = messages[2:]
			}
		}
		require.Equal(t, want, target, "round %d", round)
		for i, m := range all {
			require.Equal(t, given[i], m.Row, "round %d: merging changes no message", round)
		}
	}
}
