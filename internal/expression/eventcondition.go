package expression

import (
	"fmt"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// EventCondition is a condition over events in CEL, read but not yet bound to a table.
//
// A column is a variable of its name, and row["name"] is any of them: such a condition is
// about a row, so that rows can enter and leave what it chooses. One that names before,
// after, key, changed, operation, table or transaction is about the event: it is worked out
// once.
type EventCondition struct {
	text string
	row  *Condition
}

// maxCondition is how long a condition may be, in bytes.
const maxCondition = 10_000

// ParseEventCondition reads a condition; its error names line and column.
func ParseEventCondition(text string) (*EventCondition, error) {
	if len(text) > maxCondition {
		return nil, fmt.Errorf("the condition has %d bytes; the limit is %d", len(text), maxCondition)
	}
	row, err := ParseCondition(text)
	if err != nil {
		return nil, err
	}
	return &EventCondition{text: text, row: row}, nil
}

// String is the condition as it was written.
func (c *EventCondition) String() string { return c.text }

// BoundEventCondition is a condition over events of one schema version. It is not safe for
// several goroutines.
type BoundEventCondition struct {
	eventView
	text    string
	row     *BoundCondition // where it is about a row; else
	program cel.Program
	meter   meter
	beyond  error
}

// Beyond says why the condition was given up for an event that it has been asked about, once; nil
// where it was not.
func (b *BoundEventCondition) Beyond() error {
	if b.row != nil {
		return b.row.Beyond()
	}
	err := b.beyond
	b.beyond = nil
	return err
}

// ResolveName implements [interpreter.Activation].
func (b *BoundEventCondition) ResolveName(name string) (any, bool) {
	if value, known := b.eventView.ResolveName(name); known {
		return value, true
	}
	return b.meter.resolve(name)
}

// Bind makes a condition ready for events of a schema version. It fails where the condition
// names a column that is not there, or compares what cannot be compared.
func (c *EventCondition) Bind(schema *change.Schema) (*BoundEventCondition, error) {
	about, err := c.names()
	if err != nil {
		return nil, err
	}
	b := &BoundEventCondition{text: c.text, eventView: eventView{schema: schema}}
	if !asksEvent(about, schema) {
		b.row, err = c.row.Bind(schema.Table, schema.Columns)
		return b, err
	}
	base, err := library()
	if err != nil {
		return nil, err
	}
	env, err := eventEnvironment(base, schema, eventNames)
	if err != nil {
		return nil, err
	}
	checked, issues := compile(env, c.text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("the condition %q does not fit %s: %s%s; its columns are %s, as before.NAME or after.NAME", c.text, schema.Table, firstIssue(issues), closest(issues, schema.Columns), columnNames(schema.Columns))
	}
	if !checked.OutputType().IsExactType(cel.BoolType) {
		return nil, fmt.Errorf("the condition %q on %s gives %s, but has to give true or false", c.text, schema.Table, checked.OutputType())
	}
	if err := affordable(checked, nil); err != nil {
		return nil, fmt.Errorf("the condition %q on %s %w", c.text, schema.Table, err)
	}
	b.eventView = eventViewOf(checked.NativeRep().Expr(), schema)
	if b.program, err = programOf(env, checked, nil); err != nil {
		return nil, fmt.Errorf("the condition %q on %s: %w", c.text, schema.Table, err)
	}
	return b, nil
}

// names are the variables that a condition names.
func (c *EventCondition) names() ([]string, error) {
	env, err := library()
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(c.text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("the condition cannot be read: %s", firstIssue(issues))
	}
	return namesIn(parsed.NativeRep().Expr()), nil
}

// String is the condition as it was written.
func (b *BoundEventCondition) String() string { return b.text }

// Row is the condition as one about a row; nil where it is about more.
func (b *BoundEventCondition) Row() *BoundCondition { return b.row }

// Uses are the columns that the condition looks at.
func (b *BoundEventCondition) Uses() []int {
	if b.row != nil {
		return b.row.Uses()
	}
	return b.looksAt()
}

// VerdictOn is what a condition about a row says of an image; of none nothing is known.
func (b *BoundCondition) VerdictOn(image []change.Value) Verdict {
	if image == nil {
		return Unknown
	}
	holds, known := b.HoldsIn(image)
	switch {
	case !known:
		return Unknown
	case holds:
		return Holds
	}
	return Fails
}

// Effect is what becomes of an event: Nothing where it does not go out.
func (b *BoundEventCondition) Effect(e *change.Event) Effect {
	if b.row == nil {
		if b.about(e) == Fails {
			return Nothing
		}
		return Changes
	}
	if e.Operation == change.Update {
		return EffectOf(b.row.VerdictOn(e.Before), b.row.VerdictOn(e.After))
	}
	if b.row.VerdictOn(e.Image()) == Fails {
		return Nothing
	}
	return Changes
}

// about is the verdict of a condition on an event.
func (b *BoundEventCondition) about(e *change.Event) Verdict {
	null, lacks := b.take(e)
	if lacks != "" {
		return Unknown
	}
	out, err := b.meter.run(b.program, b)
	switch {
	case isBeyond(err):
		b.beyond = fmt.Errorf("the condition %q: %w", b.text, err)
		return Unknown
	case err != nil && null:
		return Fails
	case err != nil:
		return Unknown
	case out == types.True:
		return Holds
	}
	return Fails
}

// Says is what the condition makes of an event, with the values that it looks at.
func (b *BoundEventCondition) Says(e *change.Event) string {
	word := func(v Verdict) string {
		return map[Verdict]string{Fails: "does not hold", Holds: "holds", Unknown: "is not known"}[v]
	}
	var text string
	switch {
	case b.row == nil:
		text = "it " + word(b.about(e)) + " for the event"
	case e.Operation == change.Update:
		text = fmt.Sprintf("it %s for the row before, and %s for the row after", word(b.row.VerdictOn(e.Before)), word(b.row.VerdictOn(e.After)))
	default:
		text = "it " + word(b.row.VerdictOn(e.Image())) + " for the row"
	}
	var values []string
	for _, i := range b.Uses() {
		if len(values) == maxSaid {
			values = append(values, "…")
			break
		}
		value := said(e.Before, i)
		if after := said(e.After, i); e.Before == nil || after != value && e.After != nil {
			if value = after; e.Before != nil {
				value = said(e.Before, i) + " → " + after
			}
		}
		values = append(values, b.schema.Columns[i].Name+" "+value)
	}
	if len(values) > 0 {
		text += " (" + strings.Join(values, ", ") + ")"
	}
	return text
}

// maxSaid is how many values are shown.
const maxSaid = 6

// said is a value of an image in a few letters.
func said(image []change.Value, column int) string {
	switch {
	case image == nil:
		return "–"
	case image[column].Presence == change.Omitted:
		return "not in the log"
	case image[column].Presence == change.Null:
		return "null"
	}
	text := []rune(string(image[column].Text[:min(len(image[column].Text), 200)]))
	if len(text) > 40 {
		return string(text[:40]) + "…"
	}
	return string(text)
}
