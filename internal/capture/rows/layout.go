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
	"rillmark/internal/expression"
	"rillmark/internal/shape"
)

// Version is what a [Layout] is made of.
type Version struct {
	Engine  change.Engine
	Name    string // the table's in events
	Rule    *rules.Table
	Columns []change.Column // the source's, in the order of the log
	// Order, where not nil, is in which order they are captured, as places in Columns.
	Order   []int
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
	// Treat is what the rule makes of the values of each column of Schema.
	Treat []rules.Treatment
	// Needed says of each of the source's columns whether its values are looked at.
	Needed []bool
	// Source is the source's columns, with the key that the rule gives them.
	Source []change.Column
	// Filter is the rule's, over the source's columns; nil where it has none.
	Filter *expression.BoundCondition
	hash   func(dst, canonical []byte) []byte
}

// New makes a layout. A rule that does not fit the table is a final [engine.Fault].
func New(v Version) (*Layout, error) {
	l := &Layout{Rule: v.Rule, Source: slices.Clone(v.Columns), Needed: make([]bool, len(v.Columns))}
	unfit := func(format string, args ...any) error {
		return &engine.Fault{Code: "rule-unfit", Final: true, Message: fmt.Sprintf("the rule %s does not fit table %s: ", v.Rule.Match, v.Name) + fmt.Sprintf(format, args...),
			Fix: "edit the source's rules; nothing was lost, capture waits there"}
	}
	keyed := slices.ContainsFunc(l.Source, func(c change.Column) bool { return c.Key > 0 })
	for place, name := range v.Rule.Key {
		i := slices.IndexFunc(l.Source, func(c change.Column) bool { return c.Name == name })
		if i < 0 && !keyed {
			return nil, unfit("its key names column %q, which the table does not have", name)
		}
		if !keyed {
			l.Source[i].Key = place + 1
		}
	}
	var columns []change.Column
	var leftOut []string
	order := v.Order
	if order == nil {
		order = places(len(l.Source))
	}
	for _, i := range order {
		column := l.Source[i]
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
			column = column.Treated(change.Masked)
		case rules.Hash:
			column = column.Treated(change.Hashed)
			l.hash = shape.NewHasher(v.HashKey)
		case rules.Keep:
		}
		if v.Rule.Image == rules.ImageKey && column.Key == 0 {
			continue
		}
		columns = append(columns, column)
		l.From, l.Treat = append(l.From, i), append(l.Treat, treat)
		l.Needed[i] = true
	}
	if len(columns) == 0 && v.Rule.Image == rules.ImageKey {
		return nil, unfit("its image is the key, and the table has none; give it one with `key`")
	}
	l.Schema = change.NewSchema(v.Engine, v.Name, columns, leftOut, v.Guessed)
	if v.Rule.Filter != nil {
		var err error
		if l.Filter, err = v.Rule.Filter.Bind(v.Name, l.Source); err != nil {
			return nil, unfit("%s", err)
		}
		for _, i := range l.Filter.Uses() {
			l.Needed[i] = true
		}
	}
	return l, nil
}

func places(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	return all
}

// Private is the name of a column that another, which the rules kept private, seems to have
// become: one is gone that they treated, and one has come on which they say nothing. Empty
// where there is none.
func (l *Layout) Private(before *change.Schema) string {
	has := func(name string) bool {
		return slices.ContainsFunc(l.Source, func(c change.Column) bool { return c.Name == name })
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
	for _, c := range l.Source {
		known := slices.ContainsFunc(before.Columns, func(o change.Column) bool { return o.Name == c.Name }) || slices.Contains(before.LeftOut, c.Name)
		if !known && !l.Rule.Decides(c.Name) {
			return gone
		}
	}
	return ""
}

// Verdict is what the rule's filter says of a row of the source, whose values value gives
// by their places; nil counts as unknown.
func (l *Layout) Verdict(value func(i int) change.Value) expression.Verdict {
	if l.Filter == nil {
		return expression.Holds
	}
	if value == nil {
		return expression.Unknown
	}
	held, known := l.Filter.Holds(value)
	switch {
	case !known:
		return expression.Unknown
	case held:
		return expression.Holds
	}
	return expression.Fails
}

// GaveUp says that the filter was given up for a row since [Layout.Verdict] was asked first: whether
// the row belongs to the source is not known, and nothing behind it may be read. The error is an
// [engine.Fault].
func (l *Layout) GaveUp() error {
	if l.Filter == nil {
		return nil
	}
	if err := l.Filter.Beyond(); err != nil {
		return &engine.Fault{Code: "rule-beyond", Final: true, Cause: err, Message: fmt.Sprintf("the filter of the rule on %s cannot be worked out for one of its rows", l.Schema.Table),
			Fix: "write a simpler filter in the source's rules; nothing was lost, capture waits before that row"}
	}
	return nil
}

// Concerns reports whether an update brings an event, and which effect the rule's filter
// gives it, of whose old and new row the filter has said was and is. touched reports
// whether any captured value has changed; true where that is not known.
func (l *Layout) Concerns(was, is expression.Verdict, touched func() bool) (expression.Effect, bool) {
	effect := expression.EffectOf(was, is)
	switch {
	case effect == expression.Nothing:
		return effect, false
	case !l.Rule.SkipUntouched || was != is:
		return effect, true
	}
	return effect, touched()
}

// Treated appends what the rule makes of a value of a column of Schema, canonical being
// its text.
func (l *Layout) Treated(dst []byte, column int, canonical []byte) []byte {
	switch l.Treat[column] {
	case rules.Mask:
		return shape.AppendMask(dst)
	case rules.Hash:
		return l.hash(dst, canonical)
	case rules.Keep, rules.Drop:
	}
	return append(dst, canonical...)
}
