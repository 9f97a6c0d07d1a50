package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/engine"
	"rillmark/internal/engine/engines"
	"rillmark/internal/settings"
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
		d := &written.File{JSON: []byte(c.before)}
		err := (&written.SetFlag{Given: []string{c.set}}).Lay(d)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, c.set)
			continue
		}
		require.NoError(t, err, c.set)
		require.JSONEq(t, c.after, string(d.JSON))
		require.NotContains(t, string(d.JSON), "e+")
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
	require.JSONEq(t, `{"connection":{"host":"db.example","port":5433,"user":"b","tls":"require"},"tables":[{"match":"x"},{"match":"y"}]}`, string(d.JSON))
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
		n, err := terminal.NewPlain(&b).Write([]byte(text))
		require.NoError(t, err)
		require.Equal(t, len(text), n)
		require.Equal(t, shown, b.String())
	}
	require.Empty(t, terminal.Shorten("abc", 0))
	require.Equal(t, "a…", terminal.Shorten("abc", 2))
}

// TestFlagsAreFields: what a flag stands for is a field of the definition, for each kind
// that has it; flags of two kinds do not go together, and one that says too little asks.
func TestFlagsAreFields(t *testing.T) {
	strict := func(d *written.File, at string, into any, what string) {
		var sections map[string]json.RawMessage
		require.NoError(t, json.Unmarshal(d.JSON, &sections))
		raw := d.JSON
		if at != "" {
			raw = sections[at]
		}
		decoder := json.NewDecoder(bytes.NewReader(raw))
		decoder.DisallowUnknownFields()
		require.NoError(t, decoder.Decode(into), "%s: %s", what, d.JSON)
	}
	parse := func(c *cobra.Command, flag string) {
		f := c.Flags().Lookup(flag)
		require.NotNil(t, f, flag)
		value := map[string]string{"int": "7", "int64": "2048", "bool": "true", "name=value": "a=b"}[f.Value.Type()]
		if value == "" {
			value = "x"
		}
		require.NoError(t, c.ParseFlags([]string{"--" + flag + "=" + value}))
	}
	var source sourceFlags
	source.register(&cobra.Command{})
	for flag, place := range source.Fields.Common {
		c, d := (&app{}).sourceAdd(), &written.File{}
		parse(c, flag)
		require.NoError(t, d.LayFlags(c.Flags(), map[string]string{flag: place, "from-position": "from_position"}))
		if strings.HasPrefix(place, "connection.") {
			var its engine.Connection
			for _, k := range engines.All { // the first that has the field
				if its == nil && slices.ContainsFunc(settings.Fields(k.Connection()), func(f settings.Field) bool { return "connection."+f.Path == place }) {
					its = k.Connection()
				}
			}
			strict(d, "connection", its, flag)
		} else {
			strict(d, "", new(plainSource), flag)
		}
	}
	var all destinationFlags
	all.register(&cobra.Command{})
	for flag, paths := range all.Fields.Sections {
		for kind := range paths {
			var f destinationFlags
			c := &cobra.Command{}
			f.register(c)
			parse(c, flag)
			require.NoError(t, c.ParseFlags([]string{"--kind", kind}))
			d, err := f.definition(&app{}, c)
			require.NoError(t, err)
			strict(d, kind, kinds.Named(kind).Settings(), kind+" "+flag)
		}
	}
	for _, c := range []struct{ args, wants string }{
		{"--address a:1 --tls --password p", `{"kind":"redis","redis":{"address":"a:1","tls":{},"password":"p"}}`},
		{"--url https://a.example --header a=b --tls-root /ca", `{"kind":"http","http":{"url":"https://a.example","headers":{"a":"b"},"tls":{"root":"/ca"}}}`},
		{"--nats nats://a:1,nats://b:1 --stream s --create-stream", `{"kind":"nats","nats":{"servers":["nats://a:1","nats://b:1"],"stream":"s","create_stream":true}}`},
		{"--broker a:1 --create-topics 3", `{"kind":"kafka","kafka":{"brokers":["a:1"],"create_topics":{"partitions":3}}}`},
		{"--broker a:1 --address a:1", "do not go together"},
		{"--user a", "say --kind nats or redis"},
		{"--kind kafka --address a:1", "--address is not for kind kafka"},
	} {
		var f destinationFlags
		command := &cobra.Command{}
		f.register(command)
		require.NoError(t, command.ParseFlags(strings.Fields(c.args)))
		d, err := f.definition(&app{}, command)
		if !strings.HasPrefix(c.wants, "{") {
			require.ErrorContains(t, err, c.wants, c.args)
			continue
		}
		require.NoError(t, err, c.args)
		require.JSONEq(t, c.wants, string(d.JSON))
	}
	var outlet outletFlags
	outlet.register(&cobra.Command{})
	for flag, place := range outlet.Fields.Common {
		c, d := (&app{}).outletAdd(), &written.File{}
		parse(c, flag)
		require.NoError(t, d.LayFlags(c.Flags(), map[string]string{flag: place}))
		strict(d, "", new(plainOutlet), flag)
	}
}

// These have no methods that would read them leniently.
type (
	plainSource definition.Source
	plainOutlet definition.Outlet
)
