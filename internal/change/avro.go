package change

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// AvroSchema is the version as an Avro record of a row, to be marshalled. Every
// field may be null, because a column may be omitted; x-omittable says so.
func (s *Schema) AvroSchema() map[string]any {
	namespace, name := s.avroPlace()
	fields := make([]map[string]any, len(s.Columns))
	names := s.AvroFields()
	for i, c := range s.Columns {
		fields[i] = map[string]any{
			"name":    names[i],
			"type":    append([]any{"null"}, avroTypes(c, name+"_"+names[i])...),
			"default": nil,
			"x-name":  c.NameInSource(),
			"x-type":  c.Type,
			"x-rule":  c.Rule,
		}
		if c.Treatment != "" {
			fields[i]["x-treatment"] = c.Treatment
		}
	}
	return map[string]any{
		"type": "record", "name": name, "namespace": namespace,
		"doc":           "A row of " + s.Table,
		"fields":        fields,
		"x-fingerprint": s.fingerprint.String(),
	}
}

func (s *Schema) avroPlace() (namespace, name string) {
	schema, table, ok := SplitTable(s.Table)
	if !ok {
		return "rillmark", avroName(s.Table)
	}
	namespace, name = "rillmark."+avroName(schema), avroName(table)
	if avroName(schema) != schema || name != table {
		// Tables that become one name must not become one record.
		sum := sha256.Sum256([]byte(s.Table))
		name += "_" + hex.EncodeToString(sum[:3])
	}
	return namespace, name
}

// AvroName is the full name of the version's Avro record.
func (s *Schema) AvroName() string {
	namespace, name := s.avroPlace()
	return namespace + "." + name
}

// AvroFields are the names that the columns have as fields of a record, each once.
func (s *Schema) AvroFields() []string {
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
	}
	return UniqueNames(names, nil, avroName)
}

var notAvro = regexp.MustCompile(`[^A-Za-z0-9_]`)

// avroName follows the Avro specification, section Names.
func avroName(s string) string {
	s = notAvro.ReplaceAllString(s, "_")
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = "_" + s
	}
	return s
}

// avroTypes are the branches of a column's union besides null. A value that a
// logical type cannot hold exactly (infinity, a year BC, not a number) goes into
// the branch string, as the engine's own text, as it does in JSON. enum is the name
// that an enum gets, which is the record's own.
func avroTypes(c Column, enum string) []any {
	logical := func(primitive, name string) []any {
		return []any{map[string]any{"type": primitive, "logicalType": name}, "string"}
	}
	switch c.Rule {
	case RuleBoolean:
		return []any{"boolean"}
	case RuleInteger:
		if c.Bits == 64 || c.Bits == 0 {
			return []any{"long"}
		}
		return []any{"int"}
	case RuleFloat:
		if c.Bits == 32 {
			return []any{"float"}
		}
		return []any{"double"}
	case RuleDecimal, RuleUnsigned:
		if precision, scale, fixed := c.DecimalSize(); fixed {
			return []any{map[string]any{"type": "bytes", "logicalType": "decimal", "precision": precision, "scale": scale}, "string"}
		}
		return []any{"string"} // Avro's decimal needs a scale
	case RuleDate:
		return logical("int", "date")
	case RuleTime:
		return logical("long", "time-micros")
	case RuleTimestamp:
		return logical("long", "local-timestamp-micros")
	case RuleTimestampTZ:
		return logical("long", "timestamp-micros")
	case RuleUUID:
		return []any{map[string]any{"type": "string", "logicalType": "uuid"}}
	case RuleBinary:
		return []any{"bytes"}
	case RuleEnum:
		if !AvroEnum(c) {
			return []any{"string"} // a label that Avro cannot name
		}
		return []any{map[string]any{"type": "enum", "name": enum, "symbols": slices.Clone(c.Labels)}}
	case RuleArray:
		items := append([]any{"null"}, avroTypes(AvroElement(c), enum)...)
		// Arrays of several dimensions, or with other lower bounds, are text.
		return []any{map[string]any{"type": "array", "items": items}, "string"}
	default:
		return []any{"string"}
	}
}

// AvroEnum reports whether an enum's labels are names that Avro allows; it is a
// string where they are not.
func AvroEnum(c Column) bool {
	return len(c.Labels) > 0 && !slices.ContainsFunc(c.Labels, func(l string) bool { return avroName(l) != l })
}

// AvroElement is an array's element as if it were a column.
func AvroElement(c Column) Column {
	c.Rule, c.Type = c.Element, strings.TrimSuffix(c.Type, "[]")
	return c
}

// AvroDecimal is the scale of a decimal that Avro can hold as one; fixed is
// false where it is a string.
func AvroDecimal(c Column) (scale int, fixed bool) {
	_, scale, fixed = c.DecimalSize()
	return scale, fixed
}

var sized = regexp.MustCompile(`^(?:numeric|decimal)\((\d+)(?:,(-?\d+))?\)(?: unsigned)?(?: zerofill)?$`)

// DecimalSize is precision and scale of a decimal of a type such as numeric(8,2), or of
// an unsigned integer; fixed is false where it has none, or some that Avro does not
// allow.
func (c *Column) DecimalSize() (precision, scale int, fixed bool) {
	if c.Rule == RuleUnsigned {
		return 20, 0, true // 18446744073709551615 has so many digits
	}
	found := sized.FindStringSubmatch(c.Type)
	if found == nil {
		return 0, 0, false
	}
	precision, _ = strconv.Atoi(found[1])
	if found[2] != "" {
		scale, _ = strconv.Atoi(found[2])
	}
	return precision, scale, precision > 0 && scale >= 0 && scale <= precision
}
