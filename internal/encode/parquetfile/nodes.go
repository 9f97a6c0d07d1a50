package parquetfile

import (
	"reflect"
	"slices"
	"strings"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress"
	"github.com/parquet-go/parquet-go/encoding"

	"rillmark/internal/change"
)

// columns are the file's, in the order in which they are given: the library's own
// group sorts them by name, and takes no name with a comma.
type columns []parquet.Field

func (c columns) ID() int                     { return 0 }
func (c columns) Type() parquet.Type          { return parquet.Group{}.Type() }
func (c columns) Optional() bool              { return false }
func (c columns) Repeated() bool              { return false }
func (c columns) Required() bool              { return true }
func (c columns) Leaf() bool                  { return false }
func (c columns) Fields() []parquet.Field     { return c }
func (c columns) Encoding() encoding.Encoding { return nil }
func (c columns) Compression() compress.Codec { return nil }

// GoType is not asked for where rows are written as rows.
func (c columns) GoType() reflect.Type { return reflect.TypeFor[map[string]any]() }

func (c columns) String() string {
	names := make([]string, len(c))
	for i, one := range c {
		names[i] = one.Name() + " " + one.String()
	}
	return strings.Join(names, ", ")
}

// unpacked is a node as it was in a file, without how its values were packed there: files are
// packed as their outlet says.
type unpacked struct{ parquet.Node }

func (u unpacked) Encoding() encoding.Encoding { return nil }
func (u unpacked) Compression() compress.Codec { return nil }

func (u unpacked) Fields() []parquet.Field {
	fields := slices.Clone(u.Node.Fields())
	for i, field := range fields {
		fields[i] = column{unpacked{field}, field.Name()}
	}
	return fields
}

type column struct {
	parquet.Node
	name string
}

func (c column) Name() string { return c.name }

func (c column) Value(base reflect.Value) reflect.Value {
	return base.MapIndex(reflect.ValueOf(c.name))
}

// fewDigits of a decimal fit into 32 bits, mostDigits into 64.
const (
	fewDigits  = 9
	mostDigits = 18
)

func parquetNode(c *change.Column) parquet.Node {
	switch c.Rule {
	case change.RuleBoolean:
		return parquet.Leaf(parquet.BooleanType)
	case change.RuleInteger:
		if c.Bits == 16 || c.Bits == 32 {
			return parquet.Int(32)
		}
		return parquet.Int(64)
	case change.RuleUnsigned:
		return parquet.Uint(64)
	case change.RuleFloat:
		if c.Bits == 32 {
			return parquet.Leaf(parquet.FloatType)
		}
		return parquet.Leaf(parquet.DoubleType)
	case change.RuleDecimal:
		if precision, scale, fixed := c.DecimalSize(); fixed && precision <= mostDigits {
			if precision <= fewDigits {
				return parquet.Decimal(scale, precision, parquet.Int32Type)
			}
			return parquet.Decimal(scale, precision, parquet.Int64Type)
		}
	case change.RuleDate:
		return parquet.Date()
	case change.RuleTime:
		return parquet.Time(parquet.Microsecond)
	case change.RuleTimestamp:
		return parquet.TimestampAdjusted(parquet.Microsecond, false)
	case change.RuleTimestampTZ:
		return parquet.Timestamp(parquet.Microsecond)
	case change.RuleBinary:
		return parquet.Leaf(parquet.ByteArrayType)
	case change.RuleJSON, change.RuleArray:
		return parquet.JSON()
	default: // text
	}
	return parquet.String()
}
