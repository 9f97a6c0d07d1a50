package test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

// captured begins and settles a source of one rule.
func captured(t *testing.T, extra string, rules []map[string]any, more map[string]any, statements ...string) (*instance, string) {
	t.Helper()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, statements...)
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), extra).start()
	i.must(http.MethodPost, "/v1/sources/circulation", ruled(source, name, rules, more), nil)
	i.resume()
	i.settled("circulation", db)
	return i, name
}

func ruled(c *demo.Cluster, database string, rules []map[string]any, more map[string]any) map[string]any {
	d := sourceDefinition(c, database)
	d["tables"] = rules
	for name, v := range more {
		if name == "publication" {
			d["connection"].(map[string]any)[name] = v
			continue
		}
		d[name] = v
	}
	return d
}

func said(events []*event, operation string) (rows []string) {
	for _, e := range events {
		if e.Data.Operation == operation {
			image := e.Data.After
			if image == nil {
				image = e.Data.Before
			}
			raw, _ := json.Marshal(image)
			rows = append(rows, string(raw))
		}
	}
	return rows
}

// TestPrivateColumnsNeverReachTheJournal drops, masks and hashes columns, in the
// load and in the stream, and looks for the values in all that is kept.
func TestPrivateColumnsNeverReachTheJournal(t *testing.T) {
	t.Parallel()
	rules := []map[string]any{{"match": "patrons", "columns": []map[string]any{{"match": "pin", "treat": "drop"}, {"match": "*_name", "treat": "mask"}, {"match": "card", "treat": "hash"}, {"match": "email", "treat": "hash"}}}}
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", rules, map[string]any{"hash_key": "made-up-hash-key"},
		"CREATE TABLE patrons (card text PRIMARY KEY, first_name text, email text, pin text, visits integer)", "ALTER TABLE patrons REPLICA IDENTITY FULL",
		"INSERT INTO patrons VALUES ('card-secret-1', 'Odalys', 'odalys@alder.example', 'pin-secret', 1)")
	db := connect(t, sourceServer(t), name)
	run(t, db, "UPDATE patrons SET visits = 2, pin = 'pin-secret-2'", "INSERT INTO patrons VALUES ('card-secret-2', NULL, NULL, 'pin-secret', 0)",
		"UPDATE patrons SET card = 'card-secret-3' WHERE visits = 0", "DELETE FROM patrons WHERE visits = 2")
	i.reached("circulation", db)
	hashed := func(s string) string {
		mac := hmac.New(sha256.New, []byte("made-up-hash-key"))
		mac.Write([]byte(s)) // a hash takes everything
		return hex.EncodeToString(mac.Sum(nil))
	}
	events := i.journal("circulation")
	proveJournal(t, events)
	loaded := ofTable(events, "public.patrons", "existing")
	require.Len(t, loaded, 1)
	row, _ := json.Marshal(loaded[0].Data.After)
	require.JSONEq(t, fmt.Sprintf(`{"card": %q, "first_name": "***", "email": %q, "visits": 1}`, hashed("card-secret-1"), hashed("odalys@alder.example")), string(row))
	moved := ofTable(events, "public.patrons", "insert")
	require.JSONEq(t, fmt.Sprintf("%q", hashed("card-secret-2")), string(moved[1].Data.Rekeyed["card"]), "a changed key stays tied")
	require.Equal(t, `{"card":"`+hashed("card-secret-3")+`","email":null,"first_name":null,"visits":0}`, said(events, "insert")[1], "a null stays one")
	for _, e := range events {
		for _, secret := range []string{"secret", "Odalys", "odalys"} {
			require.NotContains(t, string(e.raw), secret)
		}
	}
	// Neither the journal's blocks nor the record of the load hold them.
	state := connect(t, i.state, i.stateDB)
	var kept string
	require.NoError(t, state.QueryRow(t.Context(), "SELECT string_agg(t::text, '') FROM rillmark.source_table t").Scan(&kept))
	require.NotContains(t, kept, "secret")
	_, raw, _ := i.call(http.MethodGet, "/v1/sources/circulation", nil)
	require.NotContains(t, string(raw), "made-up-hash-key")

	// A private column under a new name is not let through by itself.
	run(t, db, "ALTER TABLE patrons RENAME COLUMN email TO mail", "INSERT INTO patrons VALUES ('card-secret-4', 'Odalys', 'odalys@alder.example', 'pin-secret', 1)")
	i.eventually("capture waits for a word on the new column", func() bool { return i.status().Sources[0].Code == "private-column-gone" })
	rules[0]["columns"] = append([]map[string]any{{"match": "mail", "treat": "hash"}}, rules[0]["columns"].([]map[string]any)...)
	code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", ruled(sourceServer(t), name, rules, map[string]any{"hash_key": "(sealed)"}), "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	i.eventually("it goes on", func() bool { return i.status().Sources[0].Phase == "running" })
	i.reached("circulation", db)
	events = i.journal("circulation")
	require.Contains(t, said(events, "insert")[2], hashed("odalys@alder.example"), "with the same key")
	i.comesTo("public.patrons", "stale") // rows from before follow the old rule

	// A person may decide that the new one is kept; a statement's text may not tell
	// what the rules keep private.
	_, errs, exit := i.cli("source", "setup-sql", "circulation", "--statements", "--run")
	require.Zero(t, exit, errs)
	run(t, db, "BEGIN; UPDATE patrons SET pin = 'secret-in-a-statement'; ALTER TABLE patrons RENAME COLUMN mail TO post; UPDATE patrons SET visits = 7; COMMIT")
	i.eventually("it waits for a word again", func() bool { return i.status().Sources[0].Code == "private-column-gone" })
	rules[0]["columns"] = append([]map[string]any{{"match": "post", "treat": "keep"}}, rules[0]["columns"].([]map[string]any)...)
	code, raw, err = i.call(http.MethodPut, "/v1/sources/circulation", ruled(sourceServer(t), name, rules, map[string]any{"hash_key": "(sealed)"}), "If-Match", `"2"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	i.eventually("it goes on", func() bool { return i.status().Sources[0].Phase == "running" })
	i.reached("circulation", db)
	events = i.journal("circulation")
	require.Contains(t, said(events, "update")[len(said(events, "update"))-1], "odalys@alder.example", "what is kept comes as it is")
	statements := 0
	for _, e := range events {
		require.NotContains(t, string(e.raw), "secret")
		statements += strings.Count(string(e.raw), `"statement":"ALTER TABLE"`)
	}
	require.Positive(t, statements, "the kind of statement is told")
}

// TestAFilterIsFollowed keeps a table's rows that a condition chooses: one that
// leaves the filter is deleted, one that enters is inserted.
func TestAFilterIsFollowed(t *testing.T) {
	t.Parallel()
	rules := []map[string]any{{"match": "holds", "filter": `branch == "Alder Quay" && (priority > 2 || note != null)`, "image": "after"},
		{"match": "fees", "filter": `fee_id < 100`, "skip_untouched": true, "columns": []map[string]any{{"match": "note", "treat": "drop"}}},
		{"match": "keys", "image": "key"}}
	i, name := captured(t, "", rules, nil,
		"CREATE TABLE holds (hold_id integer PRIMARY KEY, branch text, priority integer, note text)", "ALTER TABLE holds REPLICA IDENTITY FULL",
		"CREATE TABLE fees (fee_id integer PRIMARY KEY, amount numeric, note text)", "ALTER TABLE fees REPLICA IDENTITY FULL",
		"CREATE TABLE keys (id integer PRIMARY KEY, note text)", "INSERT INTO keys VALUES (1, 'unseen')",
		"INSERT INTO holds VALUES (1, 'Alder Quay', 3, NULL), (2, 'Alder Quay', 1, NULL), (3, 'Fern Gate', 9, NULL), (4, NULL, 9, NULL)",
		"INSERT INTO fees VALUES (1, 1.50, 'a'), (100, 2, 'b')")
	db := connect(t, sourceServer(t), name)
	run(t, db, "UPDATE holds SET priority = 4 WHERE hold_id = 1", // stays inside
		"UPDATE holds SET branch = 'Fern Gate' WHERE hold_id = 1",                // leaves
		"UPDATE holds SET note = 'call' WHERE hold_id = 2",                       // enters
		"UPDATE holds SET priority = 1 WHERE hold_id = 3",                        // stays outside
		"UPDATE holds SET hold_id = 20 WHERE hold_id = 2",                        // inside, with a new key
		"INSERT INTO holds VALUES (5, 'Alder Quay', 5, ''), (6, 'Elm', 5, NULL)", // one of two
		"DELETE FROM holds WHERE hold_id IN (3, 5)",                              // one of two
		"UPDATE fees SET note = 'touched'", "UPDATE fees SET amount = 3", "UPDATE fees SET fee_id = 200 WHERE fee_id = 1",
		"UPDATE keys SET note = 'still unseen'", "DELETE FROM keys")
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	holds := func(operation string) []string { return said(ofTable(events, "public.holds", operation), operation) }
	require.Equal(t, []string{`{"branch":"Alder Quay","hold_id":1,"note":null,"priority":3}`}, holds("existing"))
	require.Equal(t, []string{`{"branch":"Alder Quay","hold_id":1,"note":null,"priority":4}`}, holds("update"))
	require.Equal(t, []string{`{"hold_id":1}`, `{"hold_id":2}`, `{"hold_id":5}`}, holds("delete"))
	require.Equal(t, []string{`{"branch":"Alder Quay","hold_id":2,"note":"call","priority":1}`, `{"branch":"Alder Quay","hold_id":20,"note":"call","priority":1}`,
		`{"branch":"Alder Quay","hold_id":5,"note":"","priority":5}`}, holds("insert"))
	require.Len(t, f.tables["public.holds"], 1)
	var operations []string
	for _, e := range ofTable(events, "public.fees") {
		operations = append(operations, e.Data.Operation)
	}
	require.Equal(t, []string{"schema", "void", "existing", "loaded", "update", "delete"}, operations, "an untouched row brings nothing; one that leaves by its key is gone")
	require.Equal(t, []string{`{"id":1}`}, said(ofTable(events, "public.keys", "update"), "update"))
	require.Empty(t, ofTable(events, "public.keys", "update")[0].Data.Omitted)
}

// TestRowsThatEnterAFilterAreWhole: the log leaves a large value out of an update
// that does not touch it; of a row that is new to consumers, it is read.
func TestRowsThatEnterAFilterAreWhole(t *testing.T) {
	t.Parallel()
	rules := []map[string]any{{"match": "ours", "filter": "branch == 1 || branch == 2"}, {"match": "theirs", "filter": "branch in [1, 2]"}}
	var statements []string
	for _, table := range []string{"ours", "theirs"} {
		statements = append(statements, "CREATE TABLE "+table+" (branch integer, id integer, essay text, visits integer, PRIMARY KEY (branch, id))", "ALTER TABLE "+table+" ALTER COLUMN essay SET STORAGE EXTERNAL",
			"INSERT INTO "+table+" SELECT 7, n, repeat(md5(n::text), 200), 0 FROM generate_series(1, 600) n")
	}
	i, name := captured(t, "source:\n  chunk_bytes: 65536\n", rules, nil, statements...)
	db := connect(t, sourceServer(t), name)
	for _, table := range []string{"ours", "theirs"} {
		run(t, db, "UPDATE "+table+" SET branch = 1 WHERE id <= 300", "UPDATE "+table+" SET visits = 1 WHERE branch = 1 AND id < 10", "UPDATE "+table+" SET branch = 2 WHERE id BETWEEN 5 AND 8",
			"UPDATE "+table+" SET branch = 8 WHERE id BETWEEN 290 AND 299", "DELETE FROM "+table+" WHERE id = 50")
	}
	i.reached("circulation", db)
	i.stop(syscall.SIGKILL) // what is to be read is on record
	i.start()
	whole := func() bool {
		f := proveJournal(t, i.journal("circulation"))
		for _, table := range []string{"ours", "theirs"} {
			var want, have string
			require.NoError(t, db.QueryRow(t.Context(), "SELECT json_agg(r ORDER BY branch, id) FROM (SELECT branch, id, md5(essay) AS essay, visits FROM "+table+" WHERE branch IN (1, 2)) r").Scan(&want))
			rows, err := json.Marshal(f.tables["public."+table])
			require.NoError(t, err)
			require.NoError(t, db.QueryRow(t.Context(), `SELECT coalesce(json_agg(r ORDER BY branch, id), '[]') FROM (SELECT branch, id, md5(essay) AS essay, visits
				FROM jsonb_each($1) e, jsonb_to_record(e.value) AS (branch integer, id integer, essay text, visits integer)) r`, string(rows)).Scan(&have))
			if want != have {
				return false
			}
		}
		return true
	}
	i.eventually("all rows are whole", whole)
	for _, table := range i.status().Sources[0].Tables {
		require.Equal(t, "following", table.State)
	}
	require.Len(t, ofTable(i.journal("circulation"), "public.ours", "loaded"), 1, "no load is made of it")
}

// TestPartitionsUnderTheirRoot gives rows of partitions the root's name, while
// partitions come, go and are truncated.
func TestPartitionsUnderTheirRoot(t *testing.T) {
	t.Parallel()
	rules := []map[string]any{{"match": "loans", "partitions": "root", "after_rewrite": "reload"}}
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", rules, nil,
		"CREATE TABLE loans (loan_id integer, year integer, note text, PRIMARY KEY (year, loan_id)) PARTITION BY LIST (year)",
		"CREATE TABLE loans_2025 PARTITION OF loans FOR VALUES IN (2025)", "CREATE TABLE loans_2026 (note text, year integer NOT NULL, loan_id integer NOT NULL, PRIMARY KEY (year, loan_id))",
		"ALTER TABLE loans ATTACH PARTITION loans_2026 FOR VALUES IN (2026)",
		"INSERT INTO loans SELECT n, 2025 + n % 2, 'a' FROM generate_series(1, 40) n")
	db := connect(t, sourceServer(t), name)
	run(t, db, "UPDATE loans SET note = 'b' WHERE loan_id < 10", "UPDATE loans SET year = 2026 WHERE loan_id = 2", "DELETE FROM loans WHERE loan_id = 3",
		"CREATE TABLE loans_2027 (loan_id integer NOT NULL, year integer NOT NULL, note text, PRIMARY KEY (year, loan_id))",
		"INSERT INTO loans_2027 VALUES (1, 2027, 'there before')", "ALTER TABLE loans ATTACH PARTITION loans_2027 FOR VALUES IN (2027)")
	part := func(name string) bool {
		for _, s := range i.status().Sources {
			for _, table := range s.Tables {
				for _, p := range table.Partitions {
					if p == name && table.State == "following" {
						return true
					}
				}
			}
		}
		return false
	}
	i.eventually("the new partition is there", func() bool { return part("public.loans_2027") })
	run(t, db, "INSERT INTO loans VALUES (2, 2027, 'in the new one')")
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "loans")
	require.Empty(t, ofTable(events, "public.loans_2026"))
	require.Len(t, ofTable(events, "public.loans", "void"), 1, "what is there already is not loaded again")
	require.Len(t, ofTable(events, "public.loans", "schema"), 1, "partitions in another order of columns are one version")
	loaded := func(n int) {
		i.eventually("it is loaded anew", func() bool {
			now, _ := i.table("public.loans")
			return now == "following" && len(ofTable(i.journal("circulation"), "public.loans", "loaded")) >= n
		})
		i.reached("circulation", db)
		proveJournal(t, i.journal("circulation")).equals(t, db, "loans")
	}
	run(t, db, "TRUNCATE loans_2025")
	loaded(3)
	run(t, db, "ALTER TABLE loans DETACH PARTITION loans_2026")
	loaded(4)
	run(t, db, "TRUNCATE loans")
	i.reached("circulation", db)
	require.Len(t, ofTable(i.journal("circulation"), "public.loans", "truncate"), 1, "all of it truncated is one event")
}

// TestAPartitionThatCameAndWent: while nobody captures, a table becomes a partition, rows are
// written through its root, and it leaves again. The catalogue knows nothing of it any more; its
// root is void where the first of those rows stands, and read again.
func TestAPartitionThatCameAndWent(t *testing.T) {
	t.Parallel()
	rules := []map[string]any{{"match": "loans", "partitions": "root"}, {"match": "holds", "partitions": "root"}, {"match": "came_loans"}, {"match": "never"}}
	columns := "(year integer, id integer, note text, PRIMARY KEY (year, id))"
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", rules, nil, "CREATE TABLE loans "+columns+" PARTITION BY LIST (year)", "CREATE TABLE loans_2025 PARTITION OF loans FOR VALUES IN (2025)",
		"CREATE TABLE holds (year integer, id integer, PRIMARY KEY (year, id)) PARTITION BY LIST (year)", "CREATE TABLE holds_2025 PARTITION OF holds FOR VALUES IN (2025)",
		"CREATE TABLE came_loans "+columns, "CREATE TABLE never "+columns, "INSERT INTO loans VALUES (2025, 1, 'a')", "INSERT INTO holds VALUES (2025, 1)", "INSERT INTO never VALUES (2025, 1, 'a')")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	run(t, db, "INSERT INTO loans VALUES (2025, 2, 'before')", "INSERT INTO never VALUES (2025, 2, 'as it was')", "ALTER TABLE loans ATTACH PARTITION came_loans FOR VALUES IN (2027)", "INSERT INTO loans VALUES (2027, 1, 'through the root')", "ALTER TABLE loans DETACH PARTITION came_loans",
		"CREATE TABLE came_holds (year integer, id integer, PRIMARY KEY (year, id))", "ALTER TABLE holds ATTACH PARTITION came_holds FOR VALUES IN (2027)", "INSERT INTO holds VALUES (2027, 1)", "ALTER TABLE holds DETACH PARTITION came_holds",
		"INSERT INTO loans VALUES (2025, 3, 'after')", "INSERT INTO never VALUES (2025, 3, 'as it was')")
	i.resume()
	i.reached("circulation", db)
	for _, table := range []string{"loans", "holds"} {
		i.eventually(table+" is read again", func() bool { return len(ofTable(i.journal("circulation"), "public."+table, "loaded")) == 2 })
	}
	events := i.journal("circulation")
	f := proveJournal(t, events)
	for _, table := range []string{"loans", "holds", "came_loans", "never"} {
		f.equals(t, db, table)
	}
	voids := ofTable(events, "public.loans", "void")
	require.Len(t, voids, 3, "the loads', and the one at the place")
	come, inserts := ofTable(events, "public.came_loans", "insert"), ofTable(events, "public.loans", "insert")
	require.Len(t, come, 1)
	require.Equal(t, come[0].Data.Transaction.ID, voids[1].Data.Transaction.ID, "in the transaction of the first such row")
	require.Len(t, inserts, 2)
	require.Less(t, inserts[0].offset(), voids[1].offset())
	require.Len(t, ofTable(events, "public.never", "void"), 1, "the load's")
}

// bag folds a table without a key: how often each row is there.
func bag(events []*event, table string) map[string]int {
	rows := make(map[string]int)
	add := func(image map[string]json.RawMessage, n int) {
		raw, _ := json.Marshal(image)
		if rows[string(raw)] += n; rows[string(raw)] == 0 {
			delete(rows, string(raw))
		}
	}
	for _, e := range events {
		switch {
		case e.Data.Table != table:
		case e.Data.Operation == "existing" || e.Data.Operation == "insert":
			add(e.Data.After, 1)
		case e.Data.Operation == "delete":
			add(e.Data.Before, -1)
		case e.Data.Operation == "update":
			add(e.Data.Before, -1)
			add(e.Data.After, 1)
		case e.Data.Operation == "truncate" || e.Data.Operation == "void":
			clear(rows)
		}
	}
	return rows
}

// TestATableWithoutAKeyIsLoaded while writers go on, equal rows among its rows.
func TestATableWithoutAKeyIsLoaded(t *testing.T) {
	t.Parallel()
	inRounds(t, aTableWithoutAKeyIsLoaded)
}

func aTableWithoutAKeyIsLoaded(t *testing.T, _ int) {
	i, name := captured(t, "source:\n  chunk_bytes: 4096\n", []map[string]any{{"match": "public.*"}}, nil,
		"CREATE TABLE visits (branch integer, door integer, at integer)", "ALTER TABLE visits REPLICA IDENTITY FULL",
		"INSERT INTO visits SELECT n % 7, n % 3, n % 50 FROM generate_series(1, 30000) n")
	source := sourceServer(t)
	db := connect(t, source, name)
	writer := connect(t, source, name)
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			statement := []string{"INSERT INTO visits VALUES (%d, 1, 1), (1, 1, 1)", "UPDATE visits SET door = %d WHERE ctid IN (SELECT ctid FROM visits ORDER BY random() LIMIT 20)",
				"DELETE FROM visits WHERE ctid IN (SELECT ctid FROM visits WHERE branch = %d LIMIT 5)"}[n%3]
			if _, err := writer.Exec(t.Context(), fmt.Sprintf(statement, n%7)); err != nil {
				return
			}
		}
	}()
	for range 3 {
		i.must(http.MethodPost, "/v1/sources/circulation/tables/public.visits/reload", nil, nil)
		i.settled("circulation", db)
	}
	close(stop)
	<-ended
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events)
	rows, err := db.Query(t.Context(), "SELECT branch, door, at, count(*) FROM visits GROUP BY 1, 2, 3")
	require.NoError(t, err)
	want := make(map[string]int)
	for rows.Next() {
		var branch, door, at, n int
		require.NoError(t, rows.Scan(&branch, &door, &at, &n))
		want[fmt.Sprintf(`{"at":%d,"branch":%d,"door":%d}`, at, branch, door)] = n
	}
	require.NoError(t, rows.Err())
	require.Equal(t, want, bag(events, "public.visits"))
	require.Len(t, ofTable(events, "public.visits", "loaded"), 1+3)
}

// TestLoadsOfAPart reads some rows of a table again, loads by key and by range
// while rows move, and ends a load that is all that was asked for.
func TestLoadsOfAPart(t *testing.T) {
	t.Parallel()
	i, name := captured(t, "source:\n  chunk_bytes: 8192\n", []map[string]any{{"match": "loans", "priority": 5}, {"match": "holds", "load_by": "key"}}, map[string]any{"load_sessions": 4},
		"CREATE TABLE loans (id integer PRIMARY KEY, branch integer, essay text)", "CREATE TABLE holds (id integer PRIMARY KEY, note text)",
		"INSERT INTO loans SELECT n, n % 5, CASE WHEN n % 20 = 0 THEN (SELECT string_agg(md5(n::text || k), '') FROM generate_series(1, 120) k) END FROM generate_series(1, 6000) n",
		"INSERT INTO holds SELECT n, 'a' FROM generate_series(1, 3000) n")
	db := connect(t, sourceServer(t), name)
	i.must(http.MethodPost, "/v1/sources/circulation/tables/public.loans/reload", map[string]string{"where": "branch = 3"}, nil)
	i.settled("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "loans")
	require.Len(t, ofTable(events, "public.loans", "existing"), 6000+1200)
	require.Len(t, ofTable(events, "public.loans", "void"), 1, "a part that is read again voids nothing")
	code, raw, err := i.call(http.MethodPost, "/v1/sources/circulation/tables/public.loans/reload", map[string]string{"where": "brnch = 3"})
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
	require.Contains(t, string(raw), `column \"brnch\" does not exist`)

	// Rows move on disk, with their large values left out of the log, while the
	// table is read by range; then the whole table is moved.
	writer := connect(t, sourceServer(t), name)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := range 60 {
			writer.Exec(t.Context(), "UPDATE loans SET branch = branch + 1 WHERE id % 60 = $1", n) //nolint:errcheck // the fold tells
			if n == 30 {
				writer.Exec(t.Context(), "VACUUM FULL loans") //nolint:errcheck // the fold tells
			}
		}
	}()
	for range 3 {
		i.must(http.MethodPost, "/v1/sources/circulation/tables/public.loans/reload", nil, nil)
		i.settled("circulation", db)
	}
	<-done
	i.reached("circulation", db)
	f := proveJournal(t, i.journal("circulation"))
	f.equals(t, db, "loans")
	f.equals(t, db, "holds")

	// Load only: the source pauses by itself and holds no log back.
	code, raw, err = i.call(http.MethodPut, "/v1/sources/circulation", ruled(sourceServer(t), name, []map[string]any{{"match": "holds"}}, map[string]any{"mode": "load-only"}), "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	loads := func() int { return len(ofTable(i.journal("circulation"), "public.holds", "loaded")) }
	for round := range 2 {
		if round > 0 {
			before := loads()
			run(t, db, "UPDATE holds SET note = 'b'")
			i.resume()
			i.eventually("it is loaded again", func() bool { return loads() > before })
		}
		i.eventually("the load ends by itself", func() bool {
			state, _ := i.table("public.holds")
			return state == "loaded" && i.status().Sources[0].Phase == "paused"
		})
		var slots int
		require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM pg_replication_slots WHERE database = current_database()").Scan(&slots))
		require.Zero(t, slots)
	}
	proveJournal(t, i.journal("circulation")).equals(t, db, "holds")
}

// TestFollowingFromAPosition takes up where somebody else's load ended.
func TestFollowingFromAPosition(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	dropSlotAtEnd(t, source)
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY)", "CREATE PUBLICATION prepared FOR TABLE loans", "SELECT pg_create_logical_replication_slot('rillmark_circulation', 'pgoutput')", "INSERT INTO loans VALUES (1)")
	var position string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT pg_current_wal_insert_lsn()::text").Scan(&position))
	run(t, db, "INSERT INTO loans VALUES (2)")
	i := newInstance(t, stateServer(t), "").start()
	d := ruled(source, name, []map[string]any{{"match": "loans"}}, map[string]any{"mode": "follow-only", "from_position": position})
	code, raw, err := i.call(http.MethodPost, "/v1/sources/circulation", d)
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, code)
	require.Contains(t, string(raw), "the slot that was made before that place")
	d["connection"].(map[string]any)["slot"], d["connection"].(map[string]any)["publication"] = "rillmark_circulation", "prepared"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.reached("circulation", db)
	require.Equal(t, []string{`{"id":2}`}, said(i.journal("circulation"), "insert"))
	d["from_position"] = "0/1"
	_, raw, err = i.call(http.MethodPost, "/v1/sources/other/check", d)
	require.NoError(t, err)
	require.True(t, strings.Contains(string(raw), "before that"), "%s", raw)
}
