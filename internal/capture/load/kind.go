// Package load is what loads of a table are, whichever engine reads the rows.
package load

import "strings"

// Ask says what is to be loaded.
type Ask struct {
	// Where chooses rows in the source's own language; empty for all of them.
	Where string `json:"where,omitempty"`
	// For has the load's events come to one outlet alone; nobody else notices it.
	For Audience `json:"for,omitzero"`
	// Drop ends the load for that outlet, in place of beginning one: nobody is left to read it.
	Drop bool `json:"drop,omitempty"`
}

// Audience is the outlet that a load is for; the zero value is everybody.
type Audience struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
}

// What is what a load reads, in words for the table's note and the events of a part;
// empty for a load of all rows that every reader gets.
func (a Ask) What() string {
	var what string
	if a.Where != "" {
		what = "where " + a.Where
	}
	if a.For.ID != 0 {
		what = strings.TrimSpace(what + " for outlet " + a.For.Name)
	}
	return what
}

// Kind says which of a table's rows a load reads, and what that means to consumers.
type Kind string

// The kinds.
const (
	// Full reads all rows: what was known of the table before is void where it begins.
	Full Kind = ""
	// Part reads the rows of a condition, or of some partitions; nothing is void.
	Part Kind = "part"
	// Refetch reads rows again that have entered a filter with values left out. The
	// table goes on being followed, and the load is not announced.
	Refetch Kind = "refetch"
)
