package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// begin starts a service that captures a new database, filled by statements.
func begin(t *testing.T, extra string, statements ...string) (*instance, string) {
	t.Helper()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	run(t, connect(t, source, name), statements...)
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), extra).start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	return i, name
}

func (i *instance) resume() { i.must(http.MethodPost, "/v1/sources/circulation/resume", nil, nil) }

// loads counts the loads that a source's journal has of a table, or of all tables.
func (i *instance) loads(source, table string) int {
	var page struct{ Events []json.RawMessage }
	status, raw, err := i.call(http.MethodGet, "/v1/sources/"+source+"/events?limit=5000&operation=loaded&table="+table, nil)
	if err != nil || status >= 300 || json.Unmarshal(raw, &page) != nil {
		return 0
	}
	return len(page.Events)
}

// ofTable chooses a table's events, of some operations or of all.
func ofTable(events []*event, table string, operations ...string) []*event {
	var kept []*event
	for _, e := range events {
		if e.Data.Table == table && (len(operations) == 0 || strings.Contains(" "+strings.Join(operations, " ")+" ", " "+e.Data.Operation+" ")) {
			kept = append(kept, e)
		}
	}
	return kept
}

// TestEachChangeIsToldAsItHappened goes through operations and identities.
func TestEachChangeIsToldAsItHappened(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source:\n  refresh_every: 200ms\n",
		"CREATE TABLE loans (patron integer, loan bigint, note text, essay text, PRIMARY KEY (loan, patron))",
		"ALTER TABLE loans ALTER COLUMN essay SET STORAGE EXTERNAL",
		"CREATE TABLE whole (id integer PRIMARY KEY, n integer, essay text)", "ALTER TABLE whole REPLICA IDENTITY FULL", "ALTER TABLE whole ALTER COLUMN essay SET STORAGE EXTERNAL",
		"CREATE TABLE visits (at integer, who text)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	long := "repeat('0123456789', 400)"
	run(t, db,
		"INSERT INTO loans VALUES (7, 1, 'a', "+long+")", "UPDATE loans SET note = 'b'", "UPDATE loans SET patron = 8", "DELETE FROM loans",
		"INSERT INTO whole VALUES (1, 1, "+long+")", "UPDATE whole SET n = NULL", "DELETE FROM whole",
		// Without a key the application's own updates must go on working.
		"INSERT INTO visits VALUES (1, 'x')", "UPDATE visits SET who = 'y'", "DELETE FROM visits",
		"BEGIN; INSERT INTO whole VALUES (2, 2, NULL); SAVEPOINT s; INSERT INTO whole VALUES (3, 3, NULL); ROLLBACK TO s; DELETE FROM whole WHERE id = 2; COMMIT",
		"TRUNCATE whole, loans",
		"SELECT pg_logical_emit_message(true, 'audit', '{\"who\": \"desk\"}')", "SELECT pg_logical_emit_message(false, 'audit', 'plain')",
		"ALTER TABLE whole ADD COLUMN extra text", "INSERT INTO whole VALUES (5, 5, 'e', 'x')",
		"CREATE TABLE late (id integer PRIMARY KEY)", "INSERT INTO late VALUES (1)")
	i.eventually("the table that came late is picked up and loaded", func() bool {
		for _, s := range i.status().Sources {
			for _, table := range s.Tables {
				if table.Name == "public.late" {
					return table.State == "following"
				}
			}
		}
		return false
	})
	// A table that is given a key is loaded then.
	run(t, db, "INSERT INTO late VALUES (2)", "INSERT INTO visits VALUES (7, 'z')", "ALTER TABLE visits ADD PRIMARY KEY (at)")
	i.eventually("the table with its new key is loaded", func() bool {
		for _, s := range i.status().Sources {
			for _, table := range s.Tables {
				if table.Name == "public.visits" {
					return table.State == "following" && table.Note == "" && table.RowsDone == 1 // its one row has been read
				}
			}
		}
		return false
	})
	run(t, db, "UPDATE visits SET who = 'changed'")
	for _, name := range []string{"look", "once_more"} { // each is found by another look at the catalogue
		run(t, db, "CREATE TABLE "+name+" (id integer PRIMARY KEY)")
		i.eventually("a look has found "+name, func() bool {
			for _, s := range i.status().Sources {
				for _, table := range s.Tables {
					if table.Name == "public."+name {
						return true
					}
				}
			}
			return false
		})
	}
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	require.Len(t, ofTable(events, "public.visits", "loaded"), 2, "for its new key a table is loaded once")
	for _, table := range []string{"loans", "whole", "late", "visits"} {
		f.equals(t, db, table)
	}

	loans := ofTable(events, "public.loans", "insert", "update", "delete")
	require.Len(t, loans, 5)
	require.Equal(t, `[1,7]`, *loans[0].PartitionKey)
	require.True(t, strings.Contains(string(loans[0].raw), `"key":{"loan":1,"patron":7}`), "the key is in key order: %s", loans[0].raw)
	update := loans[1].Data
	require.Nil(t, update.Before)
	require.Equal(t, []string{"essay"}, update.Omitted, "a value that the log did not carry is marked")
	require.NotContains(t, update.After, "essay")
	out, in := loans[2].Data, loans[3].Data
	require.Equal(t, []string{"delete", "insert"}, []string{out.Operation, in.Operation}, "a changed key is two events")
	require.Equal(t, "8", string(out.Rekeyed["patron"]))
	require.Equal(t, "7", string(in.Rekeyed["patron"]))
	require.Equal(t, []string{"note", "essay"}, out.Omitted)

	whole := ofTable(events, "public.whole", "insert", "update", "delete")
	require.Equal(t, []string{"n"}, whole[1].Data.Changed)
	require.Equal(t, "1", string(whole[1].Data.Before["n"]))
	require.Equal(t, "null", string(whole[1].Data.After["n"]))
	require.Empty(t, whole[1].Data.Omitted, "under a full identity the old row has the unchanged value")
	require.Len(t, whole[1].Data.After["essay"], 4002)
	require.Equal(t, []string{"insert", "delete"}, []string{whole[3].Data.Operation, whole[4].Data.Operation}, "a row that came and went shows as both, what was rolled back not at all")
	require.True(t, whole[4].Data.Transaction.Last)

	visits := ofTable(events, "public.visits", "insert", "update", "delete")
	require.Len(t, visits, 3, "of a table without a key only inserts come, with one updates too")
	require.Nil(t, visits[0].Data.Key)
	require.Nil(t, visits[0].PartitionKey)
	require.Len(t, ofTable(events, "public.whole", "truncate"), 1)
	require.Len(t, ofTable(events, "public.loans", "truncate"), 1)
	messages := ofTable(events, "", "message")
	require.JSONEq(t, `{"prefix": "audit", "content": {"who": "desk"}}`, string(messages[len(messages)-3].Data.Message))
	require.JSONEq(t, `{"prefix": "audit", "content": "plain"}`, string(messages[len(messages)-2].Data.Message))
	schemas := ofTable(events, "public.whole", "schema")
	require.Len(t, schemas, 2)
	require.Equal(t, "insert", events[schemas[1].offset()].Data.Operation, "the new version stands right before its first row")
	require.NotEqual(t, schemas[0].DataSchema, schemas[1].DataSchema)
	require.Equal(t, schemas[1].DataSchema, events[schemas[1].offset()].DataSchema)
}

// TestReaders goes through the ways of reading: pages, the live stream with its
// resumption, the pull outlet, the file outlet and its rewind.
func TestReaders(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY, note text)", "CREATE TABLE holds (hold_id integer PRIMARY KEY)",
		"INSERT INTO loans SELECT n, 'first' FROM generate_series(1, 50) n", "INSERT INTO holds SELECT generate_series(1, 20)")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/destinations/archive", map[string]any{"kind": "file", "file": map[string]string{"directory": "a/b"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/archive", map[string]any{"source": "circulation", "destination": "archive", "tables": []string{"public.h*"}, "operations": []string{"existing", "insert"}}, nil)
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation", "tables": []string{"loans"}}, nil)
	i.resume()
	i.settled("circulation", db)

	// Pull: reading does not move the offset, committing does.
	read := func() (offsets []int64) {
		out, errs, code := i.cli("read", "desk", "--limit", "10", "--json")
		require.Zero(t, code, errs)
		for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
			e := parseEvent(t, []byte(line))
			require.Equal(t, "public.loans", e.Data.Table)
			offsets = append(offsets, e.offset())
		}
		return offsets
	}
	first := read()
	require.Equal(t, first, read(), "peeking again shows the same")
	_, errs, code := i.cli("read", "desk", "--limit", "10", "--commit")
	require.Zero(t, code, errs)
	second := read()
	require.Greater(t, second[0], first[9])
	_, _, code = i.cli("outlet", "rewind", "desk", "--to", "beginning")
	require.Zero(t, code)
	require.Equal(t, first, read())

	// The live stream goes on behind Last-Event-ID.
	stream := func(last int64) (offsets []int64) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, i.address+"/v1/sources/circulation/stream?table=loans&operation=existing", nil)
		require.NoError(t, err)
		r.Header.Set("Last-Event-ID", fmt.Sprint(last))
		response, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer response.Body.Close() //nolint:errcheck // it was only read
		require.Equal(t, "text/event-stream", response.Header.Get("Content-Type"))
		in := bufio.NewScanner(response.Body)
		in.Buffer(nil, 1<<20)
		for len(offsets) < 5 && in.Scan() {
			if raw, found := strings.CutPrefix(in.Text(), "data: "); found {
				offsets = append(offsets, parseEvent(t, []byte(raw)).offset())
			}
		}
		return offsets
	}
	start := stream(0)
	require.Equal(t, start[3]+1, stream(start[3])[0], "the stream resumes behind the last event")

	// The file has what the filter lets through; a rewind delivers it once more,
	// in files of a run of its own.
	i.eventually("the file has the holds", func() bool { return len(i.files("a/b")) == 20 })
	_, _, code = i.cli("outlet", "rewind", "archive", "--to", "beginning")
	require.Zero(t, code)
	i.eventually("the file has the holds twice", func() bool { return len(i.files("a/b")) == 40 })
	ids := make(map[string]int)
	for _, e := range i.files("a/b") {
		require.Equal(t, "public.holds", e.Data.Table)
		ids[e.ID]++
	}
	for id, n := range ids {
		require.Equal(t, 2, n, id)
	}

	// A paused outlet delivers nothing; a torn last line is mended.
	_, _, code = i.cli("outlet", "pause", "archive", "--reason", "a test")
	require.Zero(t, code)
	names, err := filepath.Glob(filepath.Join(i.folder, "files", "a/b", "archive.2.*"))
	require.NoError(t, err)
	require.Len(t, names, 1)
	f, err := os.OpenFile(names[0], os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"specversion":"1.0","id":"circ`)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	run(t, db, "INSERT INTO holds VALUES (100)")
	i.reached("circulation", db)
	_, _, code = i.cli("outlet", "resume", "archive")
	require.Zero(t, code)
	i.eventually("the new hold is behind the mended line", func() bool {
		raw, err := os.ReadFile(names[0])
		return err == nil && strings.Contains(string(raw), `"hold_id":100`) && strings.HasSuffix(string(raw), "\n")
	})
	require.Len(t, i.files("a/b"), 41)

	// A stream of an outlet shows what it lets through.
	var page struct{ Events []json.RawMessage }
	i.must(http.MethodGet, "/v1/sources/circulation/events?table=holds&operation=insert&from=1", nil, &page)
	require.Len(t, page.Events, 1)
}

// TestTransactionsOfEveryKind goes through what a transaction can be: prepared in
// one session and committed in another, undone, partly undone, brought by
// replication from elsewhere, and rows of a table and its heirs.
func TestTransactionsOfEveryKind(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id integer PRIMARY KEY, n integer, doubled integer GENERATED ALWAYS AS (n * 2) STORED, number integer GENERATED ALWAYS AS IDENTITY)",
		"CREATE TABLE late_loans (fee integer, PRIMARY KEY (id)) INHERITS (loans)", "INSERT INTO late_loans (id, n, number, fee) VALUES (50, 5, 50, 3)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "BEGIN; INSERT INTO loans (id, n) VALUES (1, 1); PREPARE TRANSACTION '"+name+"'", "INSERT INTO loans (id, n) VALUES (2, 2)", "COMMIT PREPARED '"+name+"'",
		"BEGIN; INSERT INTO loans (id, n) VALUES (3, 3); PREPARE TRANSACTION '"+name+"'", "ROLLBACK PREPARED '"+name+"'",
		"BEGIN; SAVEPOINT a; INSERT INTO loans (id, n) VALUES (4, 4); SAVEPOINT b; INSERT INTO loans (id, n) VALUES (5, 5); ROLLBACK TO b; INSERT INTO loans (id, n) VALUES (6, 6); RELEASE a; COMMIT",
		"SELECT pg_replication_origin_create('"+name+"')", "SELECT pg_replication_origin_session_setup('"+name+"')", "INSERT INTO loans (id, n) VALUES (7, 7)", "SELECT pg_replication_origin_session_reset()", "SELECT pg_replication_origin_drop('"+name+"')",
		"UPDATE loans SET n = n + 1 WHERE id IN (7, 50)", "INSERT INTO late_loans (id, n, number, fee) VALUES (8, 8, 8, 1)")
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events)
	var ids []string
	for _, e := range ofTable(events, "public.loans", "insert") {
		ids = append(ids, string(e.Data.Key["id"]))
		require.NotContains(t, e.Data.After, "doubled", "a generated column is not in the log")
		require.Contains(t, e.Data.After, "number")
		origin := ""
		if string(e.Data.Key["id"]) == "7" {
			origin = name
		}
		require.Equal(t, origin, e.Data.Transaction.Origin)
	}
	require.Equal(t, []string{"2", "1", "4", "6", "7"}, ids, "a prepared transaction comes at its commit; what was undone never shows")
	require.Len(t, ofTable(events, "public.loans", "existing"), 0, "an heir's rows are the heir's")
	require.Len(t, ofTable(events, "public.late_loans", "existing", "update", "insert"), 3)
}
