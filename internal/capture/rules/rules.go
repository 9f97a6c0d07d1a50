// Package rules is what a source's table rules mean, whichever engine reads it: which
// tables are captured and under which name, what becomes of each column's values, and
// which changes of a filtered table bring an event.
package rules

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

	"rillmark/internal/expression"
	"rillmark/internal/shape"
)

// Image is how much of a row is recorded.
type Image string

// The images.
const (
	ImageKey   Image = "key"
	ImageAfter Image = "after"
	ImageBoth  Image = "both"
)

// Treatment is what becomes of a column's values before they reach the journal.
type Treatment string

// The treatments.
const (
	Keep Treatment = "keep"
	Drop Treatment = "drop"
	Mask Treatment = "mask"
	Hash Treatment = "hash"
)

// Column says how the columns that a pattern matches are treated.
type Column struct {
	Match shape.Pattern
	Treat Treatment
}

// Table says whether the tables that a pattern matches are captured, and
// what of them. The first rule that matches a table decides; a table that none
// matches is left out.
type Table struct {
	Match  shape.Pattern
	Active bool
	// Columns: the first rule that matches a column decides; others are kept.
	Columns []Column
	Image   Image
	// Key stands in where a table has no key of its own.
	Key []string
	// Filter, where not nil, is what a row must fulfil.
	Filter *expression.Condition
	// SkipUntouched leaves out updates that touch no captured column.
	SkipUntouched bool
	// Priority: tables with a higher one are loaded first.
	Priority int
	// ByKey loads in the order of the key instead of by place on disk.
	ByKey bool
	// ReloadRewritten reloads a table whose rows changed without an event, whatever did that.
	ReloadRewritten bool
	// ReloadUpTo is how many rows a table may have that is reloaded when a schema change did that; 0 is none.
	ReloadUpTo int64
	// Root gives rows of partitions their root's name.
	Root bool
}

// Reloads reports whether a table with some rows is loaded again when they have changed without an
// event; otherwise it is stale. schema says that a schema change did that: nothing follows from
// loading its table, whereas of other causes each load may bring the next.
func (r *Table) Reloads(rows int64, schema bool) bool {
	return r.ReloadRewritten || schema && r.ReloadUpTo > 0 && rows <= r.ReloadUpTo
}

// Filtered reports whether a row of a captured table may bring no event.
func (r *Table) Filtered() bool { return r.Filter != nil || r.SkipUntouched }

// Treatment is what becomes of a column's values.
func (r *Table) Treatment(column string) Treatment {
	for _, c := range r.Columns {
		if c.Match.Matches(column) {
			return c.Treat
		}
	}
	return Keep
}

// Decides reports whether a rule for columns says how this one is treated: somebody
// has decided on it, be it to keep it.
func (r *Table) Decides(column string) bool {
	return slices.ContainsFunc(r.Columns, func(c Column) bool { return c.Match.Matches(column) })
}

// Set is a source's rules in their order.
type Set []Table

// Private reports whether any rule keeps values of columns out of the journal.
func (s Set) Private() bool {
	return slices.ContainsFunc(s, func(r Table) bool { return r.Private() })
}

// Private reports whether the rule keeps values of columns out of the journal.
func (r *Table) Private() bool {
	return slices.ContainsFunc(r.Columns, func(c Column) bool { return c.Treat != Keep })
}

// Digest names what of a rule decides the content of a table's events; empty
// for a rule that captures all as it is.
func (r *Table) Digest() string {
	if len(r.Columns) == 0 && r.Image != ImageKey && len(r.Key) == 0 && r.Filter == nil && !r.Root {
		return ""
	}
	var columns []string
	for _, c := range r.Columns {
		columns = append(columns, c.Match.String(), string(c.Treat))
	}
	filter := ""
	if r.Filter != nil {
		filter = r.Filter.String()
	}
	encoded, err := json.Marshal([]any{columns, r.Image == ImageKey, r.Key, filter, r.Root})
	if err != nil {
		panic(err) // strings and booleans always marshal
	}
	sum := sha256.Sum256(encoded)
	return hex.EncodeToString(sum[:8])
}

// For is the rule that captures a table; nil where none does.
func (s Set) For(table string) *Table {
	for i := range s {
		if s[i].Match.Matches(table) {
			if !s[i].Active {
				return nil
			}
			return &s[i]
		}
	}
	return nil
}

// Target is the name that a table's rows carry in events, and the rule that
// captures them; nil where none does. root is empty but for a partition.
func (s Set) Target(table, root string) (string, *Table) {
	if root != "" {
		if rule := s.For(root); rule != nil && rule.Root {
			return root, rule
		}
	}
	return table, s.For(table)
}

// MapsPartitions reports whether any rule gives partitions their root's name.
func (s Set) MapsPartitions() bool {
	return slices.ContainsFunc(s, func(r Table) bool { return r.Root })
}
