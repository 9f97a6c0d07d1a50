package expression

import (
	"regexp"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/operators"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/common/types/traits"
)

// Equality in CEL is built into its interpreter, and knows no types of ours: 2 == fee would be
// false for a decimal of 2.00. So checked expressions call functions of ours for it where a
// decimal may take part.
const (
	equalNumbers   = "@equal"
	unequalNumbers = "@unequal"
	amongNumbers   = "@among"
)

// ourEquality is what stands for an operator of CEL.
var ourEquality = map[string]string{operators.Equals: equalNumbers, operators.NotEquals: unequalNumbers, operators.In: amongNumbers}

// withEquality declares those functions.
func withEquality() []cel.EnvOption {
	any := []*cel.Type{cel.DynType, cel.DynType}
	own := func(name string, f func(a, b ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_any", any, cel.BoolType), cel.SingletonBinaryBinding(f))
	}
	return []cel.EnvOption{
		own(equalNumbers, func(a, b ref.Val) ref.Val { return sameNumber(a, b) }),
		own(unequalNumbers, func(a, b ref.Val) ref.Val { return !sameNumber(a, b) }),
		own(amongNumbers, func(value, of ref.Val) ref.Val {
			list, is := of.(traits.Lister)
			if !is {
				if container, is := of.(traits.Container); is {
					return container.Contains(value)
				}
				return types.MaybeNoSuchOverloadErr(of)
			}
			for it := list.Iterator(); it.HasNext() == types.True; {
				if sameNumber(value, it.Next()) {
					return types.True
				}
			}
			return types.False
		}),
	}
}

// sameNumber is equality as CEL has it, and of decimals beside other numbers.
func sameNumber(a, b ref.Val) types.Bool {
	if _, is := b.(decimal); is {
		return types.Equal(b, a).(types.Bool)
	}
	return types.Equal(a, b).(types.Bool)
}

// unequalTypes is what the checker says of numbers of different types beside ==, != and in.
var unequalTypes = regexp.MustCompile(`^found no matching overload for '(?:_==_|_!=_|@in)' applied to '\((?:wrapper\()?(?:decimal|int|uint|double)\)?, (?:list\(|wrapper\()?(?:decimal|int|uint|double)\)?\)'`)

// compile reads and checks an expression. Numbers of different types can be equal, which
// CEL's checker has no way to declare: where it objects to that alone, the expression calls
// our own functions.
func compile(env *cel.Env, text string) (*cel.Ast, *cel.Issues) {
	parsed, issues := env.Parse(text)
	if issues.Err() != nil {
		return nil, issues
	}
	for {
		checked, issues := env.Check(parsed)
		if issues.Err() == nil {
			return checked, issues
		}
		mend := make(map[int64]bool)
		for _, e := range issues.Errors() {
			if unequalTypes.MatchString(e.Message) {
				mend[e.ExprID] = true
			}
		}
		changed := false
		eachEquality(parsed.NativeRep().Expr(), func(e ast.Expr, ours string) {
			if mend[e.ID()] {
				e.SetKindCase(ast.NewExprFactory().NewCall(e.ID(), ours, e.AsCall().Args()...))
				changed = true
			}
		})
		if !changed {
			return nil, issues
		}
	}
}

// eachEquality visits what compares by the interpreter's own equality.
func eachEquality(root ast.Expr, visit func(e ast.Expr, ours string)) {
	ast.PostOrderVisit(root, ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.CallKind && ourEquality[e.AsCall().FunctionName()] != "" && len(e.AsCall().Args()) == 2 {
			visit(e, ourEquality[e.AsCall().FunctionName()])
		}
	}))
}

// useOurEquality has a checked expression call our functions where a decimal may be one of
// the sides.
func useOurEquality(checked *cel.Ast) {
	native := checked.NativeRep()
	kinds := native.TypeMap()
	may := func(e ast.Expr) bool {
		kind := kinds[e.ID()]
		if kind != nil && kind.Kind() == types.ListKind && len(kind.Parameters()) > 0 {
			kind = kind.Parameters()[0]
		}
		return kind == nil || kind.Kind() == types.DynKind || kind.Kind() == types.TypeParamKind || kind.IsExactType(decimalType)
	}
	eachEquality(native.Expr(), func(e ast.Expr, ours string) {
		if args := e.AsCall().Args(); may(args[0]) || may(args[1]) {
			e.SetKindCase(ast.NewExprFactory().NewCall(e.ID(), ours, args...))
			native.SetReference(e.ID(), ast.NewFunctionReference(ours+"_any"))
		}
	})
}
