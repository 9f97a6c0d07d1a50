package test

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAMistypedTable: what is to keep rows or columns back, and names no table, is refused with the one
// that may be meant, unless somebody says that it is still to come; checks say so as long as it is.
func TestAMistypedTable(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE people (id int PRIMARY KEY, email text)", "CREATE TABLE patrons (id int PRIMARY KEY, email text)")
	server := sourceServer(t)
	db := connect(t, server, name)
	refused := func(method, path string, body any, says string, header ...string) {
		t.Helper()
		code, raw, err := i.call(method, path, body, header...)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
		require.Contains(t, string(raw), says)
	}
	rule := map[string]any{"match": "public.patron", "columns": []map[string]string{{"match": "email", "treat": "mask"}}}
	rules := []map[string]any{rule, {"match": "public.*"}}
	refused(http.MethodPost, "/v1/sources/other", ruled(server, name, rules, nil), `no table of other matches \"public.patron\": public.patrons?`)
	for _, one := range []map[string]any{{"match": "public.pepole", "active": false}, {"match": "*.pepole", "filter": "id > 3"}} {
		refused(http.MethodPut, "/v1/sources/circulation", ruled(server, name, []map[string]any{one, {"match": "public.*"}}, nil), "no table of circulation matches", "If-Match", `"1"`)
	}
	rule["allow_missing"] = true
	code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", ruled(server, name, rules, nil), "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	out, errs, exit := i.cli("source", "check", "circulation")
	require.Zero(t, exit, errs)
	require.Contains(t, out, "rule public.patron")
	i.resume()
	i.settled("circulation", db)

	where := map[string]any{"source": "circulation", "where": map[string]string{"public.pepole": "id > 3"}}
	refused(http.MethodPost, "/v1/outlets/desk", where, `no table of circulation matches \"public.pepole\": public.people?`)
	refused(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "rows": []map[string]any{{"match": "public.patron", "columns": []map[string]string{{"match": "email", "treat": "drop"}}}}}, `public.patrons?`)
	_, errs, exit = i.cli("outlet", "add", "desk", "--source", "circulation", "--where", "public.pepole=id > 3")
	require.NotZero(t, exit)
	require.Contains(t, errs, "public.people?")
	_, errs, exit = i.cli("outlet", "add", "desk", "--source", "circulation", "--where", "public.pepole=id > 3", "--allow-missing", "public.pepole")
	require.Zero(t, exit, errs)
	out, errs, exit = i.cli("outlet", "check", "desk")
	require.Zero(t, exit, errs)
	require.Contains(t, out, "tables public.pepole")
	where["where"] = map[string]string{"public.patrons": "id > 3", "public.*": "id > 1"}
	code, raw, err = i.call(http.MethodPut, "/v1/outlets/desk", where, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)

	// A file that has no version, such as one under version control, can be applied again and again;
	// one that has an older one cannot.
	file := filepath.Join(t.TempDir(), "desk.yaml")
	for _, one := range []struct{ description, says string }{{"the desk reads it", `description: (not set) → "the desk reads it"`}, {"and others", `description: "the desk reads it" → "and others"`}, {"and others", "nothing differs"}} {
		require.NoError(t, os.WriteFile(file, []byte("source: circulation\nwhere: {public.patrons: id > 3, 'public.*': id > 1}\ndescription: "+one.description+"\n"), 0o600))
		out, errs, exit = i.cli("outlet", "edit", "desk", "--file", file)
		require.Zero(t, exit, errs)
		require.Contains(t, out, one.says)
	}
	shown, errs, exit := i.cli("outlet", "show", "desk", "--yaml")
	require.Zero(t, exit, errs)
	require.NoError(t, os.WriteFile(file, []byte(shown), 0o600))
	_, errs, exit = i.cli("outlet", "edit", "desk", "--set", "description=somebody was faster")
	require.Zero(t, exit, errs)
	_, _, exit = i.cli("outlet", "edit", "desk", "--file", file)
	require.NotZero(t, exit)
}
