package expression

import (
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/operators"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
)

// Comparison is a part of a condition that compares a column with constants.
type Comparison struct {
	Column string
	// Operator is "==", "!=", "<", "<=", ">", ">=" or "in".
	Operator string
	// Values are int64, string or bool, all of one type: one, or of "in" one or more.
	Values []any
}

// Comparisons are those of the condition's parts, joined by &&, that compare a
// column with constants. All of them hold where the condition holds; they do not
// say all of it, so that what they let through is to be asked the condition yet.
func (c *Condition) Comparisons() []Comparison {
	env, err := library()
	if err != nil {
		return nil
	}
	parsed, issues := env.Parse(c.text)
	if issues.Err() != nil {
		return nil
	}
	var found []Comparison
	var walk func(e ast.Expr)
	walk = func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		args := e.AsCall().Args()
		if e.AsCall().FunctionName() == operators.LogicalAnd {
			for _, arg := range args {
				walk(arg)
			}
			return
		}
		if one, ok := comparison(e.AsCall().FunctionName(), args); ok {
			found = append(found, one)
		}
	}
	walk(parsed.NativeRep().Expr())
	return found
}

// turned is the operator with its sides exchanged.
var turned = map[string]string{"==": "==", "!=": "!=", "<": ">", "<=": ">=", ">": "<", ">=": "<="}

var comparisons = map[string]string{operators.Equals: "==", operators.NotEquals: "!=", operators.Less: "<", operators.LessEquals: "<=",
	operators.Greater: ">", operators.GreaterEquals: ">=", operators.In: "in"}

func comparison(function string, args []ast.Expr) (c Comparison, ok bool) {
	operator := comparisons[function]
	if operator == "" || len(args) != 2 {
		return c, false
	}
	column, other := args[0], args[1]
	if column.Kind() != ast.IdentKind && operator != "in" {
		column, other, operator = other, column, turned[operator]
	}
	if column.Kind() != ast.IdentKind {
		return c, false
	}
	c = Comparison{Column: column.AsIdent(), Operator: operator}
	constants := []ast.Expr{other}
	if operator == "in" {
		if other.Kind() != ast.ListKind || other.AsList().Size() == 0 {
			return c, false
		}
		constants = other.AsList().Elements()
	}
	var kind ref.Type
	for _, one := range constants {
		if one.Kind() != ast.LiteralKind || kind != nil && kind != one.AsLiteral().Type() {
			return c, false
		}
		kind = one.AsLiteral().Type()
		switch v := one.AsLiteral().(type) {
		case types.Int:
			c.Values = append(c.Values, int64(v))
		case types.String:
			c.Values = append(c.Values, string(v))
		case types.Bool:
			c.Values = append(c.Values, bool(v))
		default:
			return c, false
		}
	}
	return c, true
}
