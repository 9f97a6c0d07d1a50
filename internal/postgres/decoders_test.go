package postgres

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"net"
	"strings"
	"testing"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
	"rillmark/internal/postgres/pgoutput"
)

// FuzzValue holds that whatever text comes, a converter refuses it or makes a value
// that is JSON in the form of its rule.
func FuzzValue(f *testing.F) {
	kinds := []struct {
		form    change.Form
		convert converter
	}{
		{change.RuleBoolean.Form(), convertBoolean}, {change.RuleTimestamp.Form(), convertTimestamp}, {change.RuleTimestampTZ.Form(), convertTimestampTZ},
		{change.RuleTime.Form(), convertTime}, {change.RuleTimeTZ.Form(), convertTimeTZ}, {change.RuleJSON.Form(), convertJSON}, {change.RuleBinary.Form(), convertBytea},
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

// FuzzLargeRow holds that a row that is taken apart as it comes is the row that was
// sent, but for values beyond the bound, which keep their size; and that a damaged
// one is refused.
func FuzzLargeRow(f *testing.F) {
	insert := func(columns ...pgoutput.TupleColumn) []byte {
		return (&pgoutput.Insert{Relation: 7, New: columns}).Encode(nil)
	}
	text := func(n int) pgoutput.TupleColumn {
		return pgoutput.TupleColumn{Kind: pgoutput.KindText, Data: bytes.Repeat([]byte("x"), n)}
	}
	f.Add(insert(text(3), text(99), pgoutput.TupleColumn{Kind: pgoutput.KindNull}, text(0)))
	f.Add((&pgoutput.Update{Relation: 7, OldKind: pgoutput.OldRow, Old: []pgoutput.TupleColumn{text(50), text(1)}, New: []pgoutput.TupleColumn{{Kind: pgoutput.KindUnchanged}, {Kind: pgoutput.KindBinary, Data: make([]byte, 40)}}}).Encode(nil))
	f.Add((&pgoutput.Delete{Relation: 7, Old: []pgoutput.TupleColumn{text(200)}}).Encode(nil))
	f.Add([]byte("I\x00\x00\x00\x07N\x00\x01t\xff\xff\xff\xff"))
	const largest = 16
	f.Fuzz(func(t *testing.T, message []byte) {
		if len(message) == 0 {
			return
		}
		header := append([]byte{'w'}, make([]byte, 24)...)
		sent := append(header, message...)
		far, near := net.Pipe()
		far.Close() //nolint:errcheck // all that comes is in rest
		frames := &frames{in: &coalescingConn{Conn: near, rest: sent}, largest: largest}
		got, err := frames.big(int64(len(sent)))
		if err != nil {
			return
		}
		var want, came pgoutput.Decoder
		before, err := want.Decode(message)
		if err != nil {
			return // whoever decodes it is told
		}
		wanted := rowsOf(before)
		after, err := came.Decode(got[len(header):])
		if err != nil {
			t.Fatalf("%q was sent whole and came as %q: %v", message, got, err)
		}
		for i, c := range rowsOf(after) {
			w := wanted[i]
			switch {
			case c.Kind == pgoutput.KindTooLarge && w.Kind != pgoutput.KindTooLarge:
				if size := binary.BigEndian.Uint64(c.Data[1:]); c.Data[0] != byte(w.Kind) || size != uint64(len(w.Data)) || size <= largest {
					t.Fatalf("column %d of %d bytes is told as %q", i, len(w.Data), c.Data)
				}
			case c.Kind != w.Kind || !bytes.Equal(c.Data, w.Data):
				t.Fatalf("column %d was %c %q and came as %c %q", i, w.Kind, w.Data, c.Kind, c.Data)
			}
		}
	})
}

// rowsOf are a message's columns, old row before new.
func rowsOf(m pgoutput.Message) []pgoutput.TupleColumn {
	switch m := m.(type) {
	case *pgoutput.Insert:
		return m.New
	case *pgoutput.Update:
		return append(append([]pgoutput.TupleColumn(nil), m.Old...), m.New...)
	case *pgoutput.Delete:
		return m.Old
	}
	return nil
}
