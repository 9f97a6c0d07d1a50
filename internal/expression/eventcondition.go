package expression

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/checker"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/interpreter"

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

// maxEstimate bounds what one evaluation of a condition over events may take, as CEL
// estimates it; texts count as a thousand letters, lists as a hundred elements.
const maxEstimate = 1_000_000

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
	text    string
	row     *BoundCondition // where it is about a row; else
	program cel.Program
	schema  *change.Schema
	before  []int // the columns of the images that it looks at
	after   []int
	changed bool // it asks which columns have changed
	event   *change.Event
	maps    map[string]any
}

// the names of what a condition over events can look at besides columns.
var eventNames = []string{"before", "after", "key", "changed", "operation", "table", "transaction"}

const imageType = "rillmark.Image"

// imageTypes knows the columns of before, after and key.
type imageTypes struct {
	*types.Registry
	columns []change.Column
}

// FindStructType implements [types.Provider].
func (t *imageTypes) FindStructType(name string) (*types.Type, bool) {
	if name == imageType {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return t.Registry.FindStructType(name)
}

// FindStructFieldNames implements [types.Provider].
func (t *imageTypes) FindStructFieldNames(name string) ([]string, bool) {
	if name != imageType {
		return t.Registry.FindStructFieldNames(name)
	}
	names := make([]string, len(t.columns))
	for i, c := range t.columns {
		names[i] = c.Name
	}
	return names, true
}

// FindStructFieldType implements [types.Provider].
func (t *imageTypes) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if name != imageType {
		return t.Registry.FindStructFieldType(name, field)
	}
	i := slices.IndexFunc(t.columns, func(c change.Column) bool { return c.Name == field })
	if i < 0 {
		return nil, false
	}
	return &types.FieldType{Type: celType(t.columns[i])}, true
}

// Bind makes a condition ready for events of a schema version. It fails where the condition
// names a column that is not there, or compares what cannot be compared.
func (c *EventCondition) Bind(schema *change.Schema) (*BoundEventCondition, error) {
	about, err := c.names()
	if err != nil {
		return nil, err
	}
	b := &BoundEventCondition{text: c.text, schema: schema}
	if !slices.ContainsFunc(about, func(name string) bool { return slices.Contains(eventNames, name) && !HasColumn(schema, name) }) {
		b.row, err = c.row.Bind(schema.Table, schema.Columns)
		return b, err
	}
	base, err := library()
	if err != nil {
		return nil, err
	}
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	image := cel.ObjectType(imageType)
	env, err := base.Extend(cel.CustomTypeProvider(&imageTypes{registry, schema.Columns}),
		cel.Variable("before", image), cel.Variable("after", image), cel.Variable("key", image), cel.Variable("changed", cel.ListType(cel.StringType)),
		cel.Variable("operation", cel.StringType), cel.Variable("table", cel.StringType), cel.Variable("transaction", cel.MapType(cel.StringType, cel.DynType)))
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
	if err := affordable(env, checked); err != nil {
		return nil, fmt.Errorf("the condition %q on %s %w", c.text, schema.Table, err)
	}
	b.look(checked.NativeRep().Expr())
	if b.program, err = programOf(env, checked); err != nil {
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
	var names []string
	ast.PostOrderVisit(parsed.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.IdentKind {
			names = append(names, e.AsIdent())
		}
	}))
	return names, nil
}

func HasColumn(schema *change.Schema, name string) bool {
	return slices.ContainsFunc(schema.Columns, func(c change.Column) bool { return c.Name == name })
}

// look notes what the condition looks at.
func (b *BoundEventCondition) look(e ast.Expr) {
	note := func(image, column string) {
		at := slices.IndexFunc(b.schema.Columns, func(c change.Column) bool { return c.Name == column })
		switch image {
		case "before":
			b.before = append(b.before, at)
		case "after":
			b.after = append(b.after, at)
		}
	}
	ast.PostOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.SelectKind:
			if of := e.AsSelect().Operand(); of.Kind() == ast.IdentKind {
				note(of.AsIdent(), e.AsSelect().FieldName())
			}
		case ast.IdentKind:
			b.changed = b.changed || e.AsIdent() == "changed"
		default:
		}
	}))
}

// affordable says why a condition may take too long. That is decided before it is used: a limit
// that is counted while it is worked out makes it several times slower.
func affordable(env *cel.Env, checked *cel.Ast) error {
	if cost, err := env.EstimateCost(checked, sizes{}); err == nil && cost.Max > maxEstimate {
		return fmt.Errorf("may take too long: up to %d steps for one event, the limit is %d", cost.Max, maxEstimate)
	}
	return nil
}

// sizes are what the cost of a condition is estimated by.
type sizes struct{}

// EstimateSize implements [checker.CostEstimator].
func (sizes) EstimateSize(element checker.AstNode) *checker.SizeEstimate {
	if element.Type().Kind() == types.ListKind || element.Type().Kind() == types.MapKind {
		return &checker.SizeEstimate{Min: 0, Max: 100}
	}
	return &checker.SizeEstimate{Min: 0, Max: 1000}
}

// EstimateCallCost implements [checker.CostEstimator].
func (sizes) EstimateCallCost(string, string, *checker.AstNode, []checker.AstNode) *checker.CallEstimate {
	return nil
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
	all := append(slices.Clone(b.before), b.after...)
	slices.Sort(all)
	return slices.Compact(all)
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
	null := false
	for _, one := range []struct {
		image []change.Value
		uses  []int
	}{{e.Before, b.before}, {e.After, b.after}} {
		for _, i := range one.uses {
			switch {
			case one.image == nil || one.image[i].Presence == change.Null:
				null = true
			case one.image[i].Presence == change.Omitted:
				return Unknown
			}
		}
	}
	if b.changed && e.Operation == change.Update {
		if _, known := e.Changed(nil); !known {
			return Unknown
		}
	}
	b.event, b.maps = e, make(map[string]any, 4)
	out, _, err := b.program.Eval(b)
	switch {
	case err != nil && null:
		return Fails
	case err != nil:
		return Unknown
	case out == types.True:
		return Holds
	}
	return Fails
}

// ResolveName implements [interpreter.Activation] for the event at hand.
func (b *BoundEventCondition) ResolveName(name string) (any, bool) {
	if value, known := b.maps[name]; known {
		return value, true
	}
	value, known := b.resolve(name)
	if known {
		b.maps[name] = value
	}
	return value, known
}

func (b *BoundEventCondition) resolve(name string) (any, bool) {
	e := b.event
	switch name {
	case "before":
		return b.image(e.Before, b.before), true
	case "after":
		return b.image(e.After, b.after), true
	case "key":
		return b.image(e.Image(), e.Schema.Key()), true
	case "changed":
		changed, _ := e.Changed(nil)
		names := make([]string, len(changed))
		for i, at := range changed {
			names[i] = e.Schema.Columns[at].Name
		}
		return names, true
	case "operation":
		return e.Operation.String(), true
	case "table":
		return e.Table, true
	case "transaction":
		return map[string]any{"id": e.Transaction.ID, "committed_at": e.Transaction.CommittedAt, "origin": e.Transaction.Origin, "index": int64(e.Transaction.Index)}, true
	}
	return nil, false
}

// image is a part of an image as CEL sees it: null where there is none.
func (b *BoundEventCondition) image(image []change.Value, columns []int) any {
	if image == nil {
		return types.NullValue
	}
	row := make(map[string]any, len(columns))
	for _, i := range columns {
		row[b.schema.Columns[i].Name] = celValue(b.schema.Columns[i], image[i])
	}
	return row
}

// Parent implements [interpreter.Activation].
func (b *BoundEventCondition) Parent() interpreter.Activation { return nil }

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
