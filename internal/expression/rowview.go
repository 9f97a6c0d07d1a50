package expression

import (
	"slices"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/interpreter"

	"rillmark/internal/change"
)

// rowView is a row as an expression sees it: a column is a variable of its name, and row is
// all of them.
type rowView struct {
	columns []change.Column
	names   map[string]int // the places of the columns that the expression names
	uses    []int          // of those that it looks at
	row     []change.Value // at hand
}

// viewOf finds out what a checked expression looks at.
func viewOf(e ast.Expr, columns []change.Column) rowView {
	v := rowView{columns: columns, names: make(map[string]int)}
	ast.PostOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.IdentKind {
			return
		}
		at := slices.IndexFunc(columns, func(c change.Column) bool { return c.Name == e.AsIdent() })
		switch {
		case at >= 0:
			v.names[e.AsIdent()] = at
			v.uses = append(v.uses, at)
		case e.AsIdent() == wholeRow:
			for i := range columns {
				v.uses = append(v.uses, i)
			}
		}
	}))
	slices.Sort(v.uses)
	v.uses = slices.Compact(v.uses)
	return v
}

// wholeRow is the variable that holds all columns, unless one has its name.
const wholeRow = "row"

// columnVariables are the variables of such an expression.
func columnVariables(columns []change.Column) []cel.EnvOption {
	var variables []cel.EnvOption
	whole := false
	for _, c := range columns {
		whole = whole || c.Name == wholeRow
		if isIdentifier(c.Name) {
			variables = append(variables, cel.Variable(c.Name, celType(c)))
		}
	}
	if !whole {
		variables = append(variables, cel.Variable(wholeRow, cel.MapType(cel.StringType, cel.DynType)))
	}
	return append(variables, typeNames(func(name string) bool {
		return slices.ContainsFunc(columns, func(c change.Column) bool { return c.Name == name })
	}))
}

// programOf is a checked expression, ready to be worked out; own are the functions of somebody's own
// that it may call.
func programOf(env *cel.Env, checked *cel.Ast, own map[string]*ownFunction) (cel.Program, error) {
	useOurEquality(checked)
	return env.Program(checked, append(metered(own), cel.EvalOptions(cel.OptOptimize))...)
}

// ResolveName implements [interpreter.Activation] for the row at hand.
func (v *rowView) ResolveName(name string) (any, bool) {
	if at, known := v.names[name]; known {
		return celValue(v.columns[at], v.row[at]), true
	}
	if name != wholeRow {
		return nil, false
	}
	row := make(map[string]any, len(v.columns))
	for i, c := range v.columns {
		row[c.Name] = celValue(c, v.row[i])
	}
	return row, true
}

// Parent implements [interpreter.Activation].
func (*rowView) Parent() interpreter.Activation { return nil }
