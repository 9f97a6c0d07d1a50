package verify

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"rillmark/internal/change"
)

// decide looks again at what differs, until it is known whether it does.
func (c *Comparison) decide(ctx context.Context) error {
	type seen struct{ source, target []change.Value }
	suspects := make(map[string]seen)
	for try := 0; len(c.candidates) > 0; try++ {
		order := slices.SortedFunc(maps.Keys(c.candidates), func(a, b string) int { return compareKeys(c.candidates[a], c.candidates[b]) })
		keys := make([][]string, len(order))
		for i, key := range order {
			keys[i] = c.candidates[key]
		}
		before, err := c.byKey(ctx, c.Source, keys, c.keyed)
		if err != nil {
			return err
		}
		if err := c.Passed(ctx); err != nil {
			return err
		}
		there, err := c.byKey(ctx, c.Target, keys, c.targetKey)
		if err != nil {
			return err
		}
		now, err := c.byKey(ctx, c.Source, keys, c.keyed)
		if err != nil {
			return err
		}
		for _, key := range order {
			now, there := now[key], there[key]
			switch suspect, again := suspects[key]; {
			case !unchanged(before[key], now):
				delete(suspects, key)
				if try < tries {
					continue // it has changed meanwhile
				}
				c.state.Undecided++
			case now == nil && there == nil, now != nil && there != nil && c.same(now, there):
			case !again || !unchanged(suspect.source, now) || !unchanged(suspect.target, there):
				// The source's row may have become another and the same again while the
				// outlet was on its way: it has to be so twice.
				suspects[key] = seen{now, there}
				if try < tries {
					continue
				}
				c.state.Undecided++
			default:
				c.judge(now, there)
			}
			delete(c.candidates, key)
		}
		if len(c.candidates) > 0 {
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(time.Duration(try+1) * 20 * time.Millisecond):
			}
		}
	}
	return nil
}

// compareKeys orders keys as people read them: numbers of fewer digits first.
func compareKeys(a, b []string) int {
	return slices.CompareFunc(a, b, func(x, y string) int {
		return cmp.Or(cmp.Compare(len(x), len(y)), cmp.Compare(x, y))
	})
}

// unchanged reports whether a row is as it was; nil is no row.
func unchanged(was, is []change.Value) bool {
	return (was == nil) == (is == nil) && slices.EqualFunc(was, is, change.Value.Equal)
}

// byKey reads the rows of keys, and gives copies.
func (c *Comparison) byKey(ctx context.Context, side Side, keys [][]string, keyed []int) (map[string][]change.Value, error) {
	rows, err := side.These(ctx, keys)
	if err != nil {
		return nil, fmt.Errorf("reading rows of %s again: %w", c.Table, err)
	}
	found := make(map[string][]change.Value, len(rows))
	for _, row := range rows {
		found[c.rowKey(row, keyed)] = change.CloneImage(row)
	}
	return found, nil
}

func (c *Comparison) judge(source, target []change.Value) {
	d := Difference{Table: c.Table, Key: make(map[string]string)}
	name := func(row []change.Value, keyed []int) {
		for i, at := range c.keyed {
			d.Key[c.Source.Schema().Columns[at].Name] = string(row[keyed[i]].Text)
		}
	}
	switch {
	case target == nil:
		d.Kind = Missing
		c.state.Missing++
		name(source, c.keyed)
	case source == nil:
		d.Kind = Extra
		c.state.Extra++
		name(target, c.targetKey)
	default:
		d.Kind = Different
		c.state.Different++
		name(source, c.keyed)
		for i := range c.names {
			if s, t := source[c.at[i]], target[c.from[i]]; !c.sameValue(i, s, t) {
				d.Columns = append(d.Columns, ColumnDifference{c.names[i], shown(s), shown(t)})
			}
		}
	}
	if c.Found != nil {
		c.Found(d)
	}
}

// shown is a value for a person; the beginning of a long one.
func shown(v change.Value) *string {
	if v.Presence != change.Present {
		return nil
	}
	const most = 200
	text := string(bytes.ToValidUTF8(v.Text, []byte("?")))
	if len(text) > most {
		text = text[:most] + fmt.Sprintf("… (%d bytes)", len(v.Text))
	}
	return &text
}
