package expression

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"

	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/operators"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// Comparisons of columns with constants and with each other, joined by && and ||, are
// worked out on a row's own texts: without the interpreter, and without memory. They mean
// what CEL means by them, nulls included: what cannot be worked out takes no part in && and
// || where the other side decides.

// truth is what a part of a condition comes to.
type truth int8

const (
	no truth = iota
	yes
	unclear // it cannot be worked out, as null < 3
)

func truthOf(b bool) truth {
	if b {
		return yes
	}
	return no
}

type plainKind int8

const (
	plainNull plainKind = iota
	plainInt
	plainText
	plainBool
	plainNumber // a decimal, or what is compared with one: by its text
)

// operand is a column or a constant.
type operand struct {
	column int // -1 for a constant
	kind   plainKind
	number int64
	text   []byte
}

// plainNode is one part of a condition.
type plainNode struct {
	operator    string // an operator of CEL; empty for a constant or a column alone
	left, right *plainNode
	a, b        operand
	list        []operand
}

// plainOf is a checked condition in that form; nil where it holds anything else.
func plainOf(e ast.Expr, columns []change.Column) *plainNode {
	if e.Kind() == ast.LiteralKind {
		if o, ok := operandOf(e, columns); ok && o.kind == plainBool {
			return &plainNode{a: o}
		}
		return nil
	}
	if e.Kind() != ast.CallKind {
		return nil
	}
	args := e.AsCall().Args()
	n := &plainNode{operator: e.AsCall().FunctionName()}
	for theirs, ours := range ourEquality {
		if n.operator == ours {
			n.operator = theirs
		}
	}
	switch n.operator {
	case operators.LogicalAnd, operators.LogicalOr, operators.LogicalNot:
		if n.left = plainOf(args[0], columns); n.left == nil {
			return nil
		}
		if len(args) == 2 {
			if n.right = plainOf(args[1], columns); n.right == nil {
				return nil
			}
		}
		return n
	case operators.In:
		var ok bool
		if n.a, ok = operandOf(args[0], columns); !ok || args[1].Kind() != ast.ListKind {
			return nil
		}
		for _, one := range args[1].AsList().Elements() {
			o, ok := operandOf(one, columns)
			if !ok {
				return nil
			}
			n.list = append(n.list, o)
		}
		numbers := n.a.kind == plainNumber
		for i := range n.list {
			numbers = numbers || n.list[i].kind == plainNumber
		}
		if numbers {
			n.a.asNumber()
			for i := range n.list {
				n.list[i].asNumber()
			}
		}
		return n
	case operators.Equals, operators.NotEquals, operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
		var first, second bool
		n.a, first = operandOf(args[0], columns)
		n.b, second = operandOf(args[1], columns)
		if !first || !second {
			return nil
		}
		if n.a.kind == plainNumber || n.b.kind == plainNumber {
			n.a.asNumber()
			n.b.asNumber()
		}
		return n
	}
	return nil
}

func operandOf(e ast.Expr, columns []change.Column) (o operand, ok bool) {
	o.column = -1
	switch e.Kind() {
	case ast.IdentKind:
		o.column = slices.IndexFunc(columns, func(c change.Column) bool { return c.Name == e.AsIdent() })
		if o.column < 0 {
			return o, false
		}
		switch columns[o.column].Rule {
		case change.RuleInteger:
			o.kind = plainInt
		case change.RuleBoolean:
			o.kind = plainBool
		case change.RuleDecimal, change.RuleUnsigned:
			o.kind = plainNumber
		case change.RuleFloat, change.RuleTimestampTZ, change.RuleJSON, change.RuleArray, change.RuleBinary:
			return o, false
		default:
			o.kind = plainText
		}
		return o, true
	case ast.LiteralKind:
		switch v := e.AsLiteral().(type) {
		case types.Int:
			o.kind, o.number = plainInt, int64(v)
		case types.Double:
			o.kind, o.text = plainNumber, strconv.AppendFloat(nil, float64(v), 'f', -1, 64)
		case types.String:
			o.kind, o.text = plainText, []byte(v)
		case types.Bool:
			o.kind = plainBool
			if v {
				o.number = 1
			}
		case types.Null:
			o.kind = plainNull
		default:
			return o, false
		}
		return o, true
	default:
		return o, false
	}
}

// asNumber has an integer compared by its text, as decimals are.
func (o *operand) asNumber() {
	if o.kind != plainInt {
		return
	}
	o.kind = plainNumber
	if o.column < 0 {
		o.text = strconv.AppendInt(nil, o.number, 10)
		o.number = 0
	}
}

// of is the operand's value in a row.
func (o *operand) of(row []change.Value) operand {
	if o.column < 0 {
		return *o
	}
	v := &row[o.column]
	if v.Presence != change.Present {
		return operand{kind: plainNull}
	}
	at := operand{kind: o.kind}
	switch o.kind {
	case plainInt:
		at.number = integerOf(v.Text)
	case plainBool:
		at.number = int64(truthOf(string(v.Text) == "true"))
	default:
		at.text = v.Text
	}
	return at
}

// integerOf reads an integer's canonical text.
func integerOf(text []byte) int64 {
	var n int64
	negative := len(text) > 0 && text[0] == '-'
	if negative {
		text = text[1:]
	}
	for _, digit := range text {
		n = n*10 - int64(digit-'0') // below zero there is room for one more
	}
	if negative {
		return n
	}
	return -n
}

// in is what the part comes to in a row.
func (n *plainNode) in(row []change.Value) truth {
	switch n.operator {
	case "":
		return truth(n.a.number)
	case operators.LogicalNot:
		switch n.left.in(row) {
		case yes:
			return no
		case no:
			return yes
		default:
			return unclear
		}
	case operators.LogicalAnd:
		return joined(n.left.in(row), n.right, row, no)
	case operators.LogicalOr:
		return joined(n.left.in(row), n.right, row, yes)
	case operators.In:
		a := n.a.of(row)
		for i := range n.list {
			b := n.list[i].of(row)
			if equal(&a, &b) {
				return yes
			}
		}
		return no
	}
	a, b := n.a.of(row), n.b.of(row)
	switch n.operator {
	case operators.Equals:
		return truthOf(equal(&a, &b))
	case operators.NotEquals:
		return truthOf(!equal(&a, &b))
	}
	if a.kind == plainNull || b.kind == plainNull {
		return unclear
	}
	order := cmp.Compare(a.number, b.number)
	switch a.kind {
	case plainText:
		order = bytes.Compare(a.text, b.text)
	case plainNumber:
		order = compareNumbers(a.text, b.text)
	default:
	}
	switch n.operator {
	case operators.Less:
		return truthOf(order < 0)
	case operators.LessEquals:
		return truthOf(order <= 0)
	case operators.Greater:
		return truthOf(order > 0)
	default:
		return truthOf(order >= 0)
	}
}

// joined is what two parts come to, of which one decides alone by being so.
func joined(left truth, right *plainNode, row []change.Value, decides truth) truth {
	if left == decides {
		return decides
	}
	switch other := right.in(row); {
	case other == decides:
		return decides
	case left == unclear || other == unclear:
		return unclear
	default:
		return other
	}
}

func equal(a, b *operand) bool {
	if a.kind == plainNumber && b.kind == plainNumber {
		return compareNumbers(a.text, b.text) == 0
	}
	return a.kind == b.kind && a.number == b.number && bytes.Equal(a.text, b.text)
}
