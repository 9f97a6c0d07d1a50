package expression

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/decls"
	"github.com/google/cel-go/common/operators"
	"github.com/google/cel-go/common/stdlib"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/common/types/traits"
	numbers "github.com/shopspring/decimal"
)

// decimalType is an exact decimal in expressions. CEL has integers and doubles alone, and
// doubles have no 0.1.
var decimalType = types.NewObjectType("decimal", traits.NegatorType)

// decimal is a value of that type.
type decimal struct {
	numbers.Decimal
	special string // "NaN", "Infinity" or "-Infinity", which a numeric of PostgreSQL can be; else empty
}

const (
	// quotientPlaces are the places of a quotient; sums, differences and products are exact.
	quotientPlaces = 40
	// mostDigits bounds what a product of products can grow to.
	mostDigits = 2000
)

// text is the number with all of its places: 1.50 stays 1.50.
func (d decimal) text() string {
	if d.special != "" {
		return d.special
	}
	return d.StringFixed(max(-d.Exponent(), 0))
}

// compare orders decimals as PostgreSQL does: NaN is above all others, and equal to itself.
func (d decimal) compare(other decimal) int {
	if d.special != "" || other.special != "" {
		return compareNumbers([]byte(d.text()), []byte(other.text()))
	}
	return d.Cmp(other.Decimal)
}

// ConvertToNative implements [ref.Val].
func (d decimal) ConvertToNative(to reflect.Type) (any, error) {
	if to.Kind() == reflect.String {
		return d.text(), nil
	}
	return nil, fmt.Errorf("a decimal is no %s", to)
}

// ConvertToType implements [ref.Val].
func (d decimal) ConvertToType(to ref.Type) ref.Val {
	switch to {
	case types.TypeType:
		return decimalType
	case types.StringType:
		return types.String(d.text())
	case types.DoubleType:
		if d.special != "" {
			f, err := strconv.ParseFloat(d.special, 64)
			if err != nil {
				return types.WrapErr(err)
			}
			return types.Double(f)
		}
		return types.Double(d.InexactFloat64())
	case types.IntType:
		if d.special != "" || !d.IsInteger() || !d.BigInt().IsInt64() {
			return types.NewErr("the decimal %s is no integer of 64 bits: round it first", d.text())
		}
		return types.Int(d.IntPart())
	}
	return types.NewErr("a decimal is no %s", to.TypeName())
}

// Equal implements [ref.Val].
func (d decimal) Equal(other ref.Val) ref.Val {
	if other.Type() == types.StringType {
		return types.False
	}
	o, err := decimalOf(other)
	return types.Bool(err == nil && d.compare(o) == 0)
}

// Type implements [ref.Val].
func (d decimal) Type() ref.Type { return decimalType }

// Value implements [ref.Val].
func (d decimal) Value() any { return d.Decimal }

// Negate implements [traits.Negater].
func (d decimal) Negate() ref.Val {
	if d.special != "" {
		return types.NewErr("-%s: only numbers can be negated", d.special)
	}
	return decimal{Decimal: d.Neg()}
}

// decimalOf takes a number for the decimal that it is written as.
func decimalOf(v ref.Val) (decimal, error) {
	switch v := v.(type) {
	case decimal:
		return v, nil
	case types.Int:
		return decimal{Decimal: numbers.NewFromInt(int64(v))}, nil
	case types.Uint:
		return parseDecimal(strconv.FormatUint(uint64(v), 10))
	case types.Double:
		return parseDecimal(strconv.FormatFloat(float64(v), 'f', -1, 64))
	case types.String:
		return parseDecimal(string(v))
	}
	return decimal{}, fmt.Errorf("%s is no number", v.Type().TypeName())
}

func parseDecimal(text string) (decimal, error) {
	switch text {
	case "NaN", "Infinity", "-Infinity":
		return decimal{special: text}, nil
	case "+Inf", "-Inf": // as Go writes doubles
		return decimal{special: strings.NewReplacer("+", "", "Inf", "Infinity").Replace(text)}, nil
	}
	d, err := numbers.NewFromString(text)
	if err != nil || d.Exponent() > mostDigits || d.Exponent() < -mostDigits {
		return decimal{}, fmt.Errorf("%q is no decimal, or has more than %d digits", text, mostDigits)
	}
	return decimal{Decimal: d}, nil
}

// computeDecimal works out an operator of which one side is a decimal.
func computeDecimal(operator string, a, b ref.Val) ref.Val {
	x, err := decimalOf(a)
	if err != nil {
		return types.WrapErr(err)
	}
	y, err := decimalOf(b)
	if err != nil {
		return types.WrapErr(err)
	}
	switch operator {
	case operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
		return ordered(operator, x.compare(y))
	}
	if x.special != "" || y.special != "" {
		return types.NewErr("%s %s %s is no number", shortened(x.text()), word(operator), shortened(y.text()))
	}
	var out decimal
	switch operator {
	case operators.Add:
		out.Decimal = x.Add(y.Decimal)
	case operators.Subtract:
		out.Decimal = x.Sub(y.Decimal)
	case operators.Multiply:
		out.Decimal = x.Mul(y.Decimal)
	case operators.Divide, operators.Modulo:
		if y.IsZero() {
			return types.NewErr("%s %s %s: division by zero", shortened(x.text()), word(operator), y.text())
		}
		if out.Decimal = x.Mod(y.Decimal); operator == operators.Divide {
			out.Decimal = x.DivRound(y.Decimal, quotientPlaces)
		}
	}
	if out.NumDigits() > mostDigits || out.Exponent() < -mostDigits {
		return types.NewErr("%s %s %s has more than %d digits", shortened(x.text()), word(operator), shortened(y.text()), mostDigits)
	}
	return out
}

func shortened(text string) string { return text[:min(len(text), 40)] }

// word is an operator as somebody writes it.
func word(operator string) string {
	if text, is := operators.FindReverseBinaryOperator(operator); is {
		return text
	}
	return operator
}

func ordered(operator string, sign int) ref.Val {
	switch operator {
	case operators.Less:
		return types.Bool(sign < 0)
	case operators.LessEquals:
		return types.Bool(sign <= 0)
	case operators.Greater:
		return types.Bool(sign > 0)
	}
	return types.Bool(sign >= 0)
}

// decimalOperators are those that take decimals beside what CEL gives them.
var decimalOperators = []string{operators.Add, operators.Subtract, operators.Multiply, operators.Divide, operators.Modulo,
	operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals}

// typeNames are CEL's names of its types, but for those of some other names: a column, or an
// argument, may be called type, list or map.
func typeNames(taken func(name string) bool) cel.EnvOption {
	return cel.VariableDecls(slices.DeleteFunc(slices.Clone(stdlib.Types()), func(t *decls.VariableDecl) bool { return taken(t.Name()) })...)
}

// withDecimals is CEL's own library with decimals as numbers of it, and without the names of
// types, see [typeNames].
func withDecimals() []cel.EnvOption {
	options := []cel.EnvOption{cel.Macros(cel.StandardMacros...)}
	for _, f := range stdlib.Functions() {
		if !slices.Contains(decimalOperators, f.Name()) {
			options = append(options, cel.FunctionDecls(f))
		}
		for _, name := range decimalOperators {
			if f.Name() != name {
				continue
			}
			var overloads []cel.FunctionOpt
			for _, o := range f.OverloadDecls() {
				overloads = append(overloads, cel.Overload(o.ID(), o.ArgTypes(), o.ResultType()))
			}
			result := decimalType
			switch name {
			case operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
				result = cel.BoolType
			}
			for _, pair := range [][2]*cel.Type{{decimalType, decimalType}, {decimalType, cel.IntType}, {cel.IntType, decimalType}, {decimalType, cel.DoubleType}, {cel.DoubleType, decimalType}, {decimalType, cel.UintType}, {cel.UintType, decimalType}} {
				overloads = append(overloads, cel.Overload(fmt.Sprintf("%s_%s_%s", name, pair[0], pair[1]), pair[:], result))
			}
			options = append(options, cel.Function(name, append(overloads, cel.SingletonBinaryBinding(func(a, b ref.Val) ref.Val { return compute(name, a, b) }))...))
		}
	}
	unary := func(name string, of, result *cel.Type, f func(ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_"+of.String()+"_of_decimals", []*cel.Type{of}, result, cel.UnaryBinding(f)))
	}
	make := func(v ref.Val) ref.Val {
		d, err := decimalOf(v)
		if err != nil {
			return types.WrapErr(err)
		}
		return d
	}
	options = append(options, withEquality()...)
	return append(options,
		unary("decimal", cel.StringType, decimalType, make), unary("decimal", cel.IntType, decimalType, make), unary("decimal", cel.DoubleType, decimalType, make),
		unary("decimal", decimalType, decimalType, make),
		unary("string", decimalType, cel.StringType, func(v ref.Val) ref.Val { return v.ConvertToType(types.StringType) }),
		unary("double", decimalType, cel.DoubleType, func(v ref.Val) ref.Val { return v.ConvertToType(types.DoubleType) }),
		unary("int", decimalType, cel.IntType, func(v ref.Val) ref.Val { return v.ConvertToType(types.IntType) }),
		cel.Function(operators.Negate, cel.Overload("negate_decimal", []*cel.Type{decimalType}, decimalType)),
		cel.Function("round", cel.Overload("round_decimal_int", []*cel.Type{decimalType, cel.IntType}, decimalType, cel.BinaryBinding(func(v, places ref.Val) ref.Val {
			return roundTo(v.(decimal), int64(places.(types.Int)))
		}))))
}

// roundTo rounds half away from zero, as SQL does, to places behind the point.
func roundTo(d decimal, places int64) ref.Val {
	if places < -mostDigits || places > mostDigits {
		return types.NewErr("round to %d places: the limit is %d", places, mostDigits)
	}
	if d.special != "" {
		return d
	}
	if places < 0 {
		return decimal{Decimal: d.Round(int32(places))}
	}
	text := d.StringFixed(int32(places)) // with all of its places
	rounded, err := parseDecimal(text)
	if err != nil {
		return types.WrapErr(err)
	}
	return rounded
}

// compute works out an operator of decimals, or as CEL does.
func compute(operator string, a, b ref.Val) ref.Val {
	_, left := a.(decimal)
	_, right := b.(decimal)
	if left || right {
		return computeDecimal(operator, a, b)
	}
	switch operator {
	case operators.Add:
		if x, can := a.(traits.Adder); can {
			if err := added(a, b); err != nil {
				return types.WrapErr(err)
			}
			return x.Add(b)
		}
	case operators.Subtract:
		if x, can := a.(traits.Subtractor); can {
			return x.Subtract(b)
		}
	case operators.Multiply:
		if x, can := a.(traits.Multiplier); can {
			return x.Multiply(b)
		}
	case operators.Divide:
		if x, can := a.(traits.Divider); can {
			return x.Divide(b)
		}
	case operators.Modulo:
		if x, can := a.(traits.Modder); can {
			return x.Modulo(b)
		}
	default:
		if x, can := a.(traits.Comparer); can {
			sign := x.Compare(b)
			if n, is := sign.(types.Int); is {
				return ordered(operator, int(n))
			}
			return sign
		}
	}
	return types.MaybeNoSuchOverloadErr(a)
}
