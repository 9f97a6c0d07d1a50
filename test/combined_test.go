package test

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOutletsDoNotChangeEachOther: what one outlet makes of events is its own; others at the same
// journal deliver what the log carried. What a condition keeps back counts for what comes later.
func TestOutletsDoNotChangeEachOther(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "", []map[string]any{{"match": "public.*"}}, nil,
		"CREATE TABLE docs (id int PRIMARY KEY, big text, n int)", "ALTER TABLE docs ALTER big SET STORAGE EXTERNAL")
	db := connect(t, sourceServer(t), name)
	into := database(t, sourceServer(t), "postgres")
	i.intoTables("tables", sourceServer(t), into, map[string]any{}, map[string]any{"from": "now"})
	for outlet, more := range map[string]map[string]any{"each": {}, "net": {"changes": "combined"},
		"chosen": {"changes": "combined", "where": map[string]string{"public.docs": "n < 10"}, "operations": []string{"insert", "update"}}} {
		more["source"], more["from"] = "circulation", "now"
		i.must(http.MethodPost, "/v1/outlets/"+outlet, more, nil)
	}
	run(t, db, "BEGIN", "INSERT INTO docs VALUES (1, repeat('abcdefgh', 400), 0)", "UPDATE docs SET n = 1 WHERE id = 1",
		"INSERT INTO docs VALUES (2, repeat('A', 3000), 0)", "UPDATE docs SET n = 20, big = repeat('B', 3000) WHERE id = 2", "UPDATE docs SET n = 5 WHERE id = 2", "COMMIT")
	i.reached("circulation", db)
	read := func(outlet string) (all []string) {
		var page struct{ Events []json.RawMessage }
		i.must(http.MethodGet, "/v1/outlets/"+outlet+"/events?limit=100", nil, &page)
		for _, raw := range page.Events {
			if e := parseEvent(t, raw); e.Data.Table == "public.docs" {
				all = append(all, e.Data.Operation+" "+row(e.Data.After)+string(e.Data.After["big"])[:min(2, len(e.Data.After["big"]))])
			}
		}
		return all
	}
	want := []string{`insert {big:L,id:1,n:0}"a`, "update {id:1,n:1}", `insert {big:L,id:2,n:0}"A`, `update {big:L,id:2,n:20}"B`, "update {id:2,n:5}"}
	for range 2 {
		require.Equal(t, want, read("each"))
		require.Equal(t, []string{`insert {big:L,id:1,n:1}"a`, `insert {big:L,id:2,n:5}"B`}, read("net"))
		require.Equal(t, []string{`insert {big:L,id:1,n:1}"a`, `insert {big:L,id:2,n:5}"B`}, read("chosen"))
	}
	i.caughtUp("tables")
	require.Equal(t, want, read("each"), "after a database has merged the same events")
}
