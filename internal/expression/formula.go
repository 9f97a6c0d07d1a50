package expression

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// Formula is an expression over the columns of one schema version, and over what an event says
// besides: before, after, key, changed, operation, table and transaction, but for those that a
// column has the name of. It is not safe for several goroutines.
type Formula struct {
	rowView
	about   *eventView // nil where it looks at the row alone
	program cel.Program
	meter   meter
	joined  []joinedPart // where it only puts texts together
	kind    valueKind
	digits  int
	places  int32
}

// maxExpression is how long an expression may be, in bytes.
const maxExpression = 10_000

// valueKind is what an expression's values become.
type valueKind string

// Bind makes an expression ready for rows of a schema version, and says what column its
// values fill. kind is one of [ValueTypes], or empty to take what the expression gives.
func (x *Formulas) Bind(schema *change.Schema, text, kind string) (*Formula, change.Column, error) {
	var column change.Column
	if len(text) > maxExpression {
		return nil, column, fmt.Errorf("the expression has %d bytes; the limit is %d", len(text), maxExpression)
	}
	env, err := x.env.Extend(columnVariables(schema.Columns)...)
	if err != nil {
		return nil, column, err
	}
	env, err = eventEnvironment(env, schema, slices.DeleteFunc(slices.Clone(eventNames), func(name string) bool { return HasColumn(schema, name) }))
	if err != nil {
		return nil, column, err
	}
	checked, issues := compile(env, text)
	if issues.Err() != nil {
		return nil, column, fmt.Errorf("%s%s%s; the columns of %s are %s", firstIssue(issues), closest(issues, schema.Columns), mixed(issues), schema.Table, columnNames(schema.Columns))
	}
	if err := affordable(checked, x.own); err != nil {
		return nil, column, fmt.Errorf("it %w", err)
	}
	e := &Formula{rowView: viewOf(checked.NativeRep().Expr(), schema.Columns)}
	if asksEvent(namesIn(checked.NativeRep().Expr()), schema) {
		view := eventViewOf(checked.NativeRep().Expr(), schema)
		e.about = &view
	}
	if e.program, err = programOf(env, checked, x.own); err != nil {
		return nil, column, err
	}
	given, err := kindOf(checked.OutputType())
	if kind == "" && err != nil {
		return nil, column, err
	}
	if kind == "" {
		kind = given
	}
	if parts := decimalDigits.FindStringSubmatch(kind); parts != nil {
		e.digits, _ = strconv.Atoi(parts[1]) // they are digits
		places, _ := strconv.Atoi(parts[2])
		e.places, kind = int32(places), "decimal"
	}
	if err == nil && !becomes(given, kind) {
		return nil, column, fmt.Errorf("it gives %s, which is no %s: write %s(…), or leave the type out", given, kind, conversionTo(kind))
	}
	e.kind = valueKind(kind)
	if given == "text" && kind == "text" {
		e.joined = joinedOf(checked.NativeRep().Expr(), schema.Columns)
	}
	return e, e.column(schema.Engine), nil
}

// mixed is what to do where integers and doubles meet.
func mixed(issues *cel.Issues) string {
	text := firstIssue(issues)
	if strings.Contains(text, "no matching overload") && strings.Contains(text, "double") && strings.Contains(text, "int") {
		return " (a number with a point is a double: write decimal(0.25), or double(column))"
	}
	return ""
}

// AboutEvent reports whether the expression looks at more than the row.
func (f *Formula) AboutEvent() bool { return f.about != nil }

// Append works the expression out for the row of an event, which is nil where there is none,
// and appends the canonical text of its value. The value is omitted where one that it needs is,
// or the event, and null where one is null and nothing comes of that.
func (e *Formula) Append(dst []byte, row []change.Value, event *change.Event) ([]byte, change.Presence, error) {
	null := false
	if e.about != nil && event == nil {
		return dst, change.Omitted, nil
	}
	if e.about != nil {
		var lacks string
		if null, lacks = e.about.take(event); lacks == "" && event.Operation == change.Update && event.Before == nil && e.about.former {
			lacks = "before"
		}
		if lacks != "" {
			return dst, change.Omitted, notInLog(lacks)
		}
	}
	for _, i := range e.uses {
		switch row[i].Presence {
		case change.Omitted:
			return dst, change.Omitted, nil
		case change.Null:
			null = true
		case change.Present:
		}
	}
	if e.joined != nil && !null {
		if joined, ok := join(dst, e.joined, row); ok {
			return joined, change.Present, nil
		}
	}
	e.row = row
	out, err := e.meter.run(e.program, e)
	if isBeyond(err) {
		return dst, change.Omitted, err
	}
	if err == nil && out.Type() == types.NullType {
		return dst, change.Null, nil
	}
	if err != nil && null {
		return dst, change.Null, nil
	}
	if err != nil {
		return dst, change.Omitted, err
	}
	dst, err = e.write(dst, out)
	return dst, change.Present, err
}

// ResolveName implements [interpreter.Activation]: a column comes before the event's own names.
func (f *Formula) ResolveName(name string) (any, bool) {
	value, known := f.rowView.ResolveName(name)
	if !known && f.about != nil {
		value, known = f.about.ResolveName(name)
	}
	if !known {
		return f.meter.resolve(name)
	}
	return value, known
}

// Uses are the columns that the formula looks at, by their places in the row.
func (f *Formula) Uses() []int {
	if f.about == nil {
		return f.uses
	}
	all := append(slices.Clone(f.uses), f.about.looksAt()...)
	if f.about.key {
		all = append(all, f.about.schema.Key()...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// notInLog says what an expression needs that the log has left out.
func notInLog(what string) error {
	return fmt.Errorf("the log does not have %q: ALTER TABLE … REPLICA IDENTITY FULL, or a full row image, puts it there", what)
}

// Unknown says why the value of an update's row is not known: something that it needs was
// left out, and something else that it needs may have changed.
func (f *Formula) Unknown(e *change.Event) error {
	left := ""
	changed := f.about != nil // which is of this event alone
	for _, i := range f.uses {
		switch {
		case e.After[i].Presence == change.Omitted:
			left = f.columns[i].Name
		case e.Before == nil || !e.Before[i].Equal(e.After[i]):
			changed = true
		}
	}
	if left == "" || !changed {
		return nil
	}
	return fmt.Errorf("the log does not have %q, which is large and has not changed: ALTER TABLE … REPLICA IDENTITY FULL, or a full row image, puts it there", left)
}

// Says are the values that a formula looks at in the row of an event, for people.
func (f *Formula) Says(row []change.Value, event *change.Event) string {
	var values []string
	say := func(prefix string, image []change.Value, columns []int) {
		for _, i := range columns {
			if len(values) == maxSaid {
				values = append(values, "…")
			}
			if len(values) > maxSaid {
				return
			}
			values = append(values, prefix+f.columns[i].Name+" "+said(image, i))
		}
	}
	say("", row, f.uses)
	if f.about != nil && event != nil {
		say("before.", event.Before, f.about.before)
		say("after.", event.After, f.about.after)
	}
	return strings.Join(values, ", ")
}
