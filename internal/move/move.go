// Package move is what a move of a system to another database has to carry besides rows:
// numbers that are handed out, and objects that a person takes along.
package move

import "fmt"

// Counter hands out numbers for a column: a sequence, or an auto-increment value.
type Counter struct {
	Table  string `json:"table" doc:"The source's table"`
	Column string `json:"column"`
	Next   int64  `json:"next" doc:"The number that is handed out next"`
	// As is the column's name in the target; empty where it is the same.
	As string `json:"as,omitempty" doc:"The column's name in the target, where that is another one"`
}

// Target is the column's name in the target.
func (c *Counter) Target() string {
	if c.As != "" {
		return c.As
	}
	return c.Column
}

// CounterSet says what became of a counter in the target.
type CounterSet struct {
	Counter
	// Statement is what sets it there.
	Statement string `json:"statement" doc:"The statement that sets it in the target"`
	Done      bool   `json:"done" doc:"Whether it was run; else a person has to"`
	Note      string `json:"note,omitempty" doc:"Why it was not"`
}

// Objects are those of one kind that rows do not carry.
type Objects struct {
	Kind  string   `json:"kind" doc:"view, trigger, function, index, foreign key, grant and the like"`
	Count int      `json:"count"`
	Names []string `json:"names" doc:"The first of them"`
}

// Inventory is what the source has besides rows.
type Inventory struct {
	Counters []Counter `json:"counters"`
	Objects  []Objects `json:"objects"`
}

// maxNames are kept of each kind.
const maxNames = 50

// Add notes one object.
func (i *Inventory) Add(kind, name string) {
	for n := range i.Objects {
		if o := &i.Objects[n]; o.Kind == kind {
			if o.Count++; len(o.Names) < maxNames {
				o.Names = append(o.Names, name)
			}
			return
		}
	}
	i.Objects = append(i.Objects, Objects{Kind: kind, Count: 1, Names: []string{name}})
}

// Words are the first names of a kind, for a line of text.
func (o *Objects) Words() string {
	text := ""
	for i, name := range o.Names {
		if i == 3 {
			break
		}
		if i > 0 {
			text += ", "
		}
		text += name
	}
	if o.Count > 3 {
		text += fmt.Sprintf(" and %d more", o.Count-3)
	}
	return text
}

// Writers are the scripts that keep writers out of a database, and those that let them in
// again, in the order in which they are run, each in a transaction of its own.
type Writers struct {
	Stop, Allow []string
	// Note is what a person should know of them.
	Note string
}
