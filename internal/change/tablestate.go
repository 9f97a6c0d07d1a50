package change

// TableState is what is on record of a table, in one step with the events.
type TableState struct {
	Table string
	State string
	// Note is what a person should know: why it is held, what to do.
	Note string
	// Rule names what of its rule decides the content of its events.
	Rule string
	// Members are the partitions of a table that is captured under its root's name.
	Members []string
	// Published is how the table stands among what the source publishes, in the
	// engine's own words; it changes when the table was left out for a time.
	Published string
	// Identity is what the engine knows a table and its columns by, whatever their
	// names, in the engine's own form; nil where an earlier version put the table on
	// record.
	Identity []byte
	// Schema is the newest version; nil before the first event.
	Schema *Schema
	// Reload is what somebody has asked to be read anew while nothing ran: the rows of
	// this condition in the source's own language; nil for none.
	Reload *string
	// Progress is the load's place, in the engine's own form; nil outside of one.
	Progress     []byte
	RowsDone     int64
	RowsEstimate int64
}
