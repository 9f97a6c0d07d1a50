package change

import (
	"cmp"
	"slices"
	"strings"
)

// ColumnDiff is what became of one column between two versions of a table.
type ColumnDiff struct {
	Name string `json:"name"`
	// What is one of added, dropped, changed and same.
	What string `json:"what" enum:"added,dropped,changed,same"`
	// Before and After are nil where the version has no such column.
	Before *Column `json:"before,omitempty"`
	After  *Column `json:"after,omitempty"`
	// Says is the change in words: "type integer → bigint, now in the key".
	Says string `json:"says,omitempty"`
}

// Diff compares two versions column by column: in the order of the later one,
// dropped ones where they stood. A renamed column shows as one dropped and one
// added, since nothing in the log ties them.
func Diff(before, after *Schema) []ColumnDiff {
	var diffs []ColumnDiff
	at := func(s *Schema, name string) int {
		return slices.IndexFunc(s.Columns, func(c Column) bool { return c.Name == name })
	}
	dropped := func(from int) int {
		for ; from < len(before.Columns) && at(after, before.Columns[from].Name) < 0; from++ {
			diffs = append(diffs, ColumnDiff{Name: before.Columns[from].Name, What: "dropped", Before: &before.Columns[from]})
		}
		return from
	}
	next := dropped(0)
	for i := range after.Columns {
		c := &after.Columns[i]
		j := at(before, c.Name)
		if j < 0 {
			diffs = append(diffs, ColumnDiff{Name: c.Name, What: "added", After: c})
			continue
		}
		old := &before.Columns[j]
		one := ColumnDiff{Name: c.Name, What: "same", Before: old, After: c, Says: says(old, c)}
		if one.Says != "" {
			one.What = "changed"
		}
		diffs = append(diffs, one)
		if j >= next {
			next = dropped(j + 1)
		}
	}
	return diffs
}

// Changes say in words what differs between two versions, renamed columns as such.
func Changes(before, after *Schema, renamed []Rename) []string {
	said := []string{}
	known := make(map[string]bool)
	for _, r := range renamed {
		said = append(said, r.From+" is now "+r.To)
		known[r.From], known[r.To] = true, true
		if was, is := before.Column(r.From), after.Column(r.To); was != nil && is != nil {
			if text := says(was, is); text != "" {
				said = append(said, r.To+": "+text)
			}
		}
	}
	for _, d := range Diff(before, after) {
		switch {
		case known[d.Name] || d.What == "same":
		case d.What == "changed":
			said = append(said, d.Name+": "+d.Says)
		case d.What == "added":
			said = append(said, "added "+d.Name+" "+d.After.TypeName())
		default:
			said = append(said, d.What+" "+d.Name)
		}
	}
	return said
}

func says(before, after *Column) string {
	var parts []string
	if before.Type != after.Type {
		parts = append(parts, "type "+before.Type+" → "+after.Type)
	}
	if before.Treatment != after.Treatment {
		parts = append(parts, "values "+treated(before)+" → "+treated(after))
	}
	if before.Rule != after.Rule || before.Element != after.Element {
		parts = append(parts, "rule "+string(before.Rule)+" → "+string(after.Rule))
	}
	switch {
	case before.Nullable && !after.Nullable:
		parts = append(parts, "nulls no longer allowed")
	case !before.Nullable && after.Nullable:
		parts = append(parts, "nulls now allowed")
	}
	switch {
	case before.Key == 0 && after.Key > 0:
		parts = append(parts, "now in the key")
	case before.Key > 0 && after.Key == 0:
		parts = append(parts, "no longer in the key")
	case before.Key != after.Key:
		parts = append(parts, "another place in the key")
	}
	if before.Collation != after.Collation && before.Key > 0 && after.Key > 0 {
		parts = append(parts, "keys are compared by "+cmp.Or(after.Collation, "each character"))
	}
	if !slices.Equal(before.Labels, after.Labels) {
		parts = append(parts, "labels "+strings.Join(before.Labels, ", ")+" → "+strings.Join(after.Labels, ", "))
	}
	return strings.Join(parts, "; ")
}

func treated(c *Column) string {
	if c.Treatment == "" {
		return "as they are"
	}
	return string(c.Treatment)
}
