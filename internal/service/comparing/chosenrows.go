package comparing

import (
	"context"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/expression"
	"rillmark/internal/shape"
	"rillmark/internal/verify"
)

// chosenRows are those of a table's rows that an outlet's conditions choose.
type chosenRows struct {
	verify.Side
	conditions []*expression.BoundCondition
}

// choosing reads of a table what an outlet's conditions choose.
func choosing(of verify.Side, filter *shape.Filter) (verify.Side, error) {
	conditions, err := filter.Conditions(of.Schema())
	if err != nil {
		return nil, verify.Incomparable("its condition does not fit the table: " + err.Error())
	}
	chosen := &chosenRows{Side: of}
	for _, c := range conditions {
		if c.Row() == nil {
			return nil, verify.Incomparable("its condition looks at more than the row, so that the rows do not say what went out")
		}
		chosen.conditions = append(chosen.conditions, c.Row())
	}
	if len(chosen.conditions) == 0 {
		return of, nil
	}
	return chosen, nil
}

func (c *chosenRows) choose(rows [][]change.Value) ([][]change.Value, error) {
	var beyond error
	rows = slices.DeleteFunc(rows, func(row []change.Value) bool {
		return slices.ContainsFunc(c.conditions, func(one *expression.BoundCondition) bool {
			verdict := one.VerdictOn(row)
			if err := one.Beyond(); err != nil {
				beyond = err
			}
			return verdict == expression.Fails
		})
	})
	if beyond != nil {
		return nil, verify.Incomparable(beyond.Error())
	}
	return rows, nil
}

// After implements [verify.Side].
func (c *chosenRows) After(ctx context.Context, after, upTo []string) (verify.Page, error) {
	page, err := c.Side.After(ctx, after, upTo)
	if err != nil {
		return page, err
	}
	page.Rows, err = c.choose(page.Rows)
	return page, err
}

// These implements [verify.Side].
func (c *chosenRows) These(ctx context.Context, keys [][]string) ([][]change.Value, error) {
	rows, err := c.Side.These(ctx, keys)
	if err != nil {
		return nil, err
	}
	return c.choose(rows)
}
