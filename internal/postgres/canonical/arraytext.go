package canonical

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"rillmark/internal/change"
)

// ArrayText is the way back from [Array]: it makes the server's text of the canonical text of an
// array's column.
func ArrayText(c *change.Column) Converter {
	a := arrayText{element: c.Element, delimiter: ','}
	if strings.HasPrefix(c.Type, "box[") {
		a.delimiter = ';' // the one type whose values have commas (pg_type.typdelim)
	}
	return a.append
}

// arrayText makes of a JSON array the server's text of an array (the manual, section
// "Array Input and Output Syntax"). A JSON string is that text itself.
type arrayText struct {
	element   change.Rule
	delimiter byte
}

func (a arrayText) append(dst, canonical []byte) ([]byte, error) {
	if len(canonical) > 0 && canonical[0] == '"' {
		var text string
		err := json.Unmarshal(canonical, &text)
		return append(dst, text...), err
	}
	var items []json.RawMessage
	if err := json.Unmarshal(canonical, &items); err != nil {
		return dst, fmt.Errorf("an array that is none: %w", err)
	}
	dst = append(dst, '{')
	for i, item := range items {
		if i > 0 {
			dst = append(dst, a.delimiter)
		}
		var err error
		if dst, err = a.appendElement(dst, item); err != nil {
			return dst, err
		}
	}
	return append(dst, '}'), nil
}

func (a arrayText) appendElement(dst []byte, item json.RawMessage) ([]byte, error) {
	switch {
	case string(item) == "null":
		return append(dst, "NULL"...), nil
	case item[0] == '[' && a.element != change.RuleJSON:
		return a.append(dst, item)
	case item[0] != '"' || a.element == change.RuleJSON:
		return appendQuoted(dst, item), nil
	}
	var text string
	if err := json.Unmarshal(item, &text); err != nil {
		return dst, err
	}
	if a.element == change.RuleBinary {
		raw, err := base64.StdEncoding.DecodeString(text)
		return appendQuoted(dst, hex.AppendEncode([]byte(`\x`), raw)), err
	}
	return appendQuoted(dst, []byte(text)), nil
}

func appendQuoted(dst, text []byte) []byte {
	dst = append(dst, '"')
	for _, b := range text {
		if b == '"' || b == '\\' {
			dst = append(dst, '\\')
		}
		dst = append(dst, b)
	}
	return append(dst, '"')
}
