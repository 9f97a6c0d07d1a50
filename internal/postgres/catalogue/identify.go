package catalogue

import (
	"slices"

	"rillmark/internal/postgres/pgoutput"
)

// identify says which numbers a Relation message's columns have, of what is on record
// and of what the catalogue has now, which may be later than the message: mapped are
// a partition's columns with the numbers of its root. dropped are the columns
// that the table has had, and xid is the message's transaction. certain is false where the
// numbers may be others than what is returned.
//
// Numbers are handed out upwards and never come back. So the message has those on record
// that are in the catalogue still, up to one number all that have come since and are there
// still, and of those that are dropped by now as many as it has columns besides. Often only
// one choice is left, whatever the names are. Where there are more, only one may agree with the
// names and with the transactions that dropped columns: each of both can mislead.
func identify(message []pgoutput.RelationColumn, recorded, now []Column, dropped []Dropped, xid uint32, mapped bool) (numbers []int, certain bool) {
	isNow, isRecorded := Fits(now, message, mapped), Fits(recorded, message, mapped)
	guess := make([]int, len(message))
	switch {
	case isNow:
		guess = numbersOf(now, message)
	case isRecorded:
		guess = numbersOf(recorded, message)
	}
	if !Known(recorded) {
		return guess, isNow
	}
	choices, ok := choicesOf(recorded, now, dropped, len(message))
	if !ok {
		return guess, isNow != isRecorded
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
	}
	found := slices.Sorted(slices.Values(guess))
	return guess, slices.Equal(found, choices[0])
}

// Dropped is a column that a table has had, and the transaction that dropped it.
type Dropped struct {
	Number int
	By     uint32
}

// mostChoices is how many sets of numbers are looked at.
const mostChoices = 100

// choicesOf are the sets of numbers, in order, that a table can have had n columns of
// between what is on record and what is there now; false where nobody can tell.
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
	// The newest of those that the message has is the last that had come; at first none had.
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

// chosen adds each way to take n more of some numbers to what is there, in order.
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

// named reports whether a message's columns can be of some numbers by their names: each has the
// one on record, or the one it has now. Those of columns that have come and gone since are
// not known.
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

// timely reports whether columns can have had some numbers by when others were dropped, as far
// as the numbers of transactions tell: one that began earlier may end later.
func timely(choice []int, recorded []Column, dropped []Dropped, xid uint32) bool {
	return !slices.ContainsFunc(dropped, func(d Dropped) bool {
		had := d.Number < choice[len(choice)-1] || slices.ContainsFunc(recorded, func(c Column) bool { return c.Number == d.Number })
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
