package canonical

import (
	"encoding/base64"
	"errors"
	"fmt"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
)

// maxArrayDepth is the server's own limit (MAXDIM).
const maxArrayDepth = 6

// Array makes a Converter from the text form of an array (the manual,
// section "Array Input and Output Syntax") to a JSON array. An array whose
// lower bounds are not 1 is written with them in front; no JSON array holds
// those, so it becomes the engine's own text as a JSON string. So does an array of documents
// with the document null, which would read like a null of SQL.
func Array(element change.Rule, convert Converter, delimiter byte) Converter {
	form := element.Form()
	return func(dst, text []byte) ([]byte, error) {
		if len(text) > 0 && text[0] == '[' {
			return jsontext.AppendString(dst, text), nil
		}
		p := arrayParser{text: text, convert: convert, form: form, delimiter: delimiter}
		start := len(dst)
		dst, err := p.array(dst, 0)
		if err == nil && p.at != len(text) {
			err = errors.New("an array goes on after its end")
		}
		if err == nil && p.ambiguous {
			return jsontext.AppendString(dst[:start], text), nil
		}
		return dst, err
	}
}

type arrayParser struct {
	text      []byte
	at        int
	convert   Converter
	form      change.Form
	delimiter byte
	scratch   []byte
	ambiguous bool // an element is the document null
}

func (p *arrayParser) array(dst []byte, depth int) ([]byte, error) {
	if depth > maxArrayDepth || p.at >= len(p.text) || p.text[p.at] != '{' {
		return nil, fmt.Errorf("an array does not begin where it should (byte %d)", p.at)
	}
	p.at++
	dst = append(dst, '[')
	for first := true; ; first = false {
		if p.at >= len(p.text) {
			return nil, errors.New("an array ends too early")
		}
		switch c := p.text[p.at]; {
		case c == '}':
			p.at++
			return append(dst, ']'), nil
		case c == p.delimiter && !first:
			p.at++
			dst = append(dst, ',')
		case !first:
			return nil, fmt.Errorf("an array has %q between two elements", c)
		}
		if p.at >= len(p.text) {
			return nil, errors.New("an array ends too early")
		}
		var err error
		if p.text[p.at] == '{' {
			dst, err = p.array(dst, depth+1)
		} else {
			dst, err = p.element(dst)
		}
		if err != nil {
			return nil, err
		}
	}
}

func (p *arrayParser) element(dst []byte) ([]byte, error) {
	raw, quoted, err := p.token()
	if err != nil {
		return nil, err
	}
	if !quoted && string(raw) == "NULL" {
		return append(dst, "null"...), nil
	}
	value := raw
	if p.convert != nil {
		if value, err = p.convert(nil, raw); err != nil {
			return nil, err
		}
	}
	switch p.form {
	case change.FormRaw:
		p.ambiguous = p.ambiguous || string(value) == "null"
		return append(dst, value...), nil
	case change.FormNumber:
		if jsontext.IsNumber(value) {
			return append(dst, value...), nil
		}
		return jsontext.AppendString(dst, value), nil
	case change.FormBase64:
		dst = append(dst, '"')
		dst = base64.StdEncoding.AppendEncode(dst, value)
		return append(dst, '"'), nil
	default:
		return jsontext.AppendString(dst, value), nil
	}
}

// token takes one element's text off, without its quotes and backslashes.
func (p *arrayParser) token() (raw []byte, quoted bool, err error) {
	if p.text[p.at] != '"' {
		start := p.at
		for p.at < len(p.text) && p.text[p.at] != p.delimiter && p.text[p.at] != '}' {
			if p.text[p.at] == '\\' {
				return nil, false, errors.New("an array has a backslash outside of quotes")
			}
			p.at++
		}
		if p.at == start {
			return nil, false, errors.New("an array has an empty element")
		}
		return p.text[start:p.at], false, nil
	}
	p.at++
	p.scratch = p.scratch[:0]
	for p.at < len(p.text) {
		switch c := p.text[p.at]; c {
		case '"':
			p.at++
			return p.scratch, true, nil
		case '\\':
			if p.at++; p.at >= len(p.text) {
				return nil, false, errors.New("an array ends in a backslash")
			}
			fallthrough
		default:
			p.scratch = append(p.scratch, p.text[p.at])
			p.at++
		}
	}
	return nil, false, errors.New("an array's quotes are not closed")
}
