package change

// Cause is why a table is in its state, for programs; a [Standing]'s Note says it to people.
type Cause string

// Causes. None is empty: there is nothing to know.
const (
	CauseNoKey         Cause = "no-key"          // consumers cannot tell two equal rows apart
	CauseKeyLost       Cause = "key-lost"        // it had a key: changes since then are in no event
	CauseInsertsOnly   Cause = "inserts-only"    // no key, so that updates and deletes are not captured
	CausePart          Cause = "part"            // the load reads some of the rows, or is for one outlet
	CauseRuleChanged   Cause = "rule-changed"    // earlier events follow the rule as it was
	CauseRewritten     Cause = "rewritten"       // a schema change filled or changed rows without an event
	CauseUnlogged      Cause = "unlogged"        // rows came, changed or went without an event
	CauseForeignKey    Cause = "foreign-key"     // the same, by what a foreign key does with rows of another table
	CauseNewKey        Cause = "new-key"         // it was given a key that earlier events do not have
	CauseReplaced      Cause = "replaced"        // another table has come under its name
	CauseRepublished   Cause = "republished"     // it was not published for a time
	CauseUnpublished   Cause = "unpublished"     // an administrator has to publish it
	CauseValueTooLarge Cause = "value-too-large" // values beyond the largest one were left out
	CauseValueMissing  Cause = "value-missing"   // the log has left values out that consumers need
	CauseUnreadable    Cause = "unreadable"      // its rows cannot be read
	CauseGone          Cause = "gone"            // dropped or renamed in the source
	CauseLeftOut       Cause = "left-out"        // no rule chooses it any more
)

// Reason is why a table is in its state.
type Reason struct {
	Cause Cause
	// Text says it to people, with what to do.
	Text string
}

// Standing is a table's state and why it is in it.
type Standing struct {
	State string
	Cause Cause
	// Note is what a person should know: why it is held, what to do.
	Note string
}

// For is a state with its reason.
func (r Reason) For(state string) Standing { return Standing{state, r.Cause, r.Text} }

// TableState is what is on record of a table, in one step with the events.
type TableState struct {
	Table string
	Standing
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

// Rows is how many rows the table has, as far as is known: the source's estimate, or what the last
// load has read.
func (t *TableState) Rows() int64 { return max(t.RowsEstimate, t.RowsDone) }

// TableGone is the state of a table that was dropped or renamed in the source: it has no schema
// version any more.
const TableGone = "gone"
