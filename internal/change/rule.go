package change

// Rule says how the values of a column are written in canonical text and in
// JSON. It follows from the engine's type; the schema version records both.
type Rule string

// The rules. "Own text" is the engine's own text for a value, written as a JSON
// string: it stands wherever a form cannot hold a value (infinity, years BC or
// over 9999, not a number).
const (
	RuleBoolean     Rule = "boolean"     // true, false
	RuleInteger     Rule = "integer"     // JSON number, exact to 64 bits
	RuleUnsigned    Rule = "unsigned"    // JSON number from 0, exact to 64 bits
	RuleFloat       Rule = "float"       // JSON number, shortest that reads back the same; else own text
	RuleDecimal     Rule = "decimal"     // JSON string, exact
	RuleText        Rule = "text"        // JSON string
	RuleUUID        Rule = "uuid"        // JSON string, lower case
	RuleDate        Rule = "date"        // RFC 3339 full-date; else own text
	RuleTime        Rule = "time"        // RFC 3339 partial-time with six decimals
	RuleTimeTZ      Rule = "timetz"      // RFC 3339 full-time with six decimals and its offset
	RuleTimestamp   Rule = "timestamp"   // RFC 3339 with six decimals, without a zone; else own text
	RuleTimestampTZ Rule = "timestamptz" // RFC 3339 in UTC with six decimals; else own text
	RuleDuration    Rule = "duration"    // ISO 8601 duration
	RuleBinary      Rule = "binary"      // base64
	RuleJSON        Rule = "json"        // nested JSON
	RuleEnum        Rule = "enum"        // JSON string, one of the labels
	RuleArray       Rule = "array"       // JSON array of the element's rule; else own text
	RuleEngineText  Rule = "engine-text" // JSON string: the engine's own text for a type without a rule
)

// Form is what a writer of JSON has to do with a value's canonical text.
type Form uint8

// The forms.
const (
	FormRaw    Form = iota // is JSON already
	FormPlain              // needs quotes, and no escapes
	FormEscape             // needs quotes and escapes
	FormBase64             // raw bytes
	FormNumber             // is a JSON number unless it starts with a letter after an optional sign
)

// Form is how values under this rule become JSON.
func (r Rule) Form() Form {
	switch r {
	case RuleBoolean, RuleInteger, RuleUnsigned, RuleJSON, RuleArray:
		return FormRaw
	case RuleFloat:
		return FormNumber
	case RuleDecimal, RuleUUID, RuleDate, RuleTime, RuleTimeTZ, RuleTimestamp, RuleTimestampTZ, RuleDuration:
		return FormPlain
	case RuleBinary:
		return FormBase64
	default:
		return FormEscape
	}
}

// Describe is one sentence on the rule, for the schema that is served.
func (r Rule) Describe() string {
	switch r {
	case RuleBoolean:
		return "true or false"
	case RuleInteger:
		return "an integer of up to 64 bits, exact: read it with a parser that does not round above 2^53"
	case RuleUnsigned:
		return "an integer from 0 to 18446744073709551615, exact: read it with a parser that does not round above 2^53"
	case RuleFloat:
		return "the shortest number that reads back the same; NaN, Infinity and -Infinity as strings"
	case RuleDecimal:
		return "an exact decimal as a string; NaN, Infinity and -Infinity where the type allows them"
	case RuleDate:
		return "RFC 3339 full-date; infinity, years BC and years over 9999 in the engine's own text"
	case RuleTime:
		return "RFC 3339 partial-time with six decimals"
	case RuleTimeTZ:
		return "RFC 3339 full-time with six decimals and its offset from UTC"
	case RuleTimestamp:
		return "RFC 3339 with six decimals and without a zone; infinity, years BC and years over 9999 in the engine's own text"
	case RuleTimestampTZ:
		return "RFC 3339 in UTC with six decimals; infinity, years BC and years over 9999 in the engine's own text"
	case RuleDuration:
		return "an ISO 8601 duration"
	case RuleBinary:
		return "bytes in base64"
	case RuleJSON:
		return "a document as nested JSON"
	case RuleEnum:
		return "one of the labels"
	case RuleArray:
		return "an array, each element by the element's rule; an array with lower bounds other than 1 in the engine's own text"
	case RuleUUID:
		return "a UUID in lower case"
	case RuleText:
		return "text"
	default:
		return "the engine's own text for a value of this type"
	}
}
