package verify

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"
)

// Summer is a side whose server can add up its rows by itself: where both sides give the same
// sum of some rows, none of them has to be read.
type Summer interface {
	// SumForm says in which form the values of columns are added up. Sides that say the same give
	// the same sums for the same values, and others for others. It is empty where that cannot be
	// done.
	SumForm(columns []string) string
	// Sum counts the rows behind one key and up to another, as in [Side.After], and adds up hashes of
	// the values of columns.
	Sum(ctx context.Context, columns, after, upTo []string) (rows int64, sum string, err error)
}

// sumRows is how many rows are added up at a time.
const sumRows = 50_000

// canSum reports whether both sides can add up rows so that equal sums are equal rows.
func (c *Comparison) canSum() bool {
	source, can := c.Source.(Summer)
	target, may := c.Target.(Summer)
	if !can || !may || !c.Ordered {
		return false
	}
	for _, f := range c.forms {
		if f != nil {
			return false // values that are written otherwise may be the same
		}
	}
	form := source.SumForm(c.names)
	return form != "" && form == target.SumForm(c.names)
}

// forwardBySums goes through the source's rows between two keys, some at a time: where the
// sums of both sides are not the same, row by row.
func (c *Comparison) forwardBySums(ctx context.Context, after, bound []string) error {
	for {
		upTo, end := bound, true
		if bound == nil {
			var err error
			if upTo, end, err = c.Source.Skip(ctx, after, sumRows); err != nil {
				return fmt.Errorf("reading %s at the source: %w", c.Table, err)
			}
			if end {
				upTo = nil
			}
		}
		var err error
		if rows, equal := c.equalSums(ctx, after, upTo); equal {
			c.state.Rows += rows
			err = c.turn(ctx)
		} else { // reading them says what is wrong, also where they could not be added up
			err = c.forwardByRows(ctx, after, upTo)
		}
		if err != nil || end {
			return err
		}
		after = upTo
		if err := c.save(ctx, false, after); err != nil {
			return err
		}
	}
}

// equalSums has both sides add up rows at the same time. Sums that one of them cannot make are
// not equal.
func (c *Comparison) equalSums(ctx context.Context, after, upTo []string) (rows int64, equal bool) {
	var sums [2]string
	var counts [2]int64
	var group errgroup.Group // without a context of its own: its end would break the other side's session
	for i, side := range []Side{c.Source, c.Target} {
		ask := func() (err error) {
			counts[i], sums[i], err = side.(Summer).Sum(ctx, c.names, after, upTo)
			return err
		}
		group.Go(func() error {
			if c.Guarded == nil {
				return ask()
			}
			return c.Guarded(ask)
		})
	}
	failed := group.Wait()
	return counts[0], failed == nil && counts[0] == counts[1] && sums[0] == sums[1]
}
