package jsontext

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/seeded"
)

// anyValue draws a value's text, with white space where it may stand.
func anyValue(random *rand.Rand, depth int) string {
	space := func() string { return []string{"", "", " ", "\n\t", "\r "}[random.IntN(5)] }
	kind := random.IntN(6)
	if depth == 0 {
		kind = random.IntN(4)
	}
	switch kind {
	case 0:
		return []string{"null", "true", "false"}[random.IntN(3)]
	case 1:
		return []string{"0", "-1.50", "9007199254740993", "1e400"}[random.IntN(4)]
	case 2, 3:
		return []string{`""`, `"a b"`, `"\"[,"`, `"\\"`, `"\\\" ]"`, `"ü\u0000"`, `":{"`}[random.IntN(7)]
	case 4:
		var parts []string
		for range random.IntN(4) {
			parts = append(parts, space()+anyValue(random, depth-1)+space())
		}
		return "[" + strings.Join(parts, ",") + space() + "]"
	default:
		var parts []string
		for n := range random.IntN(4) {
			parts = append(parts, fmt.Sprintf(`%s"k\"%d"%s:%s%s%s`, space(), n, space(), space(), anyValue(random, depth-1), space()))
		}
		return "{" + strings.Join(parts, ",") + space() + "}"
	}
}

// TestScan compares what is done by counting with what the standard library's parser does.
func TestScan(t *testing.T) {
	random := seeded.Random(t, 22)
	for range 5000 {
		value := []byte(anyValue(random, 4))
		require.True(t, json.Valid(value), "%s", value)
		var want bytes.Buffer
		require.NoError(t, json.Compact(&want, value))
		require.Equal(t, want.String(), string(Compact(nil, value)), "%s", value)
		first, rest, err := Next(append(append([]byte("\n "), value...), ", 1"...))
		require.NoError(t, err)
		require.Equal(t, []string{string(value), ", 1"}, []string{string(first), string(rest)})
		switch value[0] {
		case '[':
			var elements []json.RawMessage
			require.NoError(t, json.Unmarshal(value, &elements))
			require.NoError(t, Elements(value, func(one []byte) error {
				require.Equal(t, string(elements[0]), string(one))
				elements = elements[1:]
				return nil
			}))
			require.Empty(t, elements)
		case '{':
			members := make(map[string]json.RawMessage)
			require.NoError(t, json.Unmarshal(value, &members))
			require.NoError(t, Members(value, func(name, one []byte) error {
				var plain string
				require.NoError(t, json.Unmarshal(name, &plain))
				require.Equal(t, string(members[plain]), string(one))
				delete(members, plain)
				return nil
			}))
			require.Empty(t, members)
		}
	}
	deep := strings.Repeat(`{"a":[`, 100_000) + `"[{"` + strings.Repeat("]}", 100_000)
	require.Equal(t, 200_000, Depth([]byte(deep)))
	value, rest, err := Next([]byte(deep + "x"))
	require.NoError(t, err)
	require.Equal(t, []int{len(deep), 1}, []int{len(value), len(rest)})
	require.Len(t, Compact(nil, []byte(deep)), len(deep))
}

// TestCutText: a text that is no value, or only a part of one, is an error and never a panic.
func TestCutText(t *testing.T) {
	none := func([]byte) error { return nil }
	for _, c := range []struct{ array, told string }{
		{"", "does not begin with '['"}, {"{}", "does not begin with '['"}, {"[", "cut off"}, {"[1", "cut off"}, {`["a`, "cut off"}, {`["a\"`, "cut off"},
		{"[1 2]", "between them"}, {"[[1]", "cut off"}, {"[1,", "cut off"}, {`[[`, "cut off"},
	} {
		require.ErrorContains(t, Elements([]byte(c.array), none), c.told, c.array)
	}
	pair := func(_, _ []byte) error { return nil }
	for _, c := range []struct{ object, told string }{
		{"[]", "does not begin with '{'"}, {`{"a"}`, "no colon"}, {`{"a":`, "cut off"}, {`{"a":1 "b":2}`, "between them"}, {`{"a":{"b":1}`, "cut off"}, {`{"a"`, "no colon"},
	} {
		require.ErrorContains(t, Members([]byte(c.object), pair), c.told, c.object)
	}
	stop := fmt.Errorf("enough")
	require.ErrorIs(t, Elements([]byte("[1,2]"), func([]byte) error { return stop }), stop)
	require.ErrorIs(t, Members([]byte(`{"a":1}`), func(_, _ []byte) error { return stop }), stop)
	for _, text := range []string{"1", "-2", "0.5", "7e3"} {
		require.True(t, IsNumber([]byte(text)), text)
	}
	for _, text := range []string{"", "-", "NaN", "Infinity", "-Infinity", "+1"} {
		require.False(t, IsNumber([]byte(text)), text)
	}
}

// FuzzScan holds what comes out of any text against the standard library.
func FuzzScan(f *testing.F) {
	for _, text := range []string{`{"a" : [1, "\\\"", null]}`, `"`, `"\`, `[[`, `]`, ` `, "\xff\"\x00"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		compact := Compact(nil, text)
		Depth(text)
		value, rest, err := Next(text)
		if err == nil && len(value)+len(rest) > len(text) {
			t.Fatalf("%q and %q are more than %q", value, rest, text)
		}
		if json.Valid(text) {
			var want bytes.Buffer
			if err := json.Compact(&want, text); err != nil || want.String() != string(compact) {
				t.Fatalf("%q is %q, not %q (%v)", text, compact, want.String(), err)
			}
		}
		var back string
		if err := json.Unmarshal(AppendString(nil, text), &back); err != nil || back != strings.ToValidUTF8(string(text), "\uFFFD") && !strings.Contains(back, "\uFFFD") {
			t.Fatalf("%q comes back as %q (%v)", text, back, err)
		}
	})
}
