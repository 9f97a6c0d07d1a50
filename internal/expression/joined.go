package expression

import (
	"bytes"
	"slices"

	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/operators"
	"github.com/google/cel-go/common/overloads"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// Texts that are put together of columns and constants are worked out on a row's own texts:
// without the interpreter, which takes several times as long. They mean what CEL means by them.

// joinedPart is a constant, or a column whose own text is what string() gives for it.
type joinedPart struct {
	text   []byte
	column int // -1 for a constant
}

// joinedOf is a checked expression in that form; nil where it holds anything else.
func joinedOf(e ast.Expr, columns []change.Column) []joinedPart {
	switch e.Kind() {
	case ast.LiteralKind:
		if text, is := e.AsLiteral().(types.String); is {
			return []joinedPart{{[]byte(text), -1}}
		}
	case ast.IdentKind:
		if at := columnOf(e, columns); at >= 0 && isText(columns[at].Rule) {
			return []joinedPart{{nil, at}}
		}
	case ast.CallKind:
		args := e.AsCall().Args()
		switch e.AsCall().FunctionName() {
		case operators.Add:
			left := joinedOf(args[0], columns)
			if left == nil {
				return nil
			}
			if right := joinedOf(args[1], columns); right != nil {
				return append(left, right...)
			}
		case overloads.TypeConvertString:
			if len(args) != 1 || e.AsCall().IsMemberFunction() {
				return nil
			}
			at := columnOf(args[0], columns)
			if at < 0 {
				return joinedOf(args[0], columns) // string() of a text
			}
			if rule := columns[at].Rule; isText(rule) || rule == change.RuleInteger || rule == change.RuleBoolean {
				return []joinedPart{{nil, at}}
			}
		}
	default: // it needs the interpreter
	}
	return nil
}

func columnOf(e ast.Expr, columns []change.Column) int {
	if e.Kind() != ast.IdentKind {
		return -1
	}
	return slices.IndexFunc(columns, func(c change.Column) bool { return c.Name == e.AsIdent() })
}

// isText reports whether a column is a text in expressions.
func isText(r change.Rule) bool {
	switch r {
	case change.RuleBoolean, change.RuleInteger, change.RuleUnsigned, change.RuleFloat, change.RuleDecimal, change.RuleTimestampTZ, change.RuleBinary, change.RuleJSON, change.RuleArray:
		return false
	default:
		return true
	}
}

// join appends the text of a row all of whose values that it needs are there; ok is false for
// one that no text of a database can hold, or that is too long.
func join(dst []byte, parts []joinedPart, row []change.Value) (joined []byte, ok bool) {
	start, size := len(dst), 0
	for i := range parts {
		if parts[i].column >= 0 {
			size += len(row[parts[i].column].Text)
		}
	}
	if size > MostBytes {
		return dst, false // the interpreter says so
	}
	for i := range parts {
		if parts[i].column < 0 {
			dst = append(dst, parts[i].text...)
		} else {
			dst = append(dst, row[parts[i].column].Text...)
		}
	}
	return dst, bytes.IndexByte(dst[start:], 0) < 0
}
