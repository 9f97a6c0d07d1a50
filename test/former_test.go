package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"rillmark/internal/testserver"

	"github.com/stretchr/testify/require"
)

const (
	formerState  = "testdata/former-state.sql"
	formerEvents = "testdata/former-events.json"
)

// TestFormerState starts on what the former version left, from a dump of its state
// database: definitions, journal, offsets, leases, marks and dead letters are there,
// and each event reads as it did. With RILLMARK_FORMER set to a former version's
// binary it makes the dump anew.
func TestFormerState(t *testing.T) {
	t.Setenv("RILLMARK_SECRET_SOURCE", "made-up")
	if former := os.Getenv("RILLMARK_FORMER"); former != "" {
		makeFormerState(t, former)
	}
	dump, err := os.ReadFile(formerState)
	require.NoError(t, err)
	i := newInstance(t, stateServer(t), "public_url: http://rillmark.example\njournal: {retain_age: 0s}\n") // its events are old
	conn := connect(t, i.state, i.stateDB)
	_, err = conn.PgConn().Exec(t.Context(), string(dump)).ReadAll()
	require.NoError(t, err)
	run(t, conn, "UPDATE rillmark.lease SET until = now() + interval '1 hour'") // the dump is older than that
	run(t, conn, `UPDATE rillmark.source SET definition = definition || '{"slot": "theirs", "publication": "prepared"}'`)
	t.Setenv("RILLMARK_KEY", formerKey)
	i.start()
	var definitions string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT string_agg(definition::text, ' ') FROM (SELECT definition FROM rillmark.source UNION ALL SELECT definition FROM rillmark.destination) d").Scan(&definitions))
	require.Contains(t, definitions, "sealed:2:")
	require.NotContains(t, definitions, "sealed:1:", "what was bound to no place is sealed anew")
	want, err := os.ReadFile(formerEvents)
	require.NoError(t, err)
	got := i.formerEvents()
	var compact bytes.Buffer // the former one took the spaces out of documents when it was read from
	require.NoError(t, json.Compact(&compact, []byte(got)))
	const added = `"json_null":{"after":["more"]},` // what it could not tell, its journal could
	require.Equal(t, 1, strings.Count(compact.String(), added))
	before, after := strings.Split(strings.TrimSpace(string(want)), `{"specversion"`), strings.Split(strings.Replace(compact.String(), added, "", 1), `{"specversion"`)
	require.Len(t, after, len(before))
	for n := range before {
		require.Equal(t, before[n], after[n], "each event reads as it did")
	}
	out, errs, code := i.cli("journal", "verify", "circulation")
	require.Zero(t, code, "%s%s", out, errs)
	committed := map[string]int64{}
	for _, o := range i.status().Outlets {
		committed[o.Name] = o.Committed
		require.Empty(t, o.Code, o.Error)
	}
	require.EqualValues(t, 3, committed["desk"])
	require.Positive(t, committed["archive"])
	_, raw, err := i.call(http.MethodGet, "/v1/marks?source=circulation", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), "before-the-move")
	_, raw, err = i.call(http.MethodGet, "/v1/sources/circulation", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), "${env:RILLMARK_SECRET_SOURCE}")
	require.Contains(t, string(raw), `"hash_key":"(sealed)"`)
	require.Contains(t, string(raw), `"tls":"prefer"`, "an existing definition stays as it is")
	require.Contains(t, string(raw), `"slot":"theirs","publication":"prepared"},"tables"`, "what an administrator made stands in the connection")
	var page struct{ Events []any }
	i.must(http.MethodPost, "/v1/outlets/shared/leases", map[string]any{"reader": "two", "limit": 100, "seconds": 60}, &page)
	require.Contains(t, fmt.Sprint(page.Events[0]), "circulation/1/6", "what another reader has under lease stays there")
}

const formerKey = "cm9ja3MgYW5kIHN0cmVhbXMsIG1hZGUgdXAhISEhISE=" // 32 bytes, made up

// formerEvents is what reading the journal gives.
func (i *instance) formerEvents() string {
	i.t.Helper()
	_, raw, err := i.call(http.MethodGet, "/v1/sources/circulation/events?limit=10000", nil)
	require.NoError(i.t, err)
	return string(raw)
}

func makeFormerState(t *testing.T, former string) {
	t.Helper()
	now := binary
	binary = former
	defer func() { binary = now }()
	t.Setenv("RILLMARK_KEY", formerKey)
	source := sourceServer(t)
	_, err := source.Database(t.Context(), "former", "postgres")
	require.NoError(t, err)
	db := connect(t, source, "former")
	run(t, db, "CREATE ROLE former LOGIN SUPERUSER PASSWORD 'made-up'", `CREATE TABLE loans (loan_id bigint PRIMARY KEY, branch text, note text, fee numeric, at timestamptz, more jsonb)`, "ALTER TABLE loans REPLICA IDENTITY FULL",
		`CREATE TABLE "Late Loans" (id integer PRIMARY KEY, secret text)`, "INSERT INTO loans SELECT n, 'alder', 'loan ' || n || ' ', 1.50, '2026-01-02 03:04:05.678901+00', '{\"a\": [1, null]}' FROM generate_series(1, 20) n")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "")
	text := fmt.Sprintf("listen: 127.0.0.1:%d\npublic_url: http://rillmark.example\nstate_database: \"%s\"\nfiles_root: %s\nsource: {heartbeat_every: 200ms}\n", testserver.FreePort(), i.state.Address(i.stateDB), filepath.Join(i.folder, "files"))
	i.address = "http://" + regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(text)
	require.NoError(t, os.WriteFile(i.config, []byte(text), 0o600))
	i.start()
	i.must(http.MethodPost, "/v1/sources/circulation", map[string]any{"engine": "postgresql", "hash_key": "made up", "connection": map[string]any{"host": "127.0.0.1", "port": source.Port, "database": "former", "user": "former", "password": "${env:RILLMARK_SECRET_SOURCE}"},
		"tables": []any{map[string]any{"match": "public.*", "columns": []any{map[string]any{"match": "secret", "treat": "hash"}}}}}, nil)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]any{"directory": "archive"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive"}, nil)
	for _, name := range []string{"desk", "shared"} {
		i.must(http.MethodPost, "/v1/outlets/"+name, map[string]any{"source": "circulation"}, nil)
	}
	i.resume()
	i.settled("circulation", db)
	for range 5 {
		run(t, db, "UPDATE loans SET note = note || 'x' WHERE loan_id % 3 = 0", `INSERT INTO "Late Loans" VALUES ((SELECT count(*) FROM "Late Loans"), 'hidden')`)
		i.reached("circulation", db)
	}
	run(t, db, "ALTER TABLE loans ADD COLUMN shelf text", "DELETE FROM loans WHERE loan_id > 15", "INSERT INTO loans VALUES (9007199254740993, 'elm', E'ünï\\ncode', 'NaN', '-infinity', 'null')", `TRUNCATE "Late Loans"`)
	i.reached("circulation", db)
	i.caughtUp("archive")
	i.must(http.MethodPost, "/v1/outlets/desk/commit", map[string]any{"committed": 3}, nil)
	i.must(http.MethodPost, "/v1/outlets/shared/leases", map[string]any{"reader": "one", "limit": 5, "seconds": 3600}, nil)
	i.must(http.MethodPut, "/v1/sources/circulation/marks/before-the-move", map[string]any{"at": "now"}, nil)
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	require.NoError(t, os.WriteFile(formerEvents, []byte(i.formerEvents()), 0o644))
	i.stop(syscall.SIGTERM)
	dump, err := exec.Command("pg_dump", "--dbname", i.state.Address(i.stateDB), "--schema", "rillmark", "--inserts", "--no-owner", "--no-privileges", "--no-comments").Output()
	require.NoError(t, err)
	var kept []string
	for _, line := range strings.Split(string(dump), "\n") {
		if !strings.HasPrefix(line, `\`) && !strings.HasPrefix(line, "--") && line != "" {
			kept = append(kept, line)
		}
	}
	require.NoError(t, os.WriteFile(formerState, []byte(strings.Join(kept, "\n")+"\n"), 0o644))
}
