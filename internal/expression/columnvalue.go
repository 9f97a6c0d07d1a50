package expression

import (
	"bytes"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"time"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"

	"rillmark/internal/change"
)

// celType is a column's type in expressions and conditions.
func celType(c change.Column) *cel.Type {
	switch c.Rule {
	case change.RuleBoolean:
		return cel.NullableType(cel.BoolType)
	case change.RuleInteger:
		return cel.NullableType(cel.IntType)
	case change.RuleFloat:
		return cel.NullableType(cel.DoubleType)
	case change.RuleDecimal, change.RuleUnsigned: // an int has no room for the largest of the latter
		return decimalType
	case change.RuleTimestampTZ:
		return cel.NullableType(cel.TimestampType)
	case change.RuleBinary:
		return cel.NullableType(cel.BytesType)
	case change.RuleJSON, change.RuleArray:
		return cel.DynType
	default:
		return cel.NullableType(cel.StringType)
	}
}

// celValue is a canonical value as CEL sees it. A time that is infinite or out of range is
// null.
func celValue(c change.Column, v change.Value) any {
	if v.Presence != change.Present {
		return types.NullValue
	}
	switch c.Rule {
	case change.RuleBoolean:
		return string(v.Text) == "true"
	case change.RuleInteger:
		n, err := strconv.ParseInt(string(v.Text), 10, 64)
		if err != nil {
			return types.NullValue
		}
		return n
	case change.RuleFloat:
		f, err := strconv.ParseFloat(string(v.Text), 64)
		if err != nil && !math.IsInf(f, 0) {
			return types.NullValue
		}
		return f
	case change.RuleDecimal, change.RuleUnsigned:
		d, err := parseDecimal(string(v.Text))
		if err != nil {
			return types.NullValue
		}
		return d
	case change.RuleTimestampTZ:
		at, err := time.Parse(time.RFC3339Nano, string(v.Text))
		if err != nil {
			return types.NullValue
		}
		return at
	case change.RuleBinary:
		return types.Bytes(slices.Clone(v.Text))
	case change.RuleJSON, change.RuleArray:
		return document(v.Text)
	default:
		return string(v.Text)
	}
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
