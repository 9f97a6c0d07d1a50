// Package sql is what outlets to tables of databases share, whichever database it is.
//
// A [Writer] delivers one outlet. It takes a batch apart where the source's transactions end
// ([Writer.Send], part.go), finds or makes the table for each message (tables.go, alter.go), works out
// what the changes of a run of rows come to ([Net]), and has its [Database] write that. Loads
// of tables that have rows are in reload.go, the versions of a row in versions.go. A table that
// cannot be kept is held while the others go on (held.go). What a kind of database does in its own
// way, its statements and its types, is behind [Database], in the kind's own package.
package sql

// Keep is how rows are kept in a table.
type Keep string

// The ways to keep rows.
const (
	// Current has each row as it is now.
	Current Keep = "current"
	// Flagged has each row as it is now, and deleted ones with a flag.
	Flagged Keep = "flagged"
	// Versions has each version of a row, with from when and until when it held.
	Versions Keep = "versions"
)

// Columns of our own, behind a row's.
const (
	Deleted     = "_deleted"      // of flagged rows: true for one that is gone
	Offset      = "_offset"       // of the event that touched the row last, or made the version
	ChangedAt   = "_changed_at"   // when that was committed
	Operation   = "_operation"    // of versions: the event's
	From        = "_from"         // of versions: the commit that made it
	Until       = "_until"        // of versions: the commit that ended it; [Dialect.Infinity] for the newest
	UntilOffset = "_until_offset" // of versions: the event that ended it
)

// Own are the columns that a way to keep rows adds.
func (k Keep) Own() []string {
	switch k {
	case Flagged:
		return []string{Deleted, Offset, ChangedAt}
	case Versions:
		return []string{Operation, Offset, From, Until, UntilOffset}
	case Current:
	}
	return nil
}
