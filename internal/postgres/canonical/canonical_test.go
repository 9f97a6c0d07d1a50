package canonical

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
)

// FuzzValue holds that whatever text comes, a Converter refuses it or makes a value
// that is JSON in the form of its rule.
func FuzzValue(f *testing.F) {
	kinds := []struct {
		form    change.Form
		convert Converter
	}{
		{change.RuleBoolean.Form(), Boolean}, {change.RuleTimestamp.Form(), Timestamp}, {change.RuleTimestampTZ.Form(), TimestampTZ},
		{change.RuleTime.Form(), Time}, {change.RuleTimeTZ.Form(), TimeTZ}, {change.RuleJSON.Form(), JSON}, {change.RuleBinary.Form(), Bytea},
		{change.RuleInteger.Form(), nil}, {change.RuleFloat.Form(), nil}, {change.RuleText.Form(), nil},
	}
	for n, seed := range []string{"t", "2026-11-23 09:14:07.5", "2026-11-23 09:14:07.25+00", "09:14:07", "09:14:07.25+05:30:15", `{"a": [1, 9007199254740993]}`, `\x00ff`, "-9223372036854775808", "NaN", "a\"\\\n\xff"} {
		f.Add(uint8(n), seed)
	}
	for _, seed := range []string{"infinity", "0044-03-15 12:00:00 BC", "24:00:00", "", "+", "\x00"} {
		f.Add(uint8(1), seed)
	}
	f.Fuzz(func(t *testing.T, kind uint8, text string) {
		k := kinds[int(kind)%len(kinds)]
		before := []byte("before")
		out := append(before, text...)
		if k.convert != nil {
			var err error
			if out, err = k.convert(before, []byte(text)); err != nil {
				return
			}
		}
		value, kept := bytes.CutPrefix(out, []byte("before"))
		if !kept {
			t.Fatalf("%q is not appended", text)
		}
		switch k.form {
		case change.FormRaw:
			if k.convert == nil {
				return // the server's own number
			}
		case change.FormPlain:
			if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' || r > '~' }) {
				return // no text of the server's for such a type
			}
			value = []byte(`"` + string(value) + `"`)
		case change.FormBase64:
			value = []byte(`"` + base64.StdEncoding.EncodeToString(value) + `"`)
		case change.FormNumber:
			if !jsontext.IsNumber(value) {
				value = jsontext.AppendString(nil, value)
			} else {
				return // the server's own number
			}
		default:
			value = jsontext.AppendString(nil, value)
		}
		if !json.Valid(value) {
			t.Fatalf("%q became %q", text, value)
		}
	})
}

// FuzzArray holds that whatever is taken for an array becomes valid JSON.
func FuzzArray(f *testing.F) {
	for _, seed := range []string{`{}`, `{1,2}`, `{{1,NULL},{3,4}}`, `{"a\"b",NULL,""}`, `[0:1]={7,8}`, `{`, `{"`, `{1,}`, `{\}`, "{\"\n\"}"} {
		f.Add(seed)
	}
	convert := Array(change.RuleText, nil, ',')
	f.Fuzz(func(t *testing.T, text string) {
		out, err := convert(nil, []byte(text))
		if err == nil && !json.Valid(out) {
			t.Fatalf("%q became %q", text, out)
		}
	})
}
