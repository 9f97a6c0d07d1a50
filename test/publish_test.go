package test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestThePublicationFilters has the server ask what it can of a filter, changes
// the filter beside a transaction that is open, and takes the right away.
func TestThePublicationFilters(t *testing.T) {
	t.Parallel()
	rule := func(filter string) map[string]any {
		return map[string]any{"match": "visits", "filter": filter, "after_rewrite": "reload"}
	}
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", []map[string]any{rule(`branch_id in [3, 5] && door == "north" && weight > 1.5`)}, nil,
		"CREATE TABLE visits (branch_id integer, visit_id bigint, door text, weight numeric, essay text, PRIMARY KEY (visit_id, branch_id))",
		"ALTER TABLE visits ALTER COLUMN essay SET STORAGE EXTERNAL",
		"INSERT INTO visits SELECT n % 10, n, CASE n % 2 WHEN 0 THEN 'south' ELSE 'north' END, n, repeat(md5(n::text), 100) FROM generate_series(1, 100) n")
	db := connect(t, sourceServer(t), name)
	var publication, filter string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT pubname, rowfilter FROM pg_publication_tables").Scan(&publication, &filter))
	require.Contains(t, filter, "branch_id = ANY (ARRAY[3, 5])")
	require.NotContains(t, filter, "door", "it is not in the key: an update would be refused")
	run(t, db, "SELECT pg_create_logical_replication_slot('peek_"+name+"', 'pgoutput')",
		"UPDATE visits SET weight = 7 WHERE branch_id <> 3", "DELETE FROM visits WHERE branch_id = 8", "UPDATE visits SET weight = 0 WHERE branch_id = 5 AND visit_id = 5",
		"UPDATE visits SET branch_id = 3 WHERE visit_id = 21", "UPDATE visits SET branch_id = 4 WHERE visit_id = 13", "INSERT INTO visits VALUES (3, 300, 'north', 2, ''), (6, 301, 'north', 2, '')")
	i.reached("circulation", db)
	var text string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT string_agg(DISTINCT p.pubname, ',') FROM pg_publication p").Scan(&text))
	count := 0
	require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM pg_logical_slot_get_binary_changes('peek_"+name+"', NULL, NULL, 'proto_version', '1', 'publication_names', $1) WHERE get_byte(data, 0) IN (73, 85, 68)", text).Scan(&count))
	require.Equal(t, 14, count, "rows of other branches are not sent at all")
	wanted := func(where string) {
		t.Helper()
		i.settled("circulation", db)
		want := 0
		require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM visits WHERE "+where).Scan(&want))
		// The reload that a new rule brings may not be on the status page yet.
		i.eventually("the journal comes to the rows for which "+where, func() bool {
			return len(proveJournal(t, i.journal("circulation")).tables["public.visits"]) == want
		})
	}
	wanted("branch_id IN (3, 5) AND door = 'north' AND weight > 1.5")

	// The former filter goes for what a transaction wrote before the new one came.
	open := connect(t, sourceServer(t), name)
	run(t, open, "BEGIN", "INSERT INTO visits VALUES (1, 400, 'north', 9, 'written before')")
	edit := func(version int, r map[string]any) {
		d := ruled(sourceServer(t), name, []map[string]any{r}, nil)
		code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", fmt.Sprintf(`"%d"`, version))
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, code, "%s", raw)
	}
	edit(1, rule(`1 == branch_id && weight >= 1.0`))
	i.eventually("the publication has the new filter", func() bool {
		return db.QueryRow(t.Context(), "SELECT rowfilter FROM pg_publication_tables").Scan(&filter) == nil && filter != "" && !strings.Contains(filter, "ARRAY")
	})
	run(t, open, "INSERT INTO visits VALUES (1, 401, 'north', 9, 'written after')", "COMMIT")
	wanted("branch_id = 1 AND weight >= 1.0")
	require.Contains(t, filter, "branch_id = 1")

	edit(2, rule(`weight > 0.5`))
	wanted("weight > 0.5")
	var left *string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT rowfilter FROM pg_publication_tables").Scan(&left))
	require.Nil(t, left, "nothing of this filter is for the server")
}

// TestARuleChangesUnderALoad: what was read by the former rule is read again, and
// a transaction that was open is waited for.
func TestARuleChangesUnderALoad(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	dropSlotAtEnd(t, source)
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE visits (branch_id integer, visit_id bigint, door text, essay text, PRIMARY KEY (branch_id, visit_id))", "ALTER TABLE visits ALTER COLUMN essay SET STORAGE EXTERNAL",
		"INSERT INTO visits SELECT n % 4, n, 'north', repeat(md5(n::text), 100) FROM generate_series(1, 1600) n")
	i := newInstance(t, stateServer(t), "source:\n  chunk_bytes: 16384\n  refresh_every: 200ms\n").start()
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	way.delay = 2 * time.Millisecond
	d := ruled(source, name, []map[string]any{{"match": "visits", "filter": "branch_id in [1, 2]"}}, nil)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	done := func() int64 { return i.status().Sources[0].Tables[0].RowsDone }
	i.eventually("the load is under way", func() bool { return len(i.status().Sources[0].Tables) > 0 && done() > 30 })
	open := connect(t, source, name)
	run(t, open, "BEGIN", "INSERT INTO visits VALUES (3, 9000, 'north', '')")
	d["tables"] = []map[string]any{{"match": "visits", "filter": "branch_id in [2, 3]", "columns": []map[string]any{{"match": "door", "treat": "mask"}}}}
	code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	i.eventually("the open transaction is waited for", func() bool {
		log, err := os.ReadFile(i.logFile())
		return err == nil && bytes.Contains(log, []byte("waiting for their end"))
	})
	require.Less(t, done(), int64(700), "the rule came while the table was being read")
	run(t, open, "COMMIT")
	i.settled("circulation", db)
	i.comesTo("public.visits", "following")
	rows := proveJournal(t, i.journal("circulation")).tables["public.visits"]
	require.Len(t, rows, 801)
	for _, row := range rows {
		require.NotContains(t, fmt.Sprint(row), "north")
	}
}

// TestATableLeavesThePublicationUnderItsLoad: what changes until it is back is in no
// stream, so that all of it is read again.
func TestATableLeavesThePublicationUnderItsLoad(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	dropSlotAtEnd(t, source)
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE visits (visit_id bigint PRIMARY KEY, door text, essay text)", "ALTER TABLE visits ALTER COLUMN essay SET STORAGE EXTERNAL",
		"INSERT INTO visits SELECT n, 'north', repeat(md5(n::text), 100) FROM generate_series(1, 800) n", "CREATE PUBLICATION visitors FOR TABLE visits")
	i := newInstance(t, stateServer(t), "source:\n  chunk_bytes: 16384\n  refresh_every: 100ms\n").start()
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	way.delay = 2 * time.Millisecond
	d := ruled(source, name, []map[string]any{{"match": "visits"}}, map[string]any{"publication": "visitors"})
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.eventually("the load is under way", func() bool {
		tables := i.status().Sources[0].Tables
		return len(tables) > 0 && tables[0].RowsDone > 30
	})
	run(t, db, "ALTER PUBLICATION visitors DROP TABLE visits")
	i.comesTo("public.visits", "unpublished")
	run(t, db, "UPDATE visits SET door = 'south'", "DELETE FROM visits WHERE visit_id % 10 = 0", "ALTER PUBLICATION visitors ADD TABLE visits")
	i.comesTo("public.visits", "following")
	run(t, db, "UPDATE visits SET door = 'east' WHERE visit_id < 5")
	i.reached("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "visits")

	// The same between two looks of ours, and while nobody looks.
	loads := func() int { return len(ofTable(i.journal("circulation"), "public.visits", "loaded")) }
	again := func(why string, gap func()) {
		before := loads()
		gap()
		i.eventually(why, func() bool { return loads() > before })
		proveJournal(t, i.journal("circulation")).equals(t, db, "visits")
	}
	gap := func(door string) {
		run(t, db, "BEGIN", "ALTER PUBLICATION visitors DROP TABLE visits", "UPDATE visits SET door = '"+door+"'", "ALTER PUBLICATION visitors ADD TABLE visits", "COMMIT")
	}
	again("it is read again", func() { gap("west") })
	again("it is read again once all kinds of changes are published", func() {
		run(t, db, "ALTER PUBLICATION visitors SET (publish = 'insert, update')")
		i.eventually("it waits", func() bool { return i.status().Sources[0].Code == "publication-partial" })
		out, _, _ := i.cli("source", "check", "circulation")
		require.Contains(t, out, "leaves out changes of the kind delete and truncate")
		run(t, db, "DELETE FROM visits WHERE visit_id % 7 = 0", "ALTER PUBLICATION visitors SET (publish = 'insert, update, delete, truncate')")
	})
	again("it is read again after a restart", func() {
		i.stop(syscall.SIGTERM)
		gap("attic")
		i.start()
	})
}

// TestARootOrASchemaLeavesThePublication: a partition's place in the publication is
// its root's, a table's may be its schema's.
func TestARootOrASchemaLeavesThePublication(t *testing.T) {
	t.Parallel()
	for place, in := range map[string]string{"its root": "TABLE visits", "its schema": "TABLES IN SCHEMA public"} {
		t.Run(place, func(t *testing.T) {
			i, name := captured(t, "source:\n  refresh_every: 100ms\n", []map[string]any{{"match": "visits", "partitions": "root"}}, map[string]any{"publication": "visitors"},
				"CREATE TABLE visits (visit_id bigint PRIMARY KEY, door text) PARTITION BY RANGE (visit_id)", "CREATE TABLE visits_1 PARTITION OF visits FOR VALUES FROM (0) TO (100)",
				"INSERT INTO visits SELECT n, 'north' FROM generate_series(1, 20) n", "CREATE PUBLICATION visitors FOR "+in)
			db := connect(t, sourceServer(t), name)
			run(t, db, "BEGIN", "ALTER PUBLICATION visitors DROP "+in, "UPDATE visits SET door = 'south'", "ALTER PUBLICATION visitors ADD "+in, "COMMIT")
			i.eventually("it is read again", func() bool { return len(ofTable(i.journal("circulation"), "public.visits", "loaded")) > 1 })
			proveJournal(t, i.journal("circulation")).equals(t, db, "visits")
		})
	}
}

// TestTablesThatComeLater lets a login that owns nothing publish what the rules
// choose through the administrator's function, and a publication of a whole
// schema bring a table from its first row.
func TestTablesThatComeLater(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	role := "later_" + name
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY)")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 200ms\n").start()
	d := ruled(source, name, []map[string]any{{"match": "private*", "active": false, "allow_missing": true}, {"match": "public.*"}}, nil)
	connection := d["connection"].(map[string]any)
	connection["user"], connection["password"] = role, "made-up"
	var scripts struct{ Setup string }
	i.must(http.MethodPost, "/v1/sources/circulation/scripts", d, &scripts)
	run(t, db, scripts.Setup, "ALTER ROLE "+role+" PASSWORD 'made-up'")
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "CREATE TABLE holds (id integer PRIMARY KEY)", "INSERT INTO holds VALUES (1)", "CREATE TABLE private_notes (id integer PRIMARY KEY)", "CREATE TABLE visits (at integer)")
	i.comesTo("public.holds", "following")
	i.comesTo("public.visits", "following")
	run(t, db, "INSERT INTO holds VALUES (2)", "INSERT INTO visits VALUES (1)", "UPDATE visits SET at = 2")
	i.reached("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "holds")
	run(t, db, "SET ROLE "+role)
	for _, table := range []string{"private_notes", "pg_catalog.pg_class"} {
		_, err := db.Exec(t.Context(), "SELECT rillmark.publish_circulation('"+table+"')")
		require.ErrorContains(t, err, "do not choose")
	}
	run(t, db, "RESET ROLE", "CREATE ROLE nobody_"+name, "SET ROLE nobody_"+name)
	_, err := db.Exec(t.Context(), "SELECT rillmark.publish_circulation('holds')")
	require.ErrorContains(t, err, "permission denied")
	run(t, db, "RESET ROLE", "DROP ROLE nobody_"+name, "DROP PUBLICATION IF EXISTS whole")

	i.must(http.MethodDelete, "/v1/sources/circulation", nil, nil)
	run(t, db, "CREATE SCHEMA desk", "CREATE TABLE desk.first (id integer PRIMARY KEY)", "CREATE PUBLICATION whole FOR TABLES IN SCHEMA desk")
	d = ruled(source, name, []map[string]any{{"match": "desk.*"}}, map[string]any{"publication": "whole", "mode": "follow-only"})
	var checks struct {
		Items []struct{ Name, Found string }
	}
	i.must(http.MethodPost, "/v1/sources/desk/check", d, &checks)
	require.Contains(t, fmt.Sprint(checks), "from its first row")
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.comesTo("desk.first", "following")
	run(t, db, "BEGIN", "CREATE TABLE desk.later (id integer PRIMARY KEY, note text)", "INSERT INTO desk.later VALUES (1, 'first')", "COMMIT", "INSERT INTO desk.later VALUES (2, 'second')")
	i.reached("circulation", db)
	require.Equal(t, []string{`{"id":1,"note":"first"}`, `{"id":2,"note":"second"}`}, said(ofTable(i.journal("circulation"), "desk.later"), "insert"))
}

// TestATableThatWeHavePublishedAgain: somebody takes a table out of our publication, or makes it
// again under its name, and the next look publishes it: what was written in between is in no
// stream, and is read.
func TestATableThatWeHavePublishedAgain(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "source:\n  refresh_every: 500ms\n", []map[string]any{{"match": "*"}}, nil, "CREATE TABLE loans (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)", "CREATE TABLE visits (id integer PRIMARY KEY)", "INSERT INTO visits VALUES (1)")
	db := connect(t, sourceServer(t), name)
	var publication string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT pubname FROM pg_publication_tables WHERE tablename = 'loans'").Scan(&publication))
	published := func() bool {
		var there bool
		require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) = 2 FROM pg_publication_tables WHERE pubname = $1 AND tablename IN ('loans', 'visits')", publication).Scan(&there))
		return there
	}
	for n := range 3 {
		run(t, db, fmt.Sprintf("ALTER PUBLICATION %s DROP TABLE loans", publication), fmt.Sprintf("INSERT INTO loans VALUES (%d)", 10+n), "DROP TABLE visits", "CREATE TABLE visits (id integer PRIMARY KEY)", fmt.Sprintf("INSERT INTO visits VALUES (%d)", 10+n))
		i.eventually("both are published again", published)
		run(t, db, fmt.Sprintf("INSERT INTO loans VALUES (%d)", 20+n), fmt.Sprintf("INSERT INTO visits VALUES (%d)", 20+n))
		i.eventually("each is as it is there", func() bool {
			f := newFold()
			for _, e := range i.journal("circulation") {
				f.apply(e)
			}
			return f.differs(t, db, "loans") == "" && f.differs(t, db, "visits") == ""
		})
	}
	proveJournal(t, i.journal("circulation"))
}
