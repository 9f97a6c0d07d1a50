// Package rows is what a source's rules make of rows, whichever engine reads them: which
// columns a version of a table has, what becomes of their values, and which events a
// change of a row brings.
package rows

import (
	"fmt"
	"slices"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/shape"
)

// Version is what a [Layout] is made of.
type Version struct {
	Engine  change.Engine
	Name    string // the table's in events
	Rule    *rules.Table
	Columns []change.Column // the source's, in the order of the log
	HashKey []byte
	Guessed bool
}

// Layout is a schema version and how rows of the source become rows of it. It is not safe
// for several goroutines.
type Layout struct {
	Rule   *rules.Table
	Schema *change.Schema
	// From is the place among the source's columns of each column of Schema.
	From []int
	// Needed says of each of the source's columns whether its values are looked at.
	Needed  []bool
	columns []change.Column
	treat   []rules.Treatment
	hash    func(dst, canonical []byte) []byte
	filter  *shape.BoundCondition
}

// New makes a layout. A rule that does not fit the table is a final [engine.Fault].
func New(v Version) (*Layout, error) {
	l := &Layout{Rule: v.Rule, columns: slices.Clone(v.Columns), Needed: make([]bool, len(v.Columns))}
	unfit := func(format string, args ...any) error {
		return &engine.Fault{Code: "rule-unfit", Final: true, Message: fmt.Sprintf("the rule %s does not fit table %s: ", v.Rule.Match, v.Name) + fmt.Sprintf(format, args...),
			Fix: "edit the source's rules; nothing was lost, capture waits there"}
	}
	keyed := slices.ContainsFunc(l.columns, func(c change.Column) bool { return c.Key > 0 })
	for place, name := range v.Rule.Key {
		i := slices.IndexFunc(l.columns, func(c change.Column) bool { return c.Name == name })
		if i < 0 && !keyed {
			return nil, unfit("its key names column %q, which the table does not have", name)
		}
		if !keyed {
			l.columns[i].Key = place + 1
		}
	}
	var columns []change.Column
	var leftOut []string
	for i, column := range l.columns {
		treat := v.Rule.Treatment(column.Name)
		if column.Key > 0 && (treat == rules.Drop || treat == rules.Mask) {
			did := map[rules.Treatment]string{rules.Drop: "dropped", rules.Mask: "masked"}
			return nil, unfit("column %q is %s, but belongs to the key, by which consumers tell rows apart; hash it, or give the table another key", column.Name, did[treat])
		}
		switch treat {
		case rules.Drop:
			leftOut = append(leftOut, column.Name)
			continue
		case rules.Mask:
			column = treated(column, change.Masked)
		case rules.Hash:
			column = treated(column, change.Hashed)
			l.hash = rules.NewHasher(v.HashKey)
		case rules.Keep:
		}
		if v.Rule.Image == rules.ImageKey && column.Key == 0 {
			continue
		}
		columns = append(columns, column)
		l.From, l.treat = append(l.From, i), append(l.treat, treat)
		l.Needed[i] = true
	}
	if len(columns) == 0 && v.Rule.Image == rules.ImageKey {
		return nil, unfit("its image is the key, and the table has none; give it one with `key`")
	}
	l.Schema = change.NewSchema(v.Engine, v.Name, columns, leftOut, v.Guessed)
	if v.Rule.Filter != nil {
		var err error
		if l.filter, err = v.Rule.Filter.Bind(v.Name, l.columns); err != nil {
			return nil, unfit("%s", err)
		}
		for _, i := range l.filter.Uses() {
			l.Needed[i] = true
		}
	}
	return l, nil
}

// treated is a column of which the rule has made something else.
func treated(c change.Column, to change.Treatment) change.Column {
	c.Treatment, c.Rule, c.Element, c.Bits, c.Labels = to, change.RuleText, "", 0, nil
	return c
}

// Private is the name of a column that another, which the rules kept private, seems to have
// become: one is gone that they treated, and one has come on which they say nothing. Empty
// where there is none.
func (l *Layout) Private(before *change.Schema) string {
	has := func(name string) bool {
		return slices.ContainsFunc(l.columns, func(c change.Column) bool { return c.Name == name })
	}
	gone := ""
	for _, c := range before.Columns {
		if c.Treatment != "" && !has(c.Name) {
			gone = c.Name
		}
	}
	for _, name := range before.LeftOut {
		if !has(name) {
			gone = name
		}
	}
	if gone == "" {
		return ""
	}
	for _, c := range l.columns {
		known := slices.ContainsFunc(before.Columns, func(o change.Column) bool { return o.Name == c.Name }) || slices.Contains(before.LeftOut, c.Name)
		if !known && !l.Rule.Decides(c.Name) {
			return gone
		}
	}
	return ""
}

// Verdict is what the rule's filter says of a row of the source; nil counts as unknown.
func (l *Layout) Verdict(row []change.Value) rules.Verdict {
	if l.filter == nil {
		return rules.Holds
	}
	if row == nil {
		return rules.Unknown
	}
	held, known := l.filter.Holds(func(i int) change.Value { return row[i] })
	switch {
	case !known:
		return rules.Unknown
	case held:
		return rules.Holds
	}
	return rules.Fails
}
