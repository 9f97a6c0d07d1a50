package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"rillmark/internal/definition"
)

// TestSet: a value goes in at its path, what lacks on the way is made, numbers keep
// every digit, and a wrong path or value is an error.
func TestSet(t *testing.T) {
	for _, c := range []struct{ before, set, after, wrong string }{
		{before: `{"a":9007199254740993}`, set: "b.c=x", after: `{"a":9007199254740993,"b":{"c":"x"}}`},
		{before: `{}`, set: "tables[0].match=public.*", after: `{"tables":[{"match":"public.*"}]}`},
		{before: `{"tables":[{"match":"a"}]}`, set: "tables=[{match: b, active: false}]", after: `{"tables":[{"active":false,"match":"b"}]}`},
		{before: `{"port":1}`, set: "port=5433", after: `{"port":5433}`},
		{before: `{}`, set: "description=", after: `{"description":""}`},
		{before: `{}`, set: "description='5'", after: `{"description":"5"}`},
		{before: `{"tables":[]}`, set: "tables[3]=a", wrong: "the next one is [0]"},
		{before: `{"port":1}`, set: "port.x=a", wrong: "has no fields"},
		{before: `{}`, set: "..=a", wrong: "is no path"},
		{before: `{}`, set: "port", wrong: "write a path"},
		{before: `{}`, set: "port=[", wrong: "no YAML"},
	} {
		d := &definitionFile{json: []byte(c.before)}
		err := (&setFlag{given: []string{c.set}}).lay(d)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, c.set)
			continue
		}
		require.NoError(t, err, c.set)
		require.JSONEq(t, c.after, string(d.json))
		require.NotContains(t, string(d.json), "e+")
	}
}

// TestFlagsOverFile: a flag that is given goes before the file, one that is not leaves
// the file's; what `show` printed is a definition too.
func TestFlagsOverFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "d.yaml")
	require.NoError(t, os.WriteFile(file, []byte("name: circulation\nversion: 4\ndefinition:\n  connection: {host: db.example, port: 5433, user: a}\n  tables: [{match: loans, active: false}]\n"), 0o600))
	f := sourceFlags{wantTables: true}
	c := &cobra.Command{}
	f.register(c)
	require.NoError(t, c.ParseFlags([]string{"--file", file, "--user", "b", "--tables", "x,y", "--set", "connection.tls=require"}))
	d, err := f.definition(&app{}, c)
	require.NoError(t, err)
	require.JSONEq(t, `{"connection":{"host":"db.example","port":5433,"user":"b","tls":"require"},"tables":[{"match":"x"},{"match":"y"}]}`, string(d.json))
}

// TestPlain: nothing that a stranger wrote steers a terminal, and JSON stays JSON.
func TestPlain(t *testing.T) {
	for text, shown := range map[string]string{
		"a\x1b[2Jb\n":    `a\u001b[2Jb` + "\n",
		"\"\u009b31m\"":  `"\u009b31m"`,
		"x\u202egnp.exe": `x\u202egnp.exe`,
		"as\tit\nis é":   "as\tit\nis é",
		"\r\x7f":         `\u000d\u007f`,
	} {
		var b bytes.Buffer
		n, err := plain{&b}.Write([]byte(text))
		require.NoError(t, err)
		require.Equal(t, len(text), n)
		require.Equal(t, shown, b.String())
	}
	require.Empty(t, shorten("abc", 0))
	require.Equal(t, "a…", shorten("abc", 2))
}

// TestFlagsAreFields: what a flag stands for is a field of the definition.
func TestFlagsAreFields(t *testing.T) {
	for _, c := range []struct {
		places map[string]string
		into   func() any
		make   *cobra.Command
	}{
		{sourcePlaces, func() any { return new(definition.Source) }, (&app{}).sourceAdd()},
		{destinationPlaces, func() any { return new(definition.Destination) }, (&app{}).destinationAdd()},
		{outletPlaces, func() any { return new(definition.Outlet) }, (&app{}).outletAdd()},
	} {
		for flag, place := range c.places {
			f := c.make.Flags().Lookup(flag)
			require.NotNil(t, f, flag)
			value := map[string]string{"int": "7", "int64": "2048"}[f.Value.Type()]
			if value == "" {
				value = "x"
			}
			require.NoError(t, c.make.ParseFlags([]string{"--" + flag, value}))
			d := &definitionFile{}
			require.NoError(t, d.layFlags(c.make.Flags(), map[string]string{flag: place, "host": c.places["host"]}))
			decoder := json.NewDecoder(bytes.NewReader(d.json))
			decoder.DisallowUnknownFields()
			require.NoError(t, decoder.Decode(c.into()), "%s: %s", flag, d.json)
		}
	}
}
