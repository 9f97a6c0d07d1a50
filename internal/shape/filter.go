package shape

import (
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/expression"
)

// Filter lets events of chosen tables and operations through. The zero value
// lets everything through. Messages, which have no table, pass any choice of
// tables.
type Filter struct {
	Tables     []Pattern
	Operations []change.Operation
	// Where are conditions on rows of tables; where several are for a table, all of them
	// have to hold. Events without a row pass them.
	Where []TableCondition
	// AsTheyAre has updates by which a row enters or leaves the conditions go out as
	// updates; else they are inserts and deletes.
	AsTheyAre bool

	seen  map[string]bool                                      // tables that were matched before
	bound map[*change.Schema][]*expression.BoundEventCondition // of the schema versions that came
}

// TableCondition is a condition on the rows of some tables.
type TableCondition struct {
	Match     Pattern
	Condition *expression.EventCondition
}

// Admits reports whether an event passes, and makes it the insert or delete that it is for
// whoever sees only the rows of the conditions. An error says that a condition does not fit
// the event's schema version, or takes too much for its row (an [expression.Beyond]). It is not safe for several goroutines.
func (f *Filter) Admits(e *change.Event) (bool, error) {
	if !f.AdmitsTable(e.Table) {
		return false, nil
	}
	if len(f.Where) > 0 && e.Schema != nil && e.Operation.IsRow() {
		effect, err := f.effect(e)
		if err != nil || effect == expression.Nothing {
			return false, err
		}
		if !f.AsTheyAre {
			convert(e, effect)
		}
	}
	return len(f.Operations) == 0 || slices.Contains(f.Operations, e.Operation), nil
}

// KeptBackBy is what keeps an event back that [Filter.Admits] does not let through: one of
// its conditions as it was written, else tables, conditions or operations.
func (f *Filter) KeptBackBy(e *change.Event) string {
	if !f.AdmitsTable(e.Table) {
		return "tables"
	}
	if e.Schema != nil && e.Operation.IsRow() {
		if effect, err := f.effect(e); err != nil || effect == expression.Nothing {
			for _, bound := range f.bound[e.Schema] {
				if bound.Effect(e) == expression.Nothing {
					return bound.String()
				}
			}
			return "conditions"
		}
	}
	return "operations"
}

// convert makes an update the insert or delete that it is by a filter's effect.
func convert(e *change.Event, effect expression.Effect) {
	switch effect {
	case expression.Enters:
		e.Operation, e.Before = change.Insert, nil
	case expression.Leaves:
		if e.Before == nil { // the log has no old row; its key is the new one's
			key := e.Schema.Key()
			if len(key) == 0 {
				return // nothing says which row has left
			}
			e.Before = make([]change.Value, len(e.After))
			for _, i := range key {
				e.Before[i] = e.After[i]
			}
		}
		e.Operation, e.After = change.Delete, nil
	case expression.Changes, expression.Nothing:
	}
}

// effect is what becomes of an event under all conditions on its table.
func (f *Filter) effect(e *change.Event) (expression.Effect, error) {
	conditions, err := f.Conditions(e.Schema)
	if err != nil {
		return expression.Nothing, err
	}
	all := expression.Changes
	for _, c := range conditions {
		effect := c.Effect(e)
		if err := c.Beyond(); err != nil {
			return expression.Nothing, err
		}
		switch {
		case effect == expression.Nothing, effect == expression.Enters && all == expression.Leaves, effect == expression.Leaves && all == expression.Enters:
			return expression.Nothing, nil // it is in the one before and in the other after: never in both
		case effect != expression.Changes:
			all = effect
		}
	}
	return all, nil
}

// Conditions are those on rows of a schema version.
func (f *Filter) Conditions(schema *change.Schema) ([]*expression.BoundEventCondition, error) {
	if found, known := f.bound[schema]; known {
		return found, nil
	}
	var found []*expression.BoundEventCondition
	for _, w := range f.Where {
		if !w.Match.Matches(schema.Table) {
			continue
		}
		bound, err := w.Condition.Bind(schema)
		if err != nil {
			return nil, err
		}
		found = append(found, bound)
	}
	if f.bound == nil || len(f.bound) > 10_000 {
		f.bound = make(map[*change.Schema][]*expression.BoundEventCondition)
	}
	f.bound[schema] = found
	return found, nil
}

// AdmitsTable reports whether events of a table may pass, messages having none.
// It is not safe for several goroutines.
func (f *Filter) AdmitsTable(table string) bool {
	if len(f.Tables) == 0 || table == "" {
		return true
	}
	admitted, known := f.seen[table]
	if !known {
		for _, p := range f.Tables {
			admitted = admitted || p.Matches(table)
		}
		if f.seen == nil || len(f.seen) > 100_000 {
			f.seen = make(map[string]bool)
		}
		f.seen[table] = admitted
	}
	return admitted
}
