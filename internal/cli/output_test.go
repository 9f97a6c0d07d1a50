package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

func TestWordsForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567", 9007199254740993: "9,007,199,254,740,993"} {
		require.Equal(t, want, count(n))
	}
	for n, want := range map[int64]string{1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1 << 30: "1.0 GiB", 1 << 62: "4096.0 PiB"} {
		require.Equal(t, want, size(n))
	}
	for s, want := range map[float64]string{0.0214: "21 ms", 8.13: "8.1 s", 90: "1m30s"} {
		require.Equal(t, want, seconds(s))
	}
	for n, want := range map[int]string{-1: "", 0: "", 1: "…", 4: "Ull…", 5: "Ullå!", 9: "Ullå!"} {
		require.Equal(t, want, shorten("Ullå!", n))
	}
	var out bytes.Buffer
	require.NoError(t, table(&out, []string{"table", ">rows", "note"}, [][]string{{"public.works", "12", ""}, {"å", "1,000", "x"}}))
	require.Equal(t, "TABLE          ROWS  NOTE\npublic.works     12\nå             1,000  x\n", out.String())
	require.Equal(t, []string{"-", "-", "1,000"}, []string{orDash(0), dash(""), orDash(1000)})
}

// TestNothingSteersTheTerminal: what strangers have put into rows and names is shown.
func TestNothingSteersTheTerminal(t *testing.T) {
	var out bytes.Buffer
	n, err := plain{&out}.Write([]byte("a\x1b]0;title\x07b\x9bc\u202ed\r\n\te\u00a0å"))
	require.NoError(t, err)
	require.Equal(t, 26, n)
	require.Equal(t, "a\\u001b]0;title\\u0007b\x9bc\\u202ed\\u000d\n\te\u00a0å", out.String(), "a byte that is no text steers nothing in UTF-8")
	out.Reset()
	_, err = plain{&out}.Write([]byte("\u009b2J"))
	require.NoError(t, err)
	require.Equal(t, `\u009b2J`, out.String())
}

func TestEventsInALine(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out, err: &out}
	line := func(data string) string {
		out.Reset()
		require.NoError(t, a.printEvent([]byte(`{"sequence":"00000000000000000042","time":"2026-11-25T09:00:00Z","data":`+data+`}`)))
		return out.String()
	}
	require.Contains(t, line(`{"operation":"update","table":"public.loans","key":{"loan_id":7},"changed":["due_on"],"before":{"due_on":"2026-11-25"},"after":{"loan_id":7,"due_on":"2026-12-09"}}`), "due_on 2026-11-25 → 2026-12-09")
	require.Contains(t, line(`{"operation":"insert","table":"public.loans","key":{"loan_id":9007199254740993},"after":{"loan_id":9007199254740993,"note":"a"}}`), "loan_id 9007199254740993  note a")
	require.Contains(t, line(`{"operation":"delete","table":"public.loans","key":{"loan_id":7},"before":{"loan_id":7,"note":"b"}}`), "note b")
	require.Contains(t, line(`{"operation":"message","message":{"prefix":"p"}}`), `{"prefix":"p"}`)
	require.Contains(t, line(`{"operation":"insert","after":{"a":`+strings.Repeat("[", maxShownDepth)+strings.Repeat("]", maxShownDepth)+`}}`), "too deep to be shown")
	require.Less(t, len([]rune(line(`{"operation":"insert","table":"public.works","after":{"text":"`+strings.Repeat("x", 5000)+`"}}`))), 200)
	a.json = true
	require.Contains(t, line(`{"operation":"insert"}`), `"sequence":"00000000000000000042"`)
}

func TestSchemaEventsInWords(t *testing.T) {
	version := func(columns ...change.Column) string {
		return string(change.NewSchema(change.PostgreSQL, "public.loans", columns, nil, false).Definition())
	}
	id, note := change.Column{Name: "id", Type: "bigint", Rule: change.RuleInteger, Key: 1}, change.Column{Name: "note", Type: "text", Rule: change.RuleText}
	remark, wide := note, note
	remark.Name, wide.Type = "remark", "character varying"
	for _, c := range []struct{ before, after, renamed, want string }{
		{"null", version(id, note), "null", "first version, 2 columns"},
		{version(id), version(id, note), "null", "added note text"},
		{version(id, note), version(id), "null", "dropped note"},
		{version(id, note), version(id, remark), `[{"from":"note","to":"remark"}]`, "note is now remark"},
		{version(id, note), version(id, wide), "null", "note: type text → character varying"},
		{version(id), "null", "null", "the table is gone"},
	} {
		require.Equal(t, c.want, schemaSays(json.RawMessage(`{"previous":`+c.before+`,"definition":`+c.after+`,"renamed":`+c.renamed+`}`)))
	}
}

// TestFollowing reads a stream as the service writes it: it goes on behind the last whole
// offset, ends where it was to end, and tells a refusal.
func TestFollowing(t *testing.T) {
	var taken []string
	take := func(data []byte) error {
		taken = append(taken, string(data))
		return nil
	}
	last, err := follow(strings.NewReader(": 41\n\nid: 42\ndata: {\"a\":1}\n\ndata: {\"half\":1}\n\nid: 43\ndata: {\"b\":2}\n\nid: 44\ndata: {\"to"), "", take)
	require.NoError(t, err)
	require.Equal(t, "43", last, "what was cut off comes again")
	require.Equal(t, []string{`{"a":1}`, `{"half":1}`, `{"b":2}`}, taken)
	last, err = follow(strings.NewReader(": 41\n\n"), "7", take)
	require.NoError(t, err)
	require.Equal(t, "41", last, "a sign of life says how far it is")
	_, err = follow(strings.NewReader("event: end\ndata: {\"passed\":9}\n\n"), "7", take)
	require.ErrorIs(t, err, errEnd)
	_, err = follow(strings.NewReader("event: problem\ndata: {\"status\":410,\"code\":\"expired\",\"detail\":\"no longer kept\"}\n\n"), "7", take)
	var refused *refusal
	require.True(t, errors.As(err, &refused))
	require.Equal(t, "expired", refused.Code)
	own := errors.New("of the taker")
	_, err = follow(strings.NewReader("id: 1\ndata: {}\n\n"), "", func([]byte) error { return own })
	require.ErrorIs(t, err, own)
}
