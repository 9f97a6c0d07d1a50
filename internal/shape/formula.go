package shape

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// Formula is an expression over the columns of one schema version. It is not safe for
// several goroutines.
type Formula struct {
	rowView
	program cel.Program
	kind    valueKind
	digits  int
	places  int32
}

// maxExpression is how long an expression may be, in bytes.
const maxExpression = 10_000

// valueKind is what an expression's values become.
type valueKind string

// Bind makes an expression ready for rows of a schema version, and says what column its
// values fill. kind is one of [ValueTypes], or empty to take what the expression gives.
func (x *Formulas) Bind(schema *change.Schema, text, kind string) (*Formula, change.Column, error) {
	var column change.Column
	if len(text) > maxExpression {
		return nil, column, fmt.Errorf("the expression has %d bytes; the limit is %d", len(text), maxExpression)
	}
	variables := []cel.EnvOption{}
	for _, c := range schema.Columns {
		if isIdentifier(c.Name) {
			variables = append(variables, cel.Variable(c.Name, exactType(c)))
		}
	}
	if !hasColumn(schema, wholeRow) {
		variables = append(variables, cel.Variable(wholeRow, cel.MapType(cel.StringType, cel.DynType)))
	}
	env, err := x.env.Extend(variables...)
	if err != nil {
		return nil, column, err
	}
	checked, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, column, fmt.Errorf("%s%s%s; the columns of %s are %s", firstIssue(issues), closest(issues, schema.Columns), mixed(issues), schema.Table, columnNames(schema.Columns))
	}
	if err := affordable(env, checked); err != nil {
		return nil, column, fmt.Errorf("it %w", err)
	}
	program, err := env.Program(checked, cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return nil, column, err
	}
	e := &Formula{rowView: viewOf(checked.NativeRep().Expr(), schema.Columns, exactValue), program: program}
	given, err := kindOf(checked.OutputType())
	if kind == "" && err != nil {
		return nil, column, err
	}
	if kind == "" {
		kind = given
	}
	if parts := decimalDigits.FindStringSubmatch(kind); parts != nil {
		e.digits, _ = strconv.Atoi(parts[1]) // they are digits
		places, _ := strconv.Atoi(parts[2])
		e.places, kind = int32(places), "decimal"
	}
	if err == nil && !becomes(given, kind) {
		return nil, column, fmt.Errorf("it gives %s, which is no %s: write %s(…), or leave the type out", given, kind, conversionTo(kind))
	}
	e.kind = valueKind(kind)
	return e, e.column(schema.Engine), nil
}

// mixed is what to do where integers and doubles meet.
func mixed(issues *cel.Issues) string {
	text := firstIssue(issues)
	if strings.Contains(text, "no matching overload") && strings.Contains(text, "double") && strings.Contains(text, "int") {
		return " (a number with a point is a double: write decimal(0.25), or double(column))"
	}
	return ""
}

// Append works the expression out for a row and appends the canonical text of its value.
// The value is omitted where one that it needs is, and null where one is null and nothing
// comes of that.
func (e *Formula) Append(dst []byte, row []change.Value) ([]byte, change.Presence, error) {
	null := false
	for _, i := range e.uses {
		switch row[i].Presence {
		case change.Omitted:
			return dst, change.Omitted, nil
		case change.Null:
			null = true
		case change.Present:
		}
	}
	e.row = row
	out, _, err := e.program.Eval(e)
	if err == nil && out.Type() == types.NullType {
		return dst, change.Null, nil
	}
	if err != nil && null {
		return dst, change.Null, nil
	}
	if err != nil {
		return dst, change.Omitted, err
	}
	dst, err = e.write(dst, out)
	return dst, change.Present, err
}

// exactType is a column's type in expressions.
func exactType(c change.Column) *cel.Type {
	switch c.Rule {
	case change.RuleDecimal, change.RuleUnsigned:
		return decimalType
	case change.RuleBinary:
		return cel.NullableType(cel.BytesType)
	default:
		return celType(c)
	}
}
func exactValue(c change.Column, v change.Value) any {
	if v.Presence == change.Present {
		switch c.Rule {
		case change.RuleDecimal, change.RuleUnsigned:
			d, err := parseDecimal(string(v.Text))
			if err != nil {
				return types.NullValue
			}
			return d
		case change.RuleBinary:
			return types.Bytes(slices.Clone(v.Text))
		case change.RuleJSON, change.RuleArray:
			return document(v.Text)
		default:
		}
	}
	return celValue(c, v)
}

// document is JSON with its integers as integers.
func document(text []byte) any {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	var root any
	if decoder.Decode(&root) != nil {
		return types.NullValue
	}
	var numbers func(v any) any
	numbers = func(v any) any {
		switch v := v.(type) {
		case json.Number:
			if n, err := v.Int64(); err == nil {
				return n
			}
			f, _ := v.Float64() // infinite where it is too large
			return f
		case []any:
			for i := range v {
				v[i] = numbers(v[i])
			}
		case map[string]any:
			for name := range v {
				v[name] = numbers(v[name])
			}
		case nil:
			return types.NullValue
		}
		return v
	}
	return numbers(root)
}
