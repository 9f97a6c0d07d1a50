package catalogue

import (
	"slices"

	"rillmark/internal/postgres/pgoutput"
)

// identify says which numbers a Relation message's columns have, of what is on record
// and of what the catalogue has now, which may be later than the message: mapped are
// a partition's columns with the numbers of its root. dropped are the columns
// that the table has had, and xid is the message's transaction. certain is false where the
// numbers may be others than what is returned. order has the root's numbers in the order of the
// partition's own columns, those that were dropped among them; nil where that is not known.
//
// The server hands numbers out upwards and never uses one again. So a message has each column
// on record that is still there; of the later ones that are still there, all up to some number;
// and, to make up its count, some that were dropped since. Often one set of numbers is possible,
// whatever the names are. Where there are more, the names have to leave exactly one, and
// the transactions that dropped columns have to agree with it: each can mislead alone.
func identify(message []pgoutput.RelationColumn, recorded, now []Column, dropped []Dropped, xid uint32, mapped bool, order []int) (numbers []int, certain bool) {
	if mapped && order != nil {
		// A partition's columns have an order of their own, which stays, as their numbers do.
		var all bool
		if now, all = inOrder(now, order); all {
			if inIts, all := inOrder(recorded, order); all || !Known(recorded) {
				recorded, mapped = inIts, false
			}
		}
		if mapped {
			return make([]int, len(message)), false
		}
	}
	isNow, isRecorded := Fits(now, message, mapped), Fits(recorded, message, mapped)
	guess := make([]int, len(message))
	switch {
	case isNow:
		guess = numbersOf(now, message)
	case isRecorded:
		guess = numbersOf(recorded, message)
	}
	// In any order, names that were swapped fit both.
	disagree := mapped && isNow && isRecorded && !slices.Equal(guess, numbersOf(recorded, message))
	if !Known(recorded) {
		return guess, isNow
	}
	choices, ok := choicesOf(recorded, now, dropped, len(message))
	if !ok {
		return guess, isNow != isRecorded
	}
	for n := range choices {
		if order == nil {
			break
		}
		if choices[n], ok = inIts(choices[n], order); !ok {
			return guess, false
		}
	}
	if len(choices) > 1 {
		choices = slices.DeleteFunc(choices, func(choice []int) bool {
			return !named(choice, message, recorded, now, mapped)
		})
		if len(choices) == 1 && !timely(choices[0], recorded, dropped, xid) {
			return guess, false
		}
	}
	switch {
	case len(choices) != 1:
		return guess, false
	case !mapped:
		return choices[0], true // they stand in their order
	case disagree:
		return guess, false
	}
	found := slices.Sorted(slices.Values(guess))
	return guess, slices.Equal(found, choices[0])
}

// inIts are numbers in a partition's order; false where that is not known of one.
func inIts(numbers, order []int) (placed []int, all bool) {
	for _, number := range order {
		if slices.Contains(numbers, number) {
			placed = append(placed, number)
		}
	}
	return placed, len(placed) == len(numbers)
}

// inOrder are columns in a partition's order; false where that is not known of one.
func inOrder(columns []Column, order []int) (placed []Column, all bool) {
	for _, number := range order {
		for _, c := range columns {
			if c.Number == number {
				placed = append(placed, c)
			}
		}
	}
	return placed, len(placed) == len(columns)
}

// Dropped is a column that a table has had, and the transaction that dropped it.
type Dropped struct {
	Number int
	By     uint32
}

// mostChoices is how many sets of numbers are looked at.
const mostChoices = 100

// choicesOf are the sets of n numbers, each in order, that a table's columns can have had at
// some moment between the record and now; false where that cannot be worked out.
func choicesOf(recorded, now []Column, dropped []Dropped, n int) (choices [][]int, ok bool) {
	if len(now) == 0 {
		return nil, false // it was dropped since
	}
	newest, alive := 0, make(map[int]bool)
	for _, c := range now {
		if c.Number == 0 {
			return nil, false
		}
		alive[c.Number] = true
	}
	var always, perhaps, come []int
	known := make(map[int]bool)
	for _, c := range recorded {
		newest, known[c.Number] = max(newest, c.Number), true
		if alive[c.Number] {
			always = append(always, c.Number)
		} else {
			perhaps = append(perhaps, c.Number)
		}
	}
	for number := range alive {
		if number < newest && !known[number] {
			return nil, false // it was not in the log, and is now
		}
		if number > newest {
			come = append(come, number)
		}
	}
	for _, d := range dropped {
		if d.Number > newest {
			come = append(come, d.Number)
		}
	}
	slices.Sort(come)
	// Each round takes another column as the newest that had come by then; the first takes none.
	for last := -1; last < len(come); last++ {
		had, maybe := slices.Clone(always), slices.Clone(perhaps)
		for i, number := range come[:last+1] {
			if alive[number] || i == last {
				had = append(had, number)
			} else {
				maybe = append(maybe, number)
			}
		}
		choices = chosen(choices, had, maybe, n-len(had))
		if len(choices) > mostChoices {
			return nil, false
		}
	}
	return choices, true
}

// chosen adds to choices each set that has all numbers of had and n of maybe, in order.
func chosen(choices [][]int, had, maybe []int, n int) [][]int {
	switch {
	case n < 0 || n > len(maybe) || len(choices) > mostChoices:
		return choices
	case n == 0:
		return append(choices, slices.Sorted(slices.Values(had)))
	}
	choices = chosen(choices, append(slices.Clone(had), maybe[0]), maybe[1:], n-1)
	return chosen(choices, had, maybe[1:], n)
}

// named reports whether a message's names allow a choice: each column has the name on record
// or the one it has now. Names of columns that came and went since are not known.
func named(choice []int, message []pgoutput.RelationColumn, recorded, now []Column, mapped bool) bool {
	names := make([][]string, len(choice))
	for _, columns := range [][]Column{recorded, now} {
		for _, c := range columns {
			if at := slices.Index(choice, c.Number); at >= 0 {
				names[at] = append(names[at], c.Name)
			}
		}
	}
	for i, known := range names {
		can := slices.Contains(known, message[i].Name)
		if mapped { // they stand in another order
			can = slices.ContainsFunc(message, func(m pgoutput.RelationColumn) bool { return slices.Contains(known, m.Name) })
		}
		if len(known) > 0 && !can {
			return false
		}
	}
	return true
}

// timely reports whether the transactions that dropped columns allow a choice. It compares
// numbers of transactions, and one that began earlier may have ended later: it can be wrong.
func timely(choice []int, recorded []Column, dropped []Dropped, xid uint32) bool {
	newest := 0
	for _, c := range recorded {
		newest = max(newest, c.Number)
	}
	return !slices.ContainsFunc(dropped, func(d Dropped) bool {
		had := d.Number > newest && d.Number < slices.Max(choice) || slices.ContainsFunc(recorded, func(c Column) bool { return c.Number == d.Number })
		switch is := slices.Contains(choice, d.Number); {
		case d.By == 0 || d.By == xid:
			return false
		case is:
			return int32(d.By-xid) < 0
		default:
			return had && int32(d.By-xid) > 0
		}
	})
}
