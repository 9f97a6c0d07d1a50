package test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestClient goes through the client as a person does: the whole life of a
// source, a destination and an outlet, each command with and without --json.
func TestClient(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY, note text)", "ALTER TABLE loans REPLICA IDENTITY FULL", "INSERT INTO loans VALUES (1, 'a'), (2, 'b')", "CREATE TABLE visits (at integer)")
	db := connect(t, source, name)
	i.must(http.MethodDelete, "/v1/sources/circulation?forget=true", nil, nil)
	say := func(says string, args ...string) string {
		t.Helper()
		out, errs, code := i.cli(args...)
		require.Zero(t, code, "%v: %s", args, errs)
		require.Contains(t, out, says, "%v", args)
		return out
	}
	file := filepath.Join(i.folder, "circulation.yaml")
	definition, err := json.Marshal(sourceDefinition(source, name)) // JSON is YAML
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, definition, 0o600))
	say("good     connection", "source", "check", "circulation", "--file", file)
	say("source circulation added, paused", "source", "add", "circulation", "--file", file)
	say("destination archive added", "destination", "add", "archive", "--directory", "archive")
	say("good     directory", "destination", "check", "archive")
	say("outlet archive added", "outlet", "add", "archive", "--source", "circulation", "--destination", "archive", "--rotate-every", "15m")
	say("outlet desk added", "outlet", "add", "desk", "--source", "circulation", "--tables", "loans,fees", "--operation", "insert,update")
	say("circulation: paused (not started yet)", "status")
	say("source circulation resumed", "source", "resume", "circulation", "--reason", "a test")
	i.settled("circulation", db)
	run(t, db, "UPDATE loans SET note = 'changed' WHERE loan_id = 1")
	i.reached("circulation", db)

	// Each of these has a table for people and JSON for programs.
	for _, c := range []struct {
		says string
		args []string
	}{
		{"running", []string{"source", "list"}},
		{"public.loans", []string{"source", "show", "circulation"}},
		{"inserts only", []string{"source", "tables", "circulation"}},
		{"archive", []string{"destination", "list"}},
		{"archive", []string{"destination", "show", "archive"}},
		{"(consumers read)", []string{"outlet", "list"}},
		{"insert update", []string{"outlet", "show", "desk"}},
		{"no table of circulation matches fees", []string{"outlet", "show", "desk"}},
		{"public.loans", []string{"schema", "list", "--source", "circulation"}},
		{"following", []string{"status"}},
		{"resumed: a test", []string{"log"}},
		{"client", []string{"version"}},
		{"directory", []string{"destination", "check", "archive"}},
		{"table public.visits", []string{"source", "check", "circulation"}},
	} {
		say(c.says, c.args...)
		out := say("", append(c.args, "--json")...)
		require.True(t, json.Valid([]byte(out)), "%v --json: %s", c.args, out)
	}
	var versions struct {
		Items []struct{ Fingerprint, Table string }
	}
	require.NoError(t, json.Unmarshal([]byte(say("", "schema", "list", "--json")), &versions))
	require.NotEmpty(t, versions.Items)
	say("loan_id  integer  integer  no       1", "schema", "show", versions.Items[0].Fingerprint)
	say("json-schema.org/draft/2020-12", "schema", "show", versions.Items[0].Fingerprint, "--form", "json-schema")
	say(`"type": "record"`, "schema", "show", versions.Items[0].Fingerprint, "--form", "avro")
	require.Contains(t, say("update", "read", "desk"), "note a → changed")
	say("would be set", "outlet", "rewind", "desk", "--to", "now", "--dry-run")

	// A change names the version that it was made to.
	var outlet struct {
		Version    int
		Definition map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(say("", "outlet", "show", "desk", "--json")), &outlet))
	outlet.Definition["operations"] = []string{"delete"}
	changed, err := json.Marshal(outlet.Definition)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, changed, 0o600))
	say("outlet desk changed", "outlet", "edit", "desk", "--version", "1", "--file", file)
	_, errs, code := i.cli("outlet", "edit", "desk", "--version", "1", "--file", file)
	require.Equal(t, 3, code)
	require.Contains(t, errs, "somebody else has changed")
	out, _, _ := i.cli("read", "desk")
	require.Empty(t, out, "the new filter holds")

	// All goes in the end, and leaves nothing on the source.
	for _, args := range [][]string{{"outlet", "remove", "desk"}, {"outlet", "remove", "archive"}, {"destination", "remove", "archive"}, {"source", "remove", "circulation"}} {
		say("removed", args...)
	}
	var left int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_replication_slots WHERE database = current_database())").Scan(&left))
	require.Zero(t, left)
	state := connect(t, i.state, i.stateDB)
	require.NoError(t, state.QueryRow(t.Context(), "SELECT count(*) FROM pg_tables WHERE tablename LIKE 'journal\\_%\\_%\\_%'").Scan(&left))
	require.Zero(t, left, "the journal's segments went with it")
	say("no sources yet", "status")
}

// TestEveryCommandHelps walks all commands: each has a sentence and an example.
func TestEveryCommandHelps(t *testing.T) {
	t.Parallel()
	i := &instance{t: t}
	var walk func(path ...string)
	walk = func(path ...string) {
		out, errs, code := i.cli(append(path, "--help")...)
		require.Zero(t, code, errs)
		_, rest, group := strings.Cut(out, "Available Commands:\n")
		if !group {
			require.Contains(t, out, "Examples:", "%v", path)
			return
		}
		list, _, _ := strings.Cut(rest, "\n\n")
		for _, line := range strings.Split(list, "\n") {
			fields := strings.Fields(line)
			require.Greater(t, len(fields), 2, "%v: %s", path, line)
			if fields[0] != "help" {
				walk(append(append([]string{}, path...), fields[0])...)
			}
		}
	}
	walk()
	out, _, _ := i.cli("--help")
	require.Contains(t, out, "Exit codes:")
}
