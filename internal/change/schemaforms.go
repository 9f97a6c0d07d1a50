package change

import "math"

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
	if c.Treatment != "" {
		one["x-treatment"] = c.Treatment
	}
	if c.From != "" {
		one["x-name"] = c.From
	}
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
	case RuleUnsigned:
		return map[string]any{"type": "integer", "minimum": 0, "maximum": uint64(math.MaxUint64)}
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
