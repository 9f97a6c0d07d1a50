package expression

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/decls"
	"github.com/google/cel-go/common/functions"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/common/types/traits"
	"github.com/google/cel-go/interpreter"
)

// What working out one expression for one event may take. The estimate when it is saved takes texts
// for a thousand letters and lists for a hundred elements, see [affordable]; these hold for rows in
// which they are longer.
const (
	// MostSteps are elements of lists that are gone through, and calls of own functions.
	MostSteps = 1_000_000
	// MostBytes are those of all texts that are made on the way.
	MostBytes = 64 << 20
	// mostCompared are pairs of elements, or of letters, that one function may compare.
	mostCompared = 1_000_000_000
	// mostListed is the length of a list in which each element is compared with each.
	mostListed = 20_000
	// mostWide is the width or the precision of a number in a format.
	mostWide = 1000
)

// Beyond says that an expression was given up, since it takes too much for a row.
type Beyond struct{ what string }

// Error says what it takes too much of.
func (e *Beyond) Error() string { return TooMuch + ": " + e.what }

// TooMuch are the words by which an error says it that was kept as a text.
const TooMuch = "it takes too much for this row"

func isBeyond(err error) bool {
	var is *Beyond
	return errors.As(err, &is)
}

func beyond(format string, args ...any) error { return &Beyond{fmt.Sprintf(format, args...)} }

// meter counts what one evaluation takes.
type meter struct {
	steps, bytes int
	beyond       error
}

// The names under which the interpreter asks for what is no variable: whether to stop, and the meter.
const (
	interruptName = "#interrupted"
	meterName     = "#meter"
)

// resolve answers for those names.
func (m *meter) resolve(name string) (value any, known bool) {
	switch name {
	case interruptName:
		return m.step() != nil, true
	case meterName:
		return m, true
	}
	return nil, false
}

func (m *meter) step() error {
	if m.steps++; m.steps > MostSteps && m.beyond == nil {
		m.beyond = beyond("more than %d steps through lists and functions", MostSteps)
	}
	return m.beyond
}

func (m *meter) made(bytes int) error {
	if m.bytes += bytes; m.bytes > MostBytes && m.beyond == nil {
		m.beyond = beyond("the texts that it makes have more than %d MiB", MostBytes>>20)
	}
	return m.beyond
}

// run works a program out from where the meter stands at nothing.
func (m *meter) run(program cel.Program, with interpreter.Activation) (ref.Val, error) {
	*m = meter{}
	out, _, err := program.Eval(with)
	if m.beyond != nil {
		return nil, m.beyond
	}
	return out, err
}

// ownFunction is one of somebody's own, ready to be worked out.
type ownFunction struct {
	Function
	kinds   []*cel.Type
	program cel.Program
	size    *estimated
}

// arguments are what an own function sees.
type arguments struct {
	of     *ownFunction
	values []ref.Val
	meter  *meter
}

// ResolveName implements [interpreter.Activation].
func (a *arguments) ResolveName(name string) (any, bool) {
	for i := range a.of.Arguments {
		if a.of.Arguments[i].Name == name {
			return a.values[i], true
		}
	}
	return a.meter.resolve(name)
}

// Parent implements [interpreter.Activation].
func (*arguments) Parent() interpreter.Activation { return nil }

// ownCall is a call of an own function, which counts for the expression that it stands in.
type ownCall struct {
	interpreter.InterpretableCall
	of *ownFunction
}

// Eval implements [interpreter.Interpretable].
func (c *ownCall) Eval(with interpreter.Activation) ref.Val {
	a := &arguments{of: c.of, meter: meterOf(with), values: make([]ref.Val, len(c.of.kinds))}
	for i, one := range c.Args() {
		v := one.Eval(with)
		if types.IsUnknownOrError(v) {
			return v
		}
		if !c.of.kinds[i].IsAssignableRuntimeType(v) {
			return types.NewErr("no such overload: %s(%s)", c.of.Name, v.Type().TypeName())
		}
		a.values[i] = v
	}
	if err := a.meter.step(); err != nil {
		return types.WrapErr(err)
	}
	out, _, err := c.of.program.Eval(a)
	if err != nil {
		return types.WrapErr(fmt.Errorf("%s: %w", c.of.Name, err))
	}
	return out
}

func meterOf(with interpreter.Activation) *meter {
	if found, known := with.ResolveName(meterName); known {
		return found.(*meter) //nolint:forcetypeassert // nothing else has that name
	}
	return new(meter)
}

// makers are the functions that make texts.
var makers = []string{"_+_", "replace", "join", "format", "strings.quote", "base64.encode", "base64.decode", "string", "bytes", "lowerAscii", "upperAscii", "substring", "reverse", "trim"}

// made is a call that makes a text, which is counted.
type made struct{ interpreter.InterpretableCall }

// Eval implements [interpreter.Interpretable].
func (c *made) Eval(with interpreter.Activation) ref.Val {
	v := c.InterpretableCall.Eval(with)
	if _, list := v.(traits.Lister); list {
		return v // it shares what it is made of
	}
	if n := sizeOf(v); n > 64 { // the least are bounded by the steps
		if err := meterOf(with).made(n); err != nil {
			return types.WrapErr(err)
		}
	}
	return v
}

// sizeOf is about how many bytes a value has.
func sizeOf(v ref.Val) int {
	switch v := v.(type) {
	case types.String:
		return len(v)
	case types.Bytes:
		return len(v)
	case traits.Lister:
		if n, is := v.Size().(types.Int); is {
			return 16 * int(n)
		}
	}
	return 0
}

// metered has a program count what it takes, own functions included.
func metered(own map[string]*ownFunction) []cel.ProgramOption {
	return []cel.ProgramOption{cel.InterruptCheckFrequency(1), cel.CustomDecorator(func(i interpreter.Interpretable) (interpreter.Interpretable, error) {
		call, is := i.(interpreter.InterpretableCall)
		if !is {
			return i, nil
		}
		if f := own[call.Function()]; f != nil {
			return &ownCall{call, f}, nil
		}
		if slices.Contains(makers, call.Function()) {
			return &made{call}, nil
		}
		return i, nil
	})}
}

// guards look at what a function is given, before it makes more of it than there is room for.
var guards = map[string]func(args []ref.Val) error{
	"replace": func(args []ref.Val) error {
		text, is := args[0].(types.String)
		old, isOld := args[1].(types.String)
		by, isBy := args[2].(types.String)
		if !is || !isOld || !isBy {
			return nil
		}
		times := utf8.RuneCountInString(string(text)) + 1
		if old != "" {
			times = strings.Count(string(text), string(old))
		}
		if len(args) == 4 {
			if most, is := args[3].(types.Int); is && most >= 0 {
				times = int(min(int64(times), int64(most)))
			}
		}
		return fits(int64(len(text)) + int64(times)*int64(len(by)-len(old)))
	},
	"join": func(args []ref.Val) error {
		list, is := args[0].(traits.Lister)
		if !is {
			return nil
		}
		var between, bytes int64
		if len(args) == 2 {
			between = int64(sizeOf(args[1]))
		}
		for it := list.Iterator(); it.HasNext() == types.True; {
			bytes += int64(sizeOf(it.Next())) + between
		}
		return fits(bytes)
	},
	"format": func(args []ref.Val) error {
		text, _ := args[0].(types.String)
		for _, digits := range numberInFormat.FindAllString(string(text), -1) {
			if digits = strings.TrimLeft(digits, "0"); len(digits) > 4 || len(digits) == 4 && digits > fmt.Sprint(mostWide) {
				return beyond("a format of %s places, the limit is %d", shortened(digits), mostWide)
			}
		}
		return nil
	},
	"split": func(args []ref.Val) error {
		text, _ := args[0].(types.String)
		by, _ := args[1].(types.String)
		if n := strings.Count(string(text), string(by)); n > MostSteps {
			return beyond("a text of %d parts, the limit is %d", n, MostSteps)
		}
		return nil
	},
	"lists.range": func(args []ref.Val) error {
		if n, is := args[0].(types.Int); is && n > MostSteps {
			return beyond("a list of %d elements, the limit is %d", n, MostSteps)
		}
		return nil
	},
	"distinct": func(args []ref.Val) error { return pairs(elements(args[0]), elements(args[0])) },
	"sets.contains": func(args []ref.Val) error {
		return pairs(elements(args[0]), elements(args[1]))
	},
	"sets.equivalent": func(args []ref.Val) error { return pairs(elements(args[0]), elements(args[1])) },
	"sets.intersects": func(args []ref.Val) error { return pairs(elements(args[0]), elements(args[1])) },
	"indexOf":         searchable,
	"lastIndexOf":     searchable,
}

var numberInFormat = regexp.MustCompile(`\.[0-9]+`)

func fits(bytes int64) error {
	if bytes > MostBytes {
		return beyond("a text of %d MiB, the limit is %d", bytes>>20, MostBytes>>20)
	}
	return nil
}

func elements(v ref.Val) int64 { return int64(sizeOf(v)) / 16 }

func pairs(one, other int64) error {
	if one*other > mostListed*mostListed {
		return beyond("each of %d elements is compared with each of %d", one, other)
	}
	return nil
}

func searchable(args []ref.Val) error {
	if text, part := int64(sizeOf(args[0])), int64(sizeOf(args[1])); text*part > mostCompared && text >= part {
		return beyond("a text of %d bytes is looked for in one of %d", part, text)
	}
	return nil
}

// added looks at two texts before they are put together.
func added(a, b ref.Val) error {
	if _, list := a.(traits.Lister); list {
		return nil
	}
	if n := int64(sizeOf(a)) + int64(sizeOf(b)); n > MostBytes {
		return fits(n)
	}
	return nil
}

// guarded has the functions of an environment looked at by guards.
func guarded(env *cel.Env) (*cel.Env, error) {
	var options []cel.EnvOption
	for name, guard := range guards {
		f := env.Functions()[name]
		if f == nil {
			return nil, fmt.Errorf("there is no function %s to be guarded", name)
		}
		bindings, err := f.Bindings()
		if err != nil {
			return nil, err
		}
		var overloads []cel.FunctionOpt
		for _, o := range f.OverloadDecls() {
			at := slices.IndexFunc(bindings, func(b *functions.Overload) bool { return b.Operator == o.ID() })
			if at < 0 {
				return nil, fmt.Errorf("%s does nothing that could be guarded", o.ID())
			}
			overloads = append(overloads, guardedOverload(o, bindings[at], guard))
		}
		options = append(options, cel.Function(name, overloads...))
	}
	return env.Extend(options...)
}

func guardedOverload(o *decls.OverloadDecl, does *functions.Overload, guard func([]ref.Val) error) cel.FunctionOpt {
	binding := func(args []ref.Val, do func() ref.Val) ref.Val {
		if err := guard(args); err != nil {
			return types.WrapErr(err)
		}
		return do()
	}
	var bound decls.OverloadOpt
	switch {
	case does.Unary != nil:
		bound = cel.UnaryBinding(func(v ref.Val) ref.Val { return binding([]ref.Val{v}, func() ref.Val { return does.Unary(v) }) })
	case does.Binary != nil:
		bound = cel.BinaryBinding(func(a, b ref.Val) ref.Val {
			return binding([]ref.Val{a, b}, func() ref.Val { return does.Binary(a, b) })
		})
	default:
		bound = cel.FunctionBinding(func(args ...ref.Val) ref.Val { return binding(args, func() ref.Val { return does.Function(args...) }) })
	}
	if o.IsMemberFunction() {
		return cel.MemberOverload(o.ID(), o.ArgTypes(), o.ResultType(), bound)
	}
	return cel.Overload(o.ID(), o.ArgTypes(), o.ResultType(), bound)
}
