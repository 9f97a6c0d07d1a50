package test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatTakesTooMuch: an expression that takes too much for one row makes that row a dead letter, in
// a form as in a condition, and stops a source before it; what takes too much for any row is refused.
func TestWhatTakesTooMuch(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id int PRIMARY KEY, note text)")
	server := sourceServer(t)
	db := connect(t, server, name)
	i.resume()
	i.settled("circulation", db)
	const grows = `note.replace("", note)`
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "archive"}}, nil)
	at := map[string]any{"source": "circulation", "destination": "archive"}
	refused := map[string]any{"source": "circulation", "destination": "archive", "rows": []map[string]any{{"match": "public.loans", "new": []map[string]string{{"name": "x", "is": "((" + grows + `).replace("", note)).replace("", note)`}}}}}
	code, raw, err := i.call(http.MethodPost, "/v1/outlets/costly", refused)
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
	require.Contains(t, string(raw), "may take too long")
	at["rows"] = []map[string]any{{"match": "public.loans", "new": []map[string]string{{"name": "grown", "is": "(" + grows + ").size()"}}}}
	i.must(http.MethodPost, "/v1/outlets/form", at, nil)
	delete(at, "rows")
	at["where"] = map[string]string{"public.loans": grows + ".size() > 1"}
	i.must(http.MethodPost, "/v1/outlets/condition", at, nil)
	run(t, db, "INSERT INTO loans VALUES (1, 'abc'), (2, repeat('ab', 500000)), (3, 'def')", "INSERT INTO loans VALUES (4, 'ghi')")
	i.reached("circulation", db)
	i.caughtUp("form", "condition")
	for _, outlet := range []string{"form", "condition"} {
		l := i.letters(outlet)
		require.EqualValues(t, 1, l.Dead, "%s: %+v", outlet, l)
		require.Contains(t, l.Items[0].Error, "it takes too much for this row")
		require.Equal(t, "running", i.outletIs(outlet, "goes on", func(o outletStatus) bool { return o.Dead == 1 }).Phase)
	}
	out, errs, exit := i.cli("dead-letter", "retry", "condition", "--all")
	require.Zero(t, exit, out+errs)
	i.eventually("it is refused again", func() bool { l := i.letters("condition"); return l.Dead == 1 && l.Items[0].Attempts > 1 })
	_, errs, exit = i.cli("outlet", "edit", "condition", "--set", `where={"public.loans": "note.size() > 1"}`)
	require.Zero(t, exit, errs)
	_, errs, exit = i.cli("dead-letter", "retry", "condition", "--all")
	require.Zero(t, exit, errs)
	i.eventually("a simpler condition takes it", func() bool { return i.letters("condition").Dead == 0 })

	code, raw, err = i.call(http.MethodPut, "/v1/sources/circulation", ruled(server, name, []map[string]any{{"match": "public.loans", "filter": grows + ".size() > 1"}}, nil), "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	run(t, db, "INSERT INTO loans VALUES (5, repeat('ab', 500000))")
	i.eventually("the source stops before the row", func() bool { return i.status().Sources[0].Code == "rule-beyond" })
}
