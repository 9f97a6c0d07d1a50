package terminal

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWordsForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567", 9007199254740993: "9,007,199,254,740,993"} {
		require.Equal(t, want, Count(n))
	}
	for n, want := range map[int64]string{1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1 << 30: "1.0 GiB", 1 << 62: "4096.0 PiB"} {
		require.Equal(t, want, Size(n))
	}
	for s, want := range map[float64]string{0.0214: "21 ms", 8.13: "8.1 s", 90: "1m30s"} {
		require.Equal(t, want, Seconds(s))
	}
	for n, want := range map[int]string{-1: "", 0: "", 1: "…", 4: "Ull…", 5: "Ullå!", 9: "Ullå!"} {
		require.Equal(t, want, Shorten("Ullå!", n))
	}
	var out bytes.Buffer
	require.NoError(t, Table(&out, []string{"table", ">rows", "note"}, [][]string{{"public.works", "12", ""}, {"å", "1,000", "x"}}))
	require.Equal(t, "TABLE          ROWS  NOTE\npublic.works     12\nå             1,000  x\n", out.String())
	require.Equal(t, "-", Dash(""))
}

// TestNothingSteersTheTerminal: what strangers have put into rows and names is shown.
func TestNothingSteersTheTerminal(t *testing.T) {
	var out bytes.Buffer
	n, err := NewPlain(&out).Write([]byte("a\x1b]0;title\x07b\x9bc\u202ed\r\n\te\u00a0å"))
	require.NoError(t, err)
	require.Equal(t, 26, n)
	require.Equal(t, "a\\u001b]0;title\\u0007b\x9bc\\u202ed\\u000d\n\te\u00a0å", out.String(), "a byte that is no text steers nothing in UTF-8")
	out.Reset()
	_, err = NewPlain(&out).Write([]byte("\u009b2J"))
	require.NoError(t, err)
	require.Equal(t, `\u009b2J`, out.String())
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
	var refused *Refusal
	require.True(t, errors.As(err, &refused))
	require.Equal(t, "expired", refused.Code)
	own := errors.New("of the taker")
	_, err = follow(strings.NewReader("id: 1\ndata: {}\n\n"), "", func([]byte) error { return own })
	require.ErrorIs(t, err, own)
}
