package postgres

import (
	"context"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/postgres/pgoutput"
)

// enum is a column whose values are labels: one that is not among them was added after the
// catalogue was looked at, and no message of the log says so.
type enum struct {
	column int // of the tuple
	labels []string
}

// maxStrays bounds how many labels are remembered that the catalogue does not know (any more).
const maxStrays = 100

// enumsOf are the columns of a relation that hold labels as they are.
func enumsOf(rel *relation) (enums []enum) {
	for i := range rel.layout.Schema.Columns {
		if c := &rel.layout.Schema.Columns[i]; c.Rule == change.RuleEnum && c.Treatment == "" {
			enums = append(enums, enum{rel.layout.From[i], c.Labels})
		}
	}
	return enums
}

// newLabel is a label of a row that its schema version does not have; empty where there is
// none.
func (rel *relation) newLabel(tuple []pgoutput.TupleColumn) string {
	for _, e := range rel.enums {
		if e.column >= len(tuple) {
			continue
		}
		c := &tuple[e.column]
		if c.Kind == pgoutput.KindText && !slices.Contains(e.labels, string(c.Data)) && !slices.Contains(rel.strays, string(c.Data)) {
			return string(c.Data)
		}
	}
	return ""
}

// withLabels looks a relation up again where a row has a label that is new.
func (r *run) withLabels(ctx context.Context, oid uint32, tuple []pgoutput.TupleColumn) error {
	rel := r.relations[oid]
	if rel == nil || len(rel.enums) == 0 {
		return nil
	}
	label := rel.newLabel(tuple)
	if label == "" || len(rel.strays) >= maxStrays {
		return nil
	}
	r.forget(oid)
	if err := r.relate(ctx, rel.message); err != nil {
		return err
	}
	now := r.relations[oid]
	if now.strays = rel.strays; now.newLabel(tuple) == label {
		now.strays = append(now.strays, label) // it was renamed or dropped since
	}
	return nil
}
