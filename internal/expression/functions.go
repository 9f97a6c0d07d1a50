package expression

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/checker"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/ext"
)

// Function is one of somebody's own, in terms of its arguments.
type Function struct {
	Name      string
	Arguments []Argument
	Is        string
}

// Argument is an argument of a function: its name and [ValueType].
type Argument struct{ Name, Type string }

// library is what expressions can use besides columns. Its parts are those of cel-go, each
// at a version of its own, so that an expression never comes to mean something else.
var library = sync.OnceValues(func() (*cel.Env, error) {
	hash := cel.FunctionOpt(cel.Overload("sha256_string", []*cel.Type{cel.StringType}, cel.StringType, cel.UnaryBinding(func(v ref.Val) ref.Val {
		sum := sha256.Sum256([]byte(v.(types.String)))
		return types.String(hex.EncodeToString(sum[:]))
	})))
	env, err := cel.NewCustomEnv(append(withDecimals(), ext.Strings(ext.StringsVersion(4)), ext.Math(ext.MathVersion(2)), ext.Lists(ext.ListsVersion(3)), ext.Sets(), ext.Encoders(ext.EncodersVersion(0)),
		ext.TwoVarComprehensions(ext.TwoVarComprehensionsVersion(0)), cel.EnableIdentifierEscapeSyntax(), cel.Function("sha256", hash))...)
	if err != nil {
		return nil, err
	}
	return guarded(env)
})

// Formulas makes formulas, with functions of somebody's own.
type Formulas struct {
	env *cel.Env
	own map[string]*ownFunction
}

// NewFormulas takes functions, each of which may use those before it.
func NewFormulas(functions []Function) (*Formulas, error) {
	env, err := library()
	if err != nil {
		return nil, err
	}
	x := &Formulas{env: env, own: make(map[string]*ownFunction, len(functions))}
	for i, f := range functions {
		if err := x.add(f); err != nil {
			return nil, &FunctionError{At: i, Err: err}
		}
	}
	return x, nil
}

// FunctionError says which function is wrong.
type FunctionError struct {
	At  int
	Err error
}

// Error is the message.
func (e *FunctionError) Error() string { return e.Err.Error() }

// Unwrap is the cause.
func (e *FunctionError) Unwrap() error { return e.Err }

func (x *Formulas) add(f Function) error {
	if !isIdentifier(f.Name) {
		return fmt.Errorf("%q is no name of a function: write letters, digits and _", f.Name)
	}
	if x.env.HasFunction(f.Name) {
		return fmt.Errorf("there is a function %s already", f.Name)
	}
	var variables []cel.EnvOption
	kinds := make([]*cel.Type, len(f.Arguments))
	names := make([]string, len(f.Arguments))
	for i, a := range f.Arguments {
		if !isIdentifier(a.Name) || slices.Contains(names[:i], a.Name) {
			return fmt.Errorf("%q is no name of an argument of %s: write letters, digits and _, each once", a.Name, f.Name)
		}
		if err := CheckValueType(a.Type); err != nil {
			return fmt.Errorf("argument %s of %s: %w", a.Name, f.Name, err)
		}
		names[i], kinds[i] = a.Name, celTypeOf(a.Type)
		variables = append(variables, cel.Variable(a.Name, kinds[i]))
	}
	variables = append(variables, typeNames(func(name string) bool { return slices.Contains(names, name) }))
	env, err := x.env.Extend(variables...)
	if err != nil {
		return err
	}
	checked, issues := compile(env, f.Is)
	if issues.Err() != nil {
		return fmt.Errorf("function %s: %s; its arguments are %s", f.Name, firstIssue(issues), strings.Join(names, ", "))
	}
	if err := affordable(checked, x.own); err != nil {
		return fmt.Errorf("function %s %w", f.Name, err)
	}
	program, err := programOf(env, checked, x.own)
	if err != nil {
		return fmt.Errorf("function %s: %w", f.Name, err)
	}
	x.own[f.Name] = &ownFunction{Function: f, kinds: kinds, program: program, size: &estimated{checked: checked, known: make(map[string]*checker.CallEstimate)}}
	x.env, err = x.env.Extend(cel.Function(f.Name, cel.Overload(f.Name+"_own", kinds, checked.OutputType(), cel.FunctionBinding(unbound))))
	return err
}

// unbound stands for a function in the environment: an [ownCall] works it out.
func unbound(...ref.Val) ref.Val { return types.NewErr("a function cannot be called here") }

// Parse says why a text can be no expression, whatever the columns.
func (x *Formulas) Parse(text string) error {
	parsed, issues := x.env.Parse(text)
	if issues.Err() != nil {
		return fmt.Errorf("the expression cannot be read: %s", firstIssue(issues))
	}
	unknown := ""
	ast.PostOrderVisit(parsed.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || unknown != "" {
			return
		}
		// A name with dots, such as math.abs, is a member of a variable to the parser.
		name, full := e.AsCall().FunctionName(), e.AsCall().FunctionName()
		if e.AsCall().IsMemberFunction() && e.AsCall().Target().Kind() == ast.IdentKind {
			full = e.AsCall().Target().AsIdent() + "." + name
		}
		if !x.env.HasFunction(name) && !x.env.HasFunction(full) {
			unknown = name
		}
	}))
	if unknown != "" {
		return fmt.Errorf("there is no function %s%s", unknown, x.likeFunction(unknown))
	}
	return nil
}

// likeFunction is a function whose name is much like one that is not there.
func (x *Formulas) likeFunction(name string) string {
	var names []string
	for known := range x.env.Functions() {
		if isIdentifier(known) {
			names = append(names, known)
		}
	}
	slices.Sort(names)
	if close := Similar(name, names); close != "" {
		return "; " + close + "?"
	}
	return ""
}
