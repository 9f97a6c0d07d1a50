package shape

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

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
	env, err := cel.NewEnv()
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
	if strings.Contains(text, "(double, int)") || strings.Contains(text, "(int, double)") {
		text += ": beside decimals and floats, numbers have a point, as in 2.0"
	}
	return fmt.Sprintf("%s (line %d, column %d)", text, all[0].Location.Line(), all[0].Location.Column()+1)
}

// BoundCondition is a condition over the columns of one table. It is not safe
// for several goroutines.
type BoundCondition struct {
	rowView
	program cel.Program
	plain   *plainNode
	own     []change.Value // room for a row of which values are asked one by one
}

// Bind makes a condition ready for rows of these columns. A column is a variable
// of its name; row["name"] is any of them. It fails where the condition names a
// column that is not there or compares what cannot be compared.
func (c *Condition) Bind(table string, columns []change.Column) (*BoundCondition, error) {
	options := []cel.EnvOption{cel.Variable(wholeRow, cel.MapType(cel.StringType, cel.DynType))}
	for _, column := range columns {
		if column.Name != wholeRow && isIdentifier(column.Name) {
			options = append(options, cel.Variable(column.Name, celType(column)))
		}
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, fmt.Errorf("the condition %q on %s: %w", c.text, table, err)
	}
	checked, issues := env.Compile(c.text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("the condition %q does not fit %s: %s%s; its columns are %s", c.text, table, firstIssue(issues), closest(issues, columns), columnNames(columns))
	}
	if !checked.OutputType().IsExactType(cel.BoolType) {
		return nil, fmt.Errorf("the condition %q on %s gives %s, but has to give true or false", c.text, table, checked.OutputType())
	}
	if err := affordable(env, checked); err != nil {
		return nil, fmt.Errorf("the condition %q on %s %w", c.text, table, err)
	}
	program, err := env.Program(checked, cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, fmt.Errorf("the condition %q on %s: %w", c.text, table, err)
	}
	expression := checked.NativeRep().Expr()
	b := &BoundCondition{rowView: viewOf(expression, columns, celValue), program: program, plain: plainOf(expression, columns), own: make([]change.Value, len(columns))}
	return b, nil
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
	out, _, err := b.program.Eval(b)
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

func celType(c change.Column) *cel.Type {
	switch c.Rule {
	case change.RuleBoolean:
		return cel.NullableType(cel.BoolType)
	case change.RuleInteger:
		return cel.NullableType(cel.IntType)
	case change.RuleFloat, change.RuleDecimal:
		return cel.NullableType(cel.DoubleType)
	case change.RuleTimestampTZ:
		return cel.NullableType(cel.TimestampType)
	case change.RuleJSON, change.RuleArray, change.RuleUnsigned: // some of the latter are more than an int holds
		return cel.DynType
	default:
		return cel.NullableType(cel.StringType)
	}
}

// celValue is a canonical value as CEL sees it. Decimals are compared as
// doubles; a time that is infinite or out of range is null.
func celValue(c change.Column, v change.Value) any {
	if v.Presence != change.Present {
		return types.NullValue
	}
	text := string(v.Text)
	switch c.Rule {
	case change.RuleBoolean:
		return text == "true"
	case change.RuleInteger:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return types.NullValue
		}
		return n
	case change.RuleUnsigned:
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return types.NullValue
		}
		if n <= math.MaxInt64 {
			return int64(n)
		}
		return n
	case change.RuleFloat, change.RuleDecimal:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil && !math.IsInf(f, 0) {
			return types.NullValue
		}
		return f
	case change.RuleTimestampTZ:
		at, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return types.NullValue
		}
		return at
	case change.RuleJSON, change.RuleArray:
		var document any
		if json.Unmarshal(v.Text, &document) != nil {
			return types.NullValue
		}
		return document
	default:
		return text
	}
}
