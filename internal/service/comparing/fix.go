package comparing

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
	"rillmark/internal/verify"
)

// Fix is a load for one outlet alone that makes a table equal to the source's again.
type Fix struct {
	Table string `json:"table"`
	Rows  int    `json:"rows" doc:"So many rows are read again by their keys; 0: all of them, and rows that the source does not have go"`
}

// Fix has what a comparison found be read again for the outlet alone: through the journal,
// so that it comes in order with all else. Rows that are missing or different come by their
// keys; where there are rows too many, a load of all rows has them go.
func (s *Comparing) Fix(ctx context.Context, v *Verification) error {
	record, err := s.Catalog.Outlet(ctx, v.Outlet)
	if err != nil {
		return base.Answer(err, "outlet", v.Outlet)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return base.Answer(err, "source", record.Definition.Source)
	}
	if err := base.Loads(source); err != nil {
		return err
	}
	built, err := s.Engine(source)
	if err != nil {
		return err
	}
	states, err := s.Catalog.TableStates(ctx, source.ID)
	if err != nil {
		return base.Answer(err, "source", source.Name)
	}
	for i := range v.Tables {
		t := &v.Tables[i]
		if t.Equal() || t.Skipped != "" || states[t.Table] == nil {
			continue
		}
		condition, rows := "", 0
		if checker, can := built.(engine.ConditionChecker); can {
			condition, rows = keysCondition(checker, t, states[t.Table].Schema, v.Differences)
		}
		if err := s.Load(ctx, record, []string{t.Table}, condition); err != nil {
			return err
		}
		v.Fixes = append(v.Fixes, Fix{Table: t.Table, Rows: rows})
	}
	return nil
}

// keysCondition chooses the rows of a table that differ; empty where all have to be read.
func keysCondition(checker engine.ConditionChecker, t *verify.TableVerdict, schema *change.Schema, differences []verify.Difference) (condition string, rows int) {
	if schema == nil || t.Extra > 0 || t.Undecided > 0 || t.Missing+t.Different > base.MaxKeysAgain {
		return "", 0
	}
	var keys [][]change.Value
	for _, d := range differences {
		if d.Table != t.Table {
			continue
		}
		var key []change.Value
		for _, i := range schema.Key() {
			text, there := d.Key[schema.Columns[i].Name]
			if !there {
				return "", 0
			}
			key = append(key, change.Of(text))
		}
		keys = append(keys, key)
	}
	if int64(len(keys)) != t.Missing+t.Different {
		return "", 0 // not all of them were kept
	}
	if condition = base.KeysCondition(checker, schema, keys); condition == "" {
		return "", 0
	}
	return condition, len(keys)
}
