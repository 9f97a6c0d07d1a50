package postgres

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

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

// ColumnRule says how the columns that a pattern matches are treated.
type ColumnRule struct {
	Match shape.Pattern
	Treat Treatment
}

// TableRule says whether the tables that a pattern matches are captured, and
// what of them. The first rule that matches a table decides; a table that none
// matches is left out.
type TableRule struct {
	Match  shape.Pattern
	Active bool
	// Columns: the first rule that matches a column decides; others are kept.
	Columns []ColumnRule
	Image   Image
	// Key stands in where a table has no key of its own.
	Key []string
	// Filter, where not nil, is what a row must fulfil.
	Filter *shape.Condition
	// SkipUntouched leaves out updates that touch no captured column.
	SkipUntouched bool
	// Priority: tables with a higher one are loaded first.
	Priority int
	// ByKey loads in the order of the key instead of by place on disk.
	ByKey bool
	// ReloadRewritten reloads a table whose rows a schema change rewrote.
	ReloadRewritten bool
	// Root gives rows of partitions their root's name.
	Root bool
}

// choosy reports whether a row of a captured table may bring no event.
func (r *TableRule) choosy() bool { return r.Filter != nil || r.SkipUntouched }

// treats is the treatment of a column.
func (r *TableRule) treats(column string) Treatment {
	for _, c := range r.Columns {
		if c.Match.Matches(column) {
			return c.Treat
		}
	}
	return Keep
}

// names reports whether a rule for columns says how this one is treated: somebody
// has decided on it, be it to keep it.
func (r *TableRule) names(column string) bool {
	return slices.ContainsFunc(r.Columns, func(c ColumnRule) bool { return c.Match.Matches(column) })
}

// private reports whether any rule keeps values of columns out of the journal.
func (c *Config) private() bool {
	return slices.ContainsFunc(c.Rules, func(r TableRule) bool { return r.private() })
}

// private reports whether the rule keeps values of columns out of the journal.
func (r *TableRule) private() bool {
	return slices.ContainsFunc(r.Columns, func(c ColumnRule) bool { return c.Treat != Keep })
}

// digest names what of a rule decides the content of a table's events; empty
// for a rule that captures all as it is.
func (r *TableRule) digest() string {
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

// ruleFor is the rule that decides on a name; nil where none captures it.
func (c *Config) ruleFor(table string) *TableRule {
	for i := range c.Rules {
		if c.Rules[i].Match.Matches(table) {
			if !c.Rules[i].Active {
				return nil
			}
			return &c.Rules[i]
		}
	}
	return nil
}

// target is the name that a table's rows carry in events, and the rule that
// captures them; nil where none does. root is empty but for a partition.
func (c *Config) target(table, root string) (string, *TableRule) {
	if root != "" {
		if rule := c.ruleFor(root); rule != nil && rule.Root {
			return root, rule
		}
	}
	return table, c.ruleFor(table)
}

// mapsPartitions reports whether any rule gives partitions their root's name.
func (c *Config) mapsPartitions() bool {
	for i := range c.Rules {
		if c.Rules[i].Root {
			return true
		}
	}
	return false
}
