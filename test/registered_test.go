package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRegisteredSchemas: rows are fitted to schemas that somebody else has registered; what does
// not fit is named before it is sent, and an independent reader reads the rest by those schemas.
func TestRegisteredSchemas(t *testing.T) {
	t.Parallel()
	configured, _ := scratch(t)
	i, name := begin(t, configured, "CREATE TABLE loans (id bigint PRIMARY KEY, branch integer, fee numeric(6,2), mood text, at timestamptz, note text)",
		"INSERT INTO loans VALUES (9007199254740993, 3, -1.25, 'glad', '2026-11-27 09:30+00', 'x')")
	db := connect(t, sourceServer(t), name)
	k := kafkaTarget(t)
	schemas := launch(t, binary, "stand-in", "registry", "--listen", "$ADDR")
	register := func(fields string) {
		t.Helper()
		schema, err := json.Marshal(map[string]string{"schema": `{"type":"record","name":"Lending","namespace":"desk","fields":[` + fields + `]}`})
		require.NoError(t, err)
		r, err := http.Post("http://"+schemas.address+"/subjects/public.loans-value/versions", "application/json", strings.NewReader(string(schema)))
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		require.Equal(t, http.StatusOK, r.StatusCode)
	}
	fields := `{"name":"id","type":"string"},{"name":"branch_id","type":"int"},{"name":"fee","type":{"type":"bytes","logicalType":"decimal","precision":8,"scale":2}},` +
		`{"name":"mood","type":{"type":"enum","name":"Mood","symbols":["sad","glad"]}},{"name":"at","type":["null",{"type":"long","logicalType":"timestamp-millis"}],"default":null},{"name":"desk","type":"string","default":"main"}`
	i.must(http.MethodPost, "/v1/destinations/hub", k.destination, nil)
	definition := map[string]any{"source": "circulation", "destination": "hub", "topic": "lendings", "format": "avro", "deletes": "marker",
		"avro": map[string]any{"framing": "registry", "registry": "http://" + schemas.address, "schemas": "registered", "subject": "{schema}.{table}-value"}}
	i.resume()
	i.settled("circulation", db)
	checked := func() (verdict, says string) {
		t.Helper()
		var found struct {
			Items []struct{ Name, Verdict, Found, Why string }
		}
		i.must(http.MethodPost, "/v1/outlets/lendings/check", definition, &found)
		for _, c := range found.Items {
			if c.Name == "schema of public.loans" {
				return c.Verdict, c.Found + " " + c.Why
			}
		}
		return "", ""
	}
	verdict, says := checked()
	require.Equal(t, "missing", verdict)
	require.Contains(t, says, "has no schema of public.loans-value")
	register(fields)
	verdict, says = checked()
	require.Equal(t, "missing", verdict)
	require.Contains(t, says, `branch_id: no column has the name, and the field has no default; "branch" may be it`)

	i.must(http.MethodPost, "/v1/outlets/lendings", definition, nil)
	i.outletIs("lendings", "waits until rows fit", func(o outletStatus) bool { return o.Code == "registry" && strings.Contains(o.Error, "branch_id") })
	definition["rows"] = []map[string]any{{"match": "public.loans", "columns": []map[string]any{{"match": "branch", "name": "branch_id"}}}}
	verdict, says = checked()
	require.Equal(t, "note", verdict)
	require.Contains(t, says, "note, _operation, _offset: the registered schema has no such field: not sent")
	require.Contains(t, says, "desk: no column has the name: it is its default")
	edit(i, "outlets", "lendings", func(d map[string]any) { d["rows"] = definition["rows"] })
	i.caughtUp("lendings")
	newest := func(key string) string {
		t.Helper()
		partition := ""
		for _, line := range strings.Split(string(kcat(t, "-b", brokerOf(k), "-C", "-t", "lendings", "-e", "-q", "-f", "%k %p\n")), "\n") {
			if of, at, _ := strings.Cut(line, " "); of == key {
				partition = at
			}
		}
		file := filepath.Join(t.TempDir(), "value")
		require.NoError(t, os.WriteFile(file, kcat(t, "-b", brokerOf(k), "-C", "-t", "lendings", "-p", partition, "-o", "-1", "-e", "-q", "-D", ""), 0o600))
		out, err := exec.Command("node", "readers/message.mjs", "http://"+schemas.address, file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	require.JSONEq(t, `{"id":"9007199254740993","branch_id":3,"fee":{"type":"Buffer","data":[131]},"mood":"glad","at":1795771800000,"desk":"main"}`, newest("9007199254740993"))
	out, errs, code := i.cli("outlet", "preview", "lendings", "--from", "1")
	require.Zero(t, code, errs)
	require.Contains(t, out, "glad")
	out, errs, code = i.cli("outlet", "document", "lendings")
	require.Zero(t, code, errs)
	require.Contains(t, out, `"Lending"`, "the document has the schema that is registered")

	// What one row does not fit is that row's dead letter, and a delete is a marker; what has no row is nothing.
	run(t, db, "INSERT INTO loans VALUES (2, 1, NULL, 'sad', NULL, '')", "INSERT INTO loans VALUES (3, 1, 1, 'bored', NULL, '')", "INSERT INTO loans VALUES (4, 1, 1, 'sad', NULL, '')", "DELETE FROM loans WHERE id = 4", "TRUNCATE loans")
	i.reached("circulation", db)
	i.outletIs("lendings", "has two dead letters", func(o outletStatus) bool { return o.Dead == 2 })
	errors := ""
	for _, l := range i.letters("lendings").Items {
		errors += l.Error + "\n"
	}
	require.Contains(t, errors, "field fee of the registered schema: it takes no null")
	require.Contains(t, errors, `field mood of the registered schema: "bored" is none of its symbols`)
	sizes := strings.Split(strings.TrimSpace(string(kcat(t, "-b", brokerOf(k), "-C", "-t", "lendings", "-e", "-q", "-Z", "-f", "%k %S\n"))), "\n")
	require.ElementsMatch(t, []string{"9007199254740993 38", "4 17", "4 -1"}, sizes, "keys and sizes")

	// A newer version is what rows follow from then on.
	register(strings.Replace(strings.Replace(fields, `"sad","glad"`, `"sad","glad","bored"`, 1), `"main"`, `"north"`, 1) + `,{"name":"note","type":["string","null"]}`)
	i.must(http.MethodPost, "/v1/outlets/lendings/pause", nil, nil)
	i.must(http.MethodPost, "/v1/outlets/lendings/resume", nil, nil)
	_, errs, code = i.cli("dead-letter", "retry", "lendings", "--all")
	require.Zero(t, code, errs)
	i.outletIs("lendings", "keeps the row with a null", func(o outletStatus) bool { return o.Dead == 1 })
	came := newest("3")
	require.Contains(t, came, `"mood":"bored"`)
	require.Contains(t, came, `"desk":"north"`)

	// What a change of the table would do is said before.
	var impact impactOf
	i.must(http.MethodPost, "/v1/sources/circulation/impact", map[string]any{"sql": "ALTER TABLE loans DROP COLUMN mood"}, &impact)
	require.Contains(t, fmt.Sprintf("%+v", verdictOf(t, &impact, "lendings")), "mood: no column has the name, and the field has no default")
	for field, wrong := range map[string]map[string]any{"avro.schemas": {"framing": "registry", "registry": "http://" + schemas.address, "schemas": "theirs"}, "goes with the framing registry": {"schemas": "registered"},
		"a subject is that of a table": {"framing": "registry", "registry": "http://" + schemas.address, "subject": "{operation}"}} {
		definition["avro"] = wrong
		_, raw, err := i.call(http.MethodPost, "/v1/outlets/wrong", definition)
		require.NoError(t, err)
		require.Contains(t, string(raw), field)
	}
	definition["avro"] = map[string]any{"framing": "registry", "registry": "http://" + schemas.address, "schemas": "registered", "subject": "{schema}.{table}-value"}
	definition["columns"] = "changed"
	_, raw, err := i.call(http.MethodPost, "/v1/outlets/wrong", definition)
	require.NoError(t, err)
	require.Contains(t, string(raw), "a registered schema has a place for each column")
	delete(definition, "columns")
	delete(definition, "deletes")
	verdict, says = checked()
	require.Equal(t, "missing", verdict)
	require.Contains(t, says, "a deleted row looks like any other")
}
