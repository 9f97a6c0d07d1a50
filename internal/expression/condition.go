package expression

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// Condition is a condition over a row's columns in CEL, the Common Expression
// Language, read but not yet bound to a table.
type Condition struct {
	text string
}

// ParseCondition reads a condition; its error names line and column.
func ParseCondition(text string) (*Condition, error) {
	env, err := library()
	if err != nil {
		return nil, err
	}
	if _, issues := env.Parse(text); issues.Err() != nil {
		return nil, fmt.Errorf("the condition cannot be read: %s", firstIssue(issues))
	}
	return &Condition{text: text}, nil
}

// String is the condition as it was written.
func (c *Condition) String() string { return c.text }

// plainTypes names the types of columns, which may all be null, by what they are.
var plainTypes = strings.NewReplacer(" (in container '')", "", "wrapper(double)", "double", "wrapper(int)", "int", "wrapper(bool)", "bool", "wrapper(string)", "string")

// firstIssue is the first thing that is wrong, with its place.
func firstIssue(issues *cel.Issues) string {
	all := issues.Errors()
	if len(all) == 0 {
		return issues.Err().Error()
	}
	text := plainTypes.Replace(all[0].Message)
	return fmt.Sprintf("%s (line %d, column %d)", text, all[0].Location.Line(), all[0].Location.Column()+1)
}

// BoundCondition is a condition over the columns of one table. It is not safe
// for several goroutines.
type BoundCondition struct {
	rowView
	program cel.Program
	plain   *plainNode
	own     []change.Value // room for a row of which values are asked one by one
	text    string
	meter   meter
	beyond  error
}

// Bind makes a condition ready for rows of these columns. A column is a variable
// of its name; row["name"] is any of them. It fails where the condition names a
// column that is not there or compares what cannot be compared.
func (c *Condition) Bind(table string, columns []change.Column) (*BoundCondition, error) {
	base, err := library()
	if err != nil {
		return nil, err
	}
	env, err := base.Extend(columnVariables(columns)...)
	if err != nil {
		return nil, fmt.Errorf("the condition %q on %s: %w", c.text, table, err)
	}
	checked, issues := compile(env, c.text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("the condition %q does not fit %s: %s%s; its columns are %s", c.text, table, firstIssue(issues), closest(issues, columns), columnNames(columns))
	}
	if !checked.OutputType().IsExactType(cel.BoolType) {
		return nil, fmt.Errorf("the condition %q on %s gives %s, but has to give true or false", c.text, table, checked.OutputType())
	}
	if err := affordable(checked, nil); err != nil {
		return nil, fmt.Errorf("the condition %q on %s %w", c.text, table, err)
	}
	expression := checked.NativeRep().Expr()
	b := &BoundCondition{rowView: viewOf(expression, columns), plain: plainOf(expression, columns), own: make([]change.Value, len(columns)), text: c.text}
	if b.program, err = programOf(env, checked, nil); err != nil {
		return nil, fmt.Errorf("the condition %q on %s: %w", c.text, table, err)
	}
	return b, nil
}

// Beyond says why the condition was given up for a row that it has been asked about, once; nil where
// it was not.
func (b *BoundCondition) Beyond() error {
	err := b.beyond
	b.beyond = nil
	return err
}

// ResolveName implements [interpreter.Activation].
func (b *BoundCondition) ResolveName(name string) (any, bool) {
	if value, known := b.rowView.ResolveName(name); known {
		return value, true
	}
	return b.meter.resolve(name)
}

// Uses are the indexes of the columns that the condition looks at.
func (b *BoundCondition) Uses() []int { return b.uses }

// Holds evaluates the condition on a row, of which values gives the columns.
// known is false where one that it needs was omitted, or where the condition cannot be
// worked out, as a division by zero. One that cannot because of a null, as null < 3, does
// not hold.
func (b *BoundCondition) Holds(values func(column int) change.Value) (holds, known bool) {
	for _, i := range b.uses {
		b.own[i] = values(i)
	}
	return b.HoldsIn(b.own)
}

// HoldsIn is Holds for an image of those columns.
func (b *BoundCondition) HoldsIn(image []change.Value) (holds, known bool) {
	null := false
	for _, i := range b.uses {
		switch image[i].Presence {
		case change.Omitted:
			return false, false
		case change.Null:
			null = true
		case change.Present:
		}
	}
	if b.plain != nil {
		return b.plain.in(image) == yes, true
	}
	b.row = image
	out, err := b.meter.run(b.program, b)
	if isBeyond(err) {
		b.beyond = fmt.Errorf("the condition %q: %w", b.text, err)
		return false, false
	}
	if err != nil {
		return false, null
	}
	return out == types.True, true
}

func columnNames(columns []change.Column) string {
	names := make([]string, 0, 12)
	for i, c := range columns {
		if i == 12 {
			names = append(names, "…")
			break
		}
		names = append(names, c.Name)
	}
	return strings.Join(names, ", ")
}

func isIdentifier(s string) bool {
	for i, r := range s {
		letter := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return s != "" && !slices.Contains([]string{"true", "false", "null", "in", "as", "break", "const", "continue", "else", "for", "function",
		"if", "import", "let", "loop", "package", "namespace", "return", "var", "void", "while"}, s)
}
