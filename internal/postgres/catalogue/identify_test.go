package catalogue

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/postgres/pgoutput"
)

// TestWhichColumnsAMessageHas alters a table at random, between what is on record and a
// message, and between the message and the catalogue's look: numbers that are said to be
// certain are those that the message's columns have.
func TestWhichColumnsAMessageHas(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(8, 9))
	certain := make(map[bool]int)
	for round := range 20_000 {
		columns := []Column{{Number: 1, Name: "id"}}
		var dropped []Dropped
		next, said, xid := 2, "", uint32(0)
		name := func() string { return string(rune('a' + random.IntN(4))) }
		has := func(name string) bool {
			return slices.ContainsFunc(columns, func(c Column) bool { return c.Name == name })
		}
		add := func(name string) {
			if !has(name) {
				columns = append(slices.Clone(columns), Column{Number: next, Name: name})
				next++
			}
		}
		alter := func() {
			xid++
			at := random.IntN(len(columns))
			one := columns[at]
			switch kind := random.IntN(5); {
			case kind == 0:
				add(name())
			case kind == 1 && at > 0, kind == 2 && at > 0:
				columns, dropped = slices.Delete(slices.Clone(columns), at, at+1), append(dropped, Dropped{one.Number, xid})
				if kind == 2 {
					add(one.Name)
				}
			case kind == 3:
				if to := name(); !has(to) && at > 0 {
					columns = slices.Clone(columns)
					columns[at].Name = to
				}
			case kind == 4 && len(columns) > 2:
				columns = slices.Clone(columns)
				a, b := &columns[1], &columns[len(columns)-1]
				a.Name, b.Name = b.Name, a.Name
			}
			said += fmt.Sprint(columns, " ")
		}
		several := func(most int) {
			for range random.IntN(most) {
				alter()
			}
		}
		several(6)
		recorded := columns
		said += "on record; "
		several(3)
		var message []pgoutput.RelationColumn
		var want []int
		for _, c := range columns {
			message, want = append(message, pgoutput.RelationColumn{Name: c.Name}), append(want, c.Number)
		}
		said += "message; "
		// Every other table is a partition, whose columns have an order of their own.
		var order []int
		mapped := round%2 == 0
		if mapped {
			order = random.Perm(next)
			inOrder := func(a, b int) int { return slices.Index(order, a) - slices.Index(order, b) }
			slices.SortFunc(want, inOrder)
			slices.SortFunc(message, func(a, b pgoutput.RelationColumn) int {
				number := func(m pgoutput.RelationColumn) int {
					return columns[slices.IndexFunc(columns, func(c Column) bool { return c.Name == m.Name })].Number
				}
				return inOrder(number(a), number(b))
			})
			for n := next; n < next+10; n++ {
				order = append(order, n) // columns that come later come last
			}
		}
		xid++
		at := xid
		several(3)
		got, sure := identify(message, recorded, columns, dropped, at, mapped, order)
		certain[sure]++
		if sure {
			require.Equal(t, want, got, "round %d: %s", round, said)
		}
	}
	require.Greater(t, certain[true], 10*certain[false], "most are certain")
}
