// Package load is what loads of a table are, whichever engine reads the rows.
package load

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
