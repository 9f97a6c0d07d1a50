package change

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
)

// FilledJSON is a value of a column as a schema event lists it in filled: as a row's event has it.
// ok is false for what cannot be told from a null there: the document null.
func FilledJSON(c *Column, v Value) (raw json.RawMessage, ok bool) {
	if v.Presence != Present {
		return json.RawMessage("null"), v.Presence == Null
	}
	number := len(v.Text) > 0 && (v.Text[0] == '-' || v.Text[0] >= '0' && v.Text[0] <= '9') && json.Valid(v.Text)
	switch form := c.Rule.Form(); {
	case form == FormRaw, form == FormNumber && number:
		return append(json.RawMessage(nil), v.Text...), string(v.Text) != "null" && json.Valid(v.Text)
	case form == FormBase64:
		return mustMarshal(base64.StdEncoding.EncodeToString(v.Text)), true
	}
	return mustMarshal(string(v.Text)), true
}

// FilledValue is the way back from [FilledJSON].
func FilledValue(c *Column, raw json.RawMessage) (Value, error) {
	if string(raw) == "null" {
		return NullValue(), nil
	}
	form := c.Rule.Form()
	if form == FormRaw || len(raw) == 0 || raw[0] != '"' {
		return Value{Presence: Present, Text: append([]byte(nil), raw...)}, nil
	}
	var text string
	if err := json.Unmarshal(raw, &text); err != nil {
		return Value{}, fmt.Errorf("the value that filled column %s: %w", c.Name, err)
	}
	if form != FormBase64 {
		return Of(text), nil
	}
	bytes, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return Value{}, fmt.Errorf("the value that filled column %s: %w", c.Name, err)
	}
	return Value{Presence: Present, Text: bytes}, nil
}
