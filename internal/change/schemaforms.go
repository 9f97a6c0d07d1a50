package change

import (
	"regexp"
	"strings"
)

// JSONSchema is the version as a JSON Schema 2020-12 of a row, to be marshalled.
// id is the absolute address under which it is served.
func (s *Schema) JSONSchema(id string) map[string]any {
	properties := make(map[string]any, len(s.Columns))
	order := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		properties[c.Name] = columnSchema(c)
		order[i] = c.Name
	}
	key := make([]string, 0, len(s.key))
	for _, i := range s.key {
		key = append(key, s.Columns[i].Name)
	}
	return map[string]any{
		"$schema":     "https://json-schema.org/draft/2020-12/schema",
		"$id":         id,
		"title":       s.Table,
		"description": "A row of " + s.Table + ", as it stands in before and after. A column that the log did not carry is absent.",
		"type":        "object",
		"properties":  properties,
		"x-columns":   order,
		"x-key":       key,
		"x-engine":    s.Engine,
		"x-guessed":   s.Guessed,
	}
}

func columnSchema(c Column) map[string]any {
	one := ruleSchema(c.Rule, c)
	if c.Rule == RuleArray {
		element := c
		element.Rule = c.Element
		// Arrays may nest; JSON Schema says so by a union with itself, which few
		// readers want. The element's rule is named beside it instead.
		one["items"] = map[string]any{"description": "null, an element (" + c.Element.Describe() + ") or a nested array"}
		one["x-element-rule"] = c.Element
		one["type"] = []string{"array", "string"}
	}
	one["description"] = c.Rule.Describe()
	one["x-rule"] = c.Rule
	one["x-type"] = c.Type
	if c.Nullable {
		switch t := one["type"].(type) {
		case string:
			one["type"] = []string{t, "null"}
		case []string:
			one["type"] = append(t, "null")
		}
		if labels, ok := one["enum"].([]any); ok {
			one["enum"] = append(labels, nil)
		}
	}
	return one
}

func ruleSchema(r Rule, c Column) map[string]any {
	switch r {
	case RuleBoolean:
		return map[string]any{"type": "boolean"}
	case RuleInteger:
		one := map[string]any{"type": "integer"}
		switch c.Bits {
		case 16:
			one["minimum"], one["maximum"] = -1<<15, 1<<15-1
		case 32:
			one["minimum"], one["maximum"] = -1<<31, 1<<31-1
		}
		return one
	case RuleFloat:
		return map[string]any{"type": []string{"number", "string"}}
	case RuleUUID:
		return map[string]any{"type": "string", "format": "uuid"}
	case RuleBinary:
		return map[string]any{"type": "string", "contentEncoding": "base64"}
	case RuleDuration:
		return map[string]any{"type": "string", "format": "duration"}
	case RuleJSON:
		return map[string]any{} // anything
	case RuleEnum:
		labels := make([]any, len(c.Labels))
		for i, l := range c.Labels {
			labels[i] = l
		}
		return map[string]any{"type": "string", "enum": labels}
	default:
		return map[string]any{"type": "string"}
	}
}

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
			"type":    []any{"null", avroType(c, s.Table)},
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

func avroType(c Column, table string) any {
	switch c.Rule {
	case RuleBoolean:
		return "boolean"
	case RuleInteger:
		if c.Bits == 64 || c.Bits == 0 {
			return "long"
		}
		return "int"
	case RuleFloat:
		if c.Bits == 32 {
			return "float"
		}
		return "double"
	case RuleUUID:
		return map[string]any{"type": "string", "logicalType": "uuid"}
	case RuleBinary:
		return "bytes"
	case RuleEnum:
		symbols := make([]string, len(c.Labels))
		for i, l := range c.Labels {
			if avroName(l) != l {
				return "string" // a label that Avro cannot name
			}
			symbols[i] = l
		}
		return map[string]any{"type": "enum", "name": avroName(table + "_" + c.Name), "symbols": symbols}
	default:
		// Times that Avro's logical types cannot hold exactly (infinity, years
		// BC) and decimals without a fixed scale stay text, as in JSON.
		return "string"
	}
}
