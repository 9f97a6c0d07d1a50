package encode

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/jsontext"
)

var loans = change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{
	{Name: "branch", Type: "text", Rule: change.RuleText, Key: 2}, {Name: "loan_id", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1},
	{Name: "price \"net\"", Type: "numeric", Rule: change.RuleDecimal}, {Name: "weight", Type: "real", Rule: change.RuleFloat, Bits: 32},
	{Name: "cover", Type: "bytea", Rule: change.RuleBinary}, {Name: "tags", Type: "jsonb", Rule: change.RuleJSON}, {Name: "note", Type: "text", Rule: change.RuleText, Nullable: true}}, nil, false)

func update() *change.Event {
	before := []change.Value{change.Of("Alder Quay"), change.Of("9007199254740993"), change.Of("1.10"), change.Of("NaN"), change.Of("\x00\xff"), change.Of(`{"a": [1]}`), change.NullValue()}
	after := change.CloneImage(before)
	after[3], after[6] = change.Of("1.5"), change.Of("a \"line\"\n")
	return &change.Event{Source: "circulation", Generation: 1, Offset: 4821, Operation: change.Update, Database: "circulation", Table: "public.loans", Schema: loans,
		Before: before, After: after, Engine: change.PostgreSQL, Place: 0x19A2F48,
		Transaction: change.Transaction{ID: "771", CommittedAt: time.Date(2026, 11, 23, 9, 14, 7, 512345000, time.UTC), Last: true}}
}

// TestTheFormOfAnEvent holds the public form, byte by byte.
func TestTheFormOfAnEvent(t *testing.T) {
	c := CloudEvents{Address: "http://127.0.0.1:7450"}
	got := string(c.Append(nil, update()))
	require.Equal(t, `{"specversion":"1.0","id":"circulation/1/4821","source":"http://127.0.0.1:7450/sources/circulation","type":"rillmark.row.update",`+
		`"subject":"public.loans","time":"2026-11-23T09:14:07.512345Z","datacontenttype":"application/json","dataschema":"http://127.0.0.1:7450/v1/schemas/`+loans.Fingerprint().String()+`",`+
		`"sequence":"00000000000000004821","partitionkey":"[9007199254740993,\"Alder Quay\"]","data":{"operation":"update","database":"circulation","table":"public.loans",`+
		`"key":{"loan_id":9007199254740993,"branch":"Alder Quay"},`+
		`"before":{"branch":"Alder Quay","loan_id":9007199254740993,"price \"net\"":"1.10","weight":"NaN","cover":"AP8=","tags":{"a": [1]},"note":null},`+
		`"after":{"branch":"Alder Quay","loan_id":9007199254740993,"price \"net\"":"1.10","weight":1.5,"cover":"AP8=","tags":{"a": [1]},"note":"a \"line\"\n"},`+
		`"changed":["weight","note"],"transaction":{"id":"771","committed_at":"2026-11-23T09:14:07.512345Z","index":0,"last":true},"log":{"engine":"postgresql","position":"0/19A2F48"}}}`, got)
	require.True(t, json.Valid([]byte(got)))

	e := update()
	e.Before, e.After[4] = nil, change.Value{}
	got = string(c.AppendData(nil, e))
	require.Contains(t, got, `"before":null`)
	require.NotContains(t, got, `"changed"`, "what changed is not known without both images")
	require.NotContains(t, got, `"cover":`)
	require.Contains(t, got, `"omitted":["cover"]`)
	e = &change.Event{Operation: change.Message, Engine: change.PostgreSQL, Body: []byte(`{"prefix":"p"}`)}
	got = string(c.Append(nil, e))
	require.True(t, json.Valid([]byte(got)), got)
	require.Contains(t, got, `"message":{"prefix":"p"}`)
	require.NotContains(t, got, `"subject"`)
}

func TestEncodingAllocatesNothing(t *testing.T) {
	c := CloudEvents{Address: "http://127.0.0.1:7450"}
	e := update()
	buf := make([]byte, 0, 4096)
	require.Zero(t, testing.AllocsPerRun(100, func() { buf = c.Append(buf[:0], e) }))
}

func BenchmarkCloudEvents(b *testing.B) {
	c := CloudEvents{Address: "http://127.0.0.1:7450"}
	buf := make([]byte, 0, 4096)
	one, other := update(), update()
	other.Table = "public.holds"
	for name, events := range map[string][2]*change.Event{"one table": {one, one}, "tables by turns": {one, other}} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			n := 0
			for b.Loop() {
				buf = c.Append(buf[:0], events[n&1])
				n++
			}
			b.SetBytes(int64(len(buf)))
		})
	}
}

// FuzzString holds that every text becomes a JSON string that reads back the
// same, but for bytes that are not UTF-8.
func FuzzString(f *testing.F) {
	for _, seed := range []string{"", "plain", "\"\\\n\r\t\x00\x1f", "ünïcödé 📚 \u2028", "\xff\xfe\xc3", "a\xc3(", "\xed\xa0\x80"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var back string
		if err := json.Unmarshal(jsontext.AppendString(nil, text), &back); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		standard, err := json.Marshal(text)
		require.NoError(t, err)
		var want string
		require.NoError(t, json.Unmarshal(standard, &want))
		require.Equal(t, want, back)
	})
}

// TestColumnsThatComeAlong: beside what has changed, columns go out that are to come along.
func TestColumnsThatComeAlong(t *testing.T) {
	for _, format := range []Format{FormatData, FormatRow} {
		m := NewMaker(Shape{Format: format, Changed: true, Along: func(s *change.Schema) []int {
			return []int{slices.IndexFunc(s.Columns, func(c change.Column) bool { return c.Name == "branch" })}
		}}, Capabilities{})
		for _, e := range []*change.Event{update(), update()} {
			var b Batch
			branch := slices.IndexFunc(e.Schema.Columns, func(c change.Column) bool { return c.Name == "branch" })
			e.Before[branch] = e.After[branch]
			require.NoError(t, m.Append(&b, e, true))
			require.Contains(t, string(b.Messages[0].Body), "Alder Quay", format)
			require.NotContains(t, string(b.Messages[0].Body), "cover")
		}
	}
}

// TestChangedInPairs: with what changed alone, each half has the key and what changed
// between the two, in every form.
func TestChangedInPairs(t *testing.T) {
	for format, want := range map[string][2]string{
		"data": {`"before":{"branch":"Alder Quay","loan_id":9007199254740993,"weight":"NaN","note":null},"after":null`,
			`"before":null,"after":{"branch":"Alder Quay","loan_id":9007199254740993,"weight":1.5,"note":"a \"line\"\n"}`},
		"row": {`{"branch":"Alder Quay","loan_id":9007199254740993,"weight":"NaN","note":null`, `{"branch":"Alder Quay","loan_id":9007199254740993,"weight":1.5,"note":"a \"line\"\n"`},
	} {
		m := NewMaker(Shape{Format: Format(format), Changed: true, Pairs: true}, Capabilities{})
		var b Batch
		require.NoError(t, m.Append(&b, update(), true))
		require.Len(t, b.Messages, 2)
		for half, message := range b.Messages {
			require.Contains(t, string(message.Body), want[half], format)
			require.NotContains(t, string(message.Body), "cover")
			require.NotContains(t, string(message.Body), "omitted")
		}
	}
}
