package change

import (
	"regexp"
	"strconv"
	"strings"
)

// AvroSchema is the version as an Avro record of a row, to be marshalled. Every
// field may be null, because a column may be omitted; x-omittable says so.
func (s *Schema) AvroSchema() map[string]any {
	namespace, name := "rillmark", s.Table
	if schema, table, found := strings.Cut(s.Table, "."); found {
		namespace, name = "rillmark."+avroName(schema), table
	}
	fields := make([]map[string]any, len(s.Columns))
	taken := make(map[string]int)
	for i, c := range s.Columns {
		field := avroName(c.Name)
		if n := taken[field]; n > 0 {
			field += "_" + string(rune('0'+n%10))
		}
		taken[avroName(c.Name)]++
		fields[i] = map[string]any{
			"name":    field,
			"type":    append([]any{"null"}, avroTypes(c, s.Table)...),
			"default": nil,
			"x-name":  c.Name,
			"x-type":  c.Type,
			"x-rule":  c.Rule,
		}
	}
	return map[string]any{
		"type": "record", "name": avroName(name), "namespace": namespace,
		"doc":           "A row of " + s.Table,
		"fields":        fields,
		"x-fingerprint": s.fingerprint.String(),
	}
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
// the branch string, as the engine's own text, as it does in JSON.
func avroTypes(c Column, table string) []any {
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
	case RuleDecimal:
		if precision, scale, fixed := decimalSize(c.Type); fixed {
			return []any{map[string]any{"type": "bytes", "logicalType": "decimal", "precision": precision, "scale": scale}, "string"}
		}
		return []any{"string"} // Avro's decimal wants a scale
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
		symbols := make([]string, len(c.Labels))
		for i, l := range c.Labels {
			if avroName(l) != l {
				return []any{"string"} // a label that Avro cannot name
			}
			symbols[i] = l
		}
		return []any{map[string]any{"type": "enum", "name": avroName(table + "_" + c.Name), "symbols": symbols}}
	case RuleArray:
		element := c
		element.Rule, element.Type = c.Element, strings.TrimSuffix(c.Type, "[]")
		items := append([]any{"null"}, avroTypes(element, table)...)
		// Arrays of several dimensions, or with other lower bounds, are text.
		return []any{map[string]any{"type": "array", "items": items}, "string"}
	default:
		return []any{"string"}
	}
}

var sized = regexp.MustCompile(`^numeric\((\d+)(?:,(-?\d+))?\)$`)

// decimalSize reads precision and scale of a type such as numeric(8,2); fixed is
// false where it has none, or some that Avro does not allow.
func decimalSize(engineType string) (precision, scale int, fixed bool) {
	found := sized.FindStringSubmatch(engineType)
	if found == nil {
		return 0, 0, false
	}
	precision, _ = strconv.Atoi(found[1])
	if found[2] != "" {
		scale, _ = strconv.Atoi(found[2])
	}
	return precision, scale, precision > 0 && scale >= 0 && scale <= precision
}
