package test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestKeysWithGeneratedColumns: the log does not bring generated columns, so that a key with one
// is none. Such a table is loaded whole, and says what is not captured; with its whole row as
// identity it is followed by another unique key, or without one.
func TestKeysWithGeneratedColumns(t *testing.T) {
	t.Parallel()
	statements := []string{}
	for _, identity := range []string{"default", "full"} {
		for table, rows := range map[string]string{
			"one (a int, k int GENERATED ALWAYS AS (a + 1) STORED PRIMARY KEY, v text)":                                            "(a, v) SELECT g, 'v' || g FROM generate_series(1, 5) g",
			"two (b int, a int, k int GENERATED ALWAYS AS (a + 1) STORED, v text, PRIMARY KEY (b, k))":                             "(b, a, v) VALUES (1, 1, 'one'), (1, 2, 'two'), (2, 1, 'three')",
			"other (a int, n int NOT NULL UNIQUE, u int UNIQUE, k int GENERATED ALWAYS AS (a + 1) STORED PRIMARY KEY, v text)":     "(a, n, v) VALUES (1, 10, 'one'), (2, 20, 'two')",
			"indexed (a int, n int, k int GENERATED ALWAYS AS (a + 1) STORED, v text, PRIMARY KEY (n), UNIQUE (k) INCLUDE (a, n))": "(a, n, v) VALUES (1, 10, 'one'), (2, 20, 'two')",
		} {
			statements = append(statements, fmt.Sprintf("CREATE TABLE %s_%s", identity, table))
			var name string
			fmt.Sscan(table, &name) //nolint:errcheck // a name
			statements = append(statements, fmt.Sprintf("ALTER TABLE %s_%s REPLICA IDENTITY %s", identity, name, identity), fmt.Sprintf("INSERT INTO %s_%s %s", identity, name, rows))
		}
	}
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", []map[string]any{{"match": "public.*"}}, nil, statements...)
	db := connect(t, sourceServer(t), name)
	into := database(t, sourceServer(t), "postgres")
	i.intoTables("tables", sourceServer(t), into, map[string]any{"keep": "current"}, map[string]any{"tables": []string{"public.default_indexed", "public.full_indexed", "public.full_other"}})
	for _, identity := range []string{"default", "full"} {
		run(t, db, "UPDATE "+identity+"_one SET v = 'V' WHERE a = 2", "DELETE FROM "+identity+"_one WHERE a = 3", "INSERT INTO "+identity+"_one (a, v) VALUES (9, 'nine')",
			"UPDATE "+identity+"_two SET v = 'TWO' WHERE b = 1 AND a = 2", "DELETE FROM "+identity+"_two WHERE b = 1 AND a = 1",
			"UPDATE "+identity+"_other SET v = 'ONE' WHERE a = 1", "DELETE FROM "+identity+"_other WHERE a = 2", "UPDATE "+identity+"_indexed SET v = 'ONE' WHERE a = 1", "DELETE FROM "+identity+"_indexed WHERE a = 2")
	}
	i.reached("circulation", db)
	i.caughtUp("tables")
	events := i.journal("circulation")
	proveJournal(t, events)
	keys := map[string]string{"full_one": "-", "full_two": "-", "full_other": "n", "full_indexed": "n", "default_indexed": "n", "default_one": "", "default_two": "", "default_other": ""}
	existing := map[string]int{"one": 5, "two": 3, "other": 2, "indexed": 2}
	for table, key := range keys {
		all := ofTable(events, "public."+table, "existing", "insert", "update", "delete")
		loaded := ofTable(events, "public."+table, "existing")
		_, kind, _ := strings.Cut(table, "_")
		require.Len(t, loaded, existing[kind], table)
		for _, e := range all {
			if key == "n" {
				require.Contains(t, e.Data.Key, "n", "%s", e.raw)
			} else {
				require.Nil(t, e.Data.Key, "%s", e.raw)
			}
		}
		_, note := i.table("public." + table)
		if key == "" {
			require.Empty(t, ofTable(events, "public."+table, "update", "delete"), "nothing says which rows they would be about")
			require.Contains(t, note, "its key has the generated column k, which the log does not bring: only inserts and truncates are captured")
			continue
		}
		require.NotEmpty(t, ofTable(events, "public."+table, "update"), table)
	}
	target := connect(t, sourceServer(t), into)
	for _, table := range []string{"full_other", "full_indexed", "default_indexed"} {
		query := "SELECT a, n, v FROM " + table
		sameRows(t, digest(t, db, query), digest(t, target, query), table)
	}
	code, raw, err := i.call(http.MethodPost, "/v1/sources/circulation/check", nil)
	require.NoError(t, err)
	require.Less(t, code, 300, "%s", raw)
	require.Contains(t, string(raw), "updates and deletes will not be captured")
}

// TestAKeyThatIsLost: what is no longer captured is said where people look: by the table's state,
// by an event, by the outlets that carry it, in the log of the run, and beforehand; once there is a
// key again, the table is loaded.
func TestAKeyThatIsLost(t *testing.T) {
	t.Parallel()
	configured, _ := scratch(t)
	i, name := captured(t, configured+"source:\n  refresh_every: 100ms\n", []map[string]any{{"match": "public.*"}}, nil, "CREATE TABLE loans (id int PRIMARY KEY, note text)", "INSERT INTO loans VALUES (1, 'a'), (2, 'b')", "CREATE TABLE holds (id int PRIMARY KEY)")
	db := connect(t, sourceServer(t), name)
	into := database(t, sourceServer(t), "postgres")
	i.intoTables("tables", sourceServer(t), into, map[string]any{})
	i.must(http.MethodPost, "/v1/outlets/other", map[string]any{"source": "circulation", "tables": []string{"public.holds"}}, nil)
	// What needs old rows that the log does not have is said at once, and by a check.
	chosen := map[string]any{"source": "circulation", "where": map[string]string{"public.loans": "note == 'a'"}}
	var stored struct{ Warnings []string }
	i.must(http.MethodPost, "/v1/outlets/chosen", chosen, &stored)
	require.Contains(t, fmt.Sprint(stored.Warnings), "public.loans: its condition looks at note, and the log carries the old row's key alone")
	checked, _, _ := i.cli("outlet", "check", "chosen")
	require.Contains(t, checked, "old rows of public.loans")
	out, errs, code := i.cli("schema", "impact", "circulation", "--sql", "ALTER TABLE loans DROP CONSTRAINT loans_pkey")
	require.Equal(t, 5, code, out+errs)
	require.Contains(t, out, "its key goes: updates and deletes are in no event from there on")
	run(t, db, "ALTER TABLE loans DROP CONSTRAINT loans_pkey")
	i.comesTo("public.loans", "stale")
	_, note := i.table("public.loans")
	require.Contains(t, note, "its key is gone")
	i.eventually("an event says so", func() bool {
		events := ofTable(i.journal("circulation"), "public.loans", "schema")
		if len(events) != 2 {
			return false
		}
		now, _, _ := strings.Cut(string(events[1].Data.Schema), `"previous"`)
		return !strings.Contains(now, `"key":1`)
	})
	o := i.outletIs("tables", "says so", func(o outletStatus) bool { return len(o.Incomplete) == 1 })
	require.Equal(t, "key-lost", o.Incomplete[0].Code)
	require.Empty(t, i.outletStatus("other").Incomplete)
	log, _, code := i.cli("log")
	require.Zero(t, code)
	require.Contains(t, log, "its key is gone")
	run(t, db, "UPDATE loans SET note = 'unseen' WHERE id = 1", "DELETE FROM loans WHERE id = 2", "ALTER TABLE loans ADD PRIMARY KEY (id)")
	i.comesTo("public.loans", "following")
	i.settled("circulation", db)
	i.caughtUp("tables")
	require.Equal(t, []string{"(1,unseen)"}, digest(t, connect(t, sourceServer(t), into), "SELECT * FROM loans"))
	i.outletIs("tables", "is in order", func(o outletStatus) bool { return len(o.Incomplete) == 0 })
}
