package expression

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/common/types/traits"

	"rillmark/internal/change"
)

// ValueTypes are the types that somebody can name; decimal may have digits and places, as
// decimal(8,2).
var ValueTypes = []string{"boolean", "integer", "decimal", "double", "text", "timestamp", "json", "bytes"}

var decimalDigits = regexp.MustCompile(`^decimal\(([0-9]{1,2}),([0-9]{1,2})\)$`)

// CheckValueType refuses what is none of [ValueTypes].
func CheckValueType(name string) error {
	if parts := decimalDigits.FindStringSubmatch(name); parts != nil {
		digits, _ := strconv.Atoi(parts[1]) // they are digits
		places, _ := strconv.Atoi(parts[2])
		if digits < 1 || digits > 65 || places > 38 || places > digits {
			return fmt.Errorf("%s: a decimal has 1 to 65 digits, of which up to 38 stand behind the point", name)
		}
		return nil
	}
	if !slices.Contains(ValueTypes, name) {
		return fmt.Errorf("unknown type %q: there are %s and decimal(8,2)", name, strings.Join(ValueTypes, ", "))
	}
	return nil
}

func celTypeOf(name string) *cel.Type {
	switch name {
	case "boolean":
		return cel.BoolType
	case "integer":
		return cel.IntType
	case "double":
		return cel.DoubleType
	case "text":
		return cel.StringType
	case "timestamp":
		return cel.TimestampType
	case "json":
		return cel.DynType
	case "bytes":
		return cel.BytesType
	}
	return decimalType
}

// kindOf is the type of column that an expression's own type asks for.
func kindOf(t *cel.Type) (string, error) {
	switch t.Kind() {
	case types.BoolKind:
		return "boolean", nil
	case types.IntKind:
		return "integer", nil
	case types.UintKind:
		return "decimal", nil
	case types.DoubleKind:
		return "double", nil
	case types.StringKind:
		return "text", nil
	case types.TimestampKind:
		return "timestamp", nil
	case types.BytesKind:
		return "bytes", nil
	case types.ListKind, types.MapKind:
		return "json", nil
	case types.DynKind:
		return "", errors.New("nothing says what type its values have: give it a type, one of " + strings.Join(ValueTypes, ", "))
	case types.NullTypeKind:
		return "", errors.New("it is always null: give it a type, one of " + strings.Join(ValueTypes, ", "))
	default:
	}
	if t.IsExactType(decimalType) {
		return "decimal", nil
	}
	if wrapped := map[string]string{"wrapper(bool)": "boolean", "wrapper(int)": "integer", "wrapper(double)": "double", "wrapper(string)": "text", "wrapper(uint)": "decimal", "wrapper(bytes)": "bytes", "wrapper(timestamp)": "timestamp"}[t.String()]; wrapped != "" {
		return wrapped, nil
	}
	return "", fmt.Errorf("it gives %s, which no column has: write string(…)", t)
}

// becomes reports whether values of one kind are written as another without a loss.
func becomes(given, kind string) bool {
	return given == kind || kind == "decimal" && given == "integer" || kind == "json"
}

func conversionTo(kind string) string {
	switch kind {
	case "integer":
		return "int"
	case "text":
		return "string"
	case "boolean":
		return "bool"
	}
	return kind
}

// column describes what the values fill; its name is the caller's.
func (e *Formula) column(engine change.Engine) change.Column {
	pick := func(postgresql, mariadb string) string {
		if engine == change.MariaDB {
			return mariadb
		}
		return postgresql
	}
	switch e.kind {
	case "boolean":
		return change.Column{Type: "boolean", Rule: change.RuleBoolean, Nullable: true}
	case "integer":
		return change.Column{Type: "bigint", Rule: change.RuleInteger, Bits: 64, Nullable: true}
	case "double":
		return change.Column{Type: pick("double precision", "double"), Rule: change.RuleFloat, Bits: 64, Nullable: true}
	case "timestamp":
		return change.Column{Type: pick("timestamp with time zone", "timestamp(6)"), Rule: change.RuleTimestampTZ, Nullable: true}
	case "bytes":
		return change.Column{Type: pick("bytea", "longblob"), Rule: change.RuleBinary, Nullable: true}
	case "json":
		return change.Column{Type: "json", Rule: change.RuleJSON, Nullable: true}
	case "decimal":
		kind := pick("numeric", "decimal(65,30)")
		if e.digits > 0 {
			kind = fmt.Sprintf("%s(%d,%d)", pick("numeric", "decimal"), e.digits, e.places)
		}
		return change.Column{Type: kind, Rule: change.RuleDecimal, Nullable: true}
	}
	return change.Column{Type: pick("text", "longtext"), Rule: change.RuleText, Nullable: true}
}

// write appends a value's canonical text.
func (e *Formula) write(dst []byte, v ref.Val) ([]byte, error) {
	wrong := func() ([]byte, error) {
		return dst, fmt.Errorf("it gives %s where the column's type is %s", v.Type().TypeName(), e.kind)
	}
	switch e.kind {
	case "boolean":
		if b, is := v.(types.Bool); is {
			return strconv.AppendBool(dst, bool(b)), nil
		}
	case "integer":
		if n, is := v.(types.Int); is {
			return strconv.AppendInt(dst, int64(n), 10), nil
		}
	case "double":
		if f, is := v.(types.Double); is {
			return appendDouble(dst, float64(f)), nil
		}
	case "text":
		if s, is := v.(types.String); is {
			if strings.IndexByte(string(s), 0) >= 0 {
				return dst, errors.New("it gives a text with a NUL, which no text of a database can hold")
			}
			return append(dst, s...), nil
		}
	case "timestamp":
		if at, is := v.(types.Timestamp); is {
			return at.UTC().AppendFormat(dst, "2006-01-02T15:04:05.000000Z"), nil
		}
	case "bytes":
		if b, is := v.(types.Bytes); is {
			return append(dst, b...), nil
		}
	case "json":
		document, err := plainOfValue(v)
		if err != nil {
			return dst, err
		}
		text, err := json.Marshal(document)
		return append(dst, text...), err
	case "decimal":
		if _, is := v.(types.String); is {
			return wrong()
		}
		d, err := decimalOf(v)
		if err != nil {
			return wrong()
		}
		return e.writeDecimal(dst, d)
	}
	return wrong()
}

func (e *Formula) writeDecimal(dst []byte, d decimal) ([]byte, error) {
	if e.digits == 0 || d.special == "NaN" {
		return append(dst, d.text()...), nil
	}
	if d.special != "" {
		return dst, fmt.Errorf("decimal(%d,%d) has no %s", e.digits, e.places, d.special)
	}
	rounded := roundTo(d, int64(e.places))
	r, is := rounded.(decimal)
	if !is {
		return dst, fmt.Errorf("%v", rounded)
	}
	if r.NumDigits() > e.digits {
		return dst, fmt.Errorf("%s has more digits than decimal(%d,%d) holds", r.text(), e.digits, e.places)
	}
	return append(dst, r.text()...), nil
}

// appendDouble writes a double as PostgreSQL and JSON do.
func appendDouble(dst []byte, f float64) []byte {
	switch {
	case math.IsNaN(f):
		return append(dst, "NaN"...)
	case math.IsInf(f, 1):
		return append(dst, "Infinity"...)
	case math.IsInf(f, -1):
		return append(dst, "-Infinity"...)
	}
	if a := math.Abs(f); a != 0 && (a < 1e-6 || a >= 1e15) {
		return strconv.AppendFloat(dst, f, 'e', -1, 64)
	}
	return strconv.AppendFloat(dst, f, 'f', -1, 64)
}

// plainOfValue is a value as JSON has it: exact numbers, decimals and times as text.
func plainOfValue(v ref.Val) (any, error) {
	switch v := v.(type) {
	case types.Null:
		return nil, nil
	case types.Bool:
		return bool(v), nil
	case types.Int:
		return int64(v), nil
	case types.Uint:
		return uint64(v), nil
	case types.Double:
		if math.IsNaN(float64(v)) || math.IsInf(float64(v), 0) {
			return nil, errors.New("JSON has no such number as " + string(appendDouble(nil, float64(v))))
		}
		return float64(v), nil
	case types.String:
		return string(v), nil
	case decimal:
		return v.text(), nil
	case types.Timestamp:
		return v.UTC().Format(time.RFC3339Nano), nil
	case traits.Mapper:
		object := make(map[string]any)
		for it := v.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			name, is := key.(types.String)
			if !is {
				return nil, fmt.Errorf("a JSON object's names are texts, not %s", key.Type().TypeName())
			}
			value, err := plainOfValue(v.Get(key))
			if err != nil {
				return nil, err
			}
			object[string(name)] = value
		}
		return object, nil
	case traits.Lister:
		list := []any{}
		for it := v.Iterator(); it.HasNext() == types.True; {
			value, err := plainOfValue(it.Next())
			if err != nil {
				return nil, err
			}
			list = append(list, value)
		}
		return list, nil
	}
	return nil, fmt.Errorf("JSON has no %s: write string(…)", v.Type().TypeName())
}
