package expression

// Verdict is what a rule's filter says of a row.
type Verdict int8

// The verdicts.
const (
	Fails Verdict = iota
	Holds
	Unknown // a value that it needs is not in the log
)

// Effect is what becomes of an update of a filtered table.
type Effect int8

// The effects.
const (
	Changes Effect = iota // an update
	Nothing               // no event: the row was outside of the filter and stays there
	Leaves                // a delete: the row has left the filter
	Enters                // an insert: it has entered it
)

// EffectOf is what an update brings of whose old and new row the filter says so. A row
// of which that is not known counts as one for which the filter holds.
func EffectOf(was, is Verdict) Effect {
	switch {
	case was == Fails && is == Fails:
		return Nothing
	case is == Fails:
		return Leaves
	case was == Fails:
		return Enters
	}
	return Changes
}
