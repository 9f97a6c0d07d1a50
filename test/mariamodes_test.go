package test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBModes: sources that only load, that run until they have caught up, and that
// follow from where somebody else's load ended; parts of tables that are loaded again, and
// trials that leave nothing behind.
func TestMariaDBModes(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	name, db := mariaDatabase(t, m, "CREATE TABLE works (id int PRIMARY KEY, title varchar(40), branch int)", "INSERT INTO works SELECT seq, concat('work ', seq), seq % 5 FROM seq_1_to_500")
	i := newInstance(t, stateServer(t), "").start()
	source := func(id string, more map[string]any) map[string]any {
		d := mariaSource(t, m, map[string]any{"match": name + ".works"})
		for key, value := range more {
			d[key] = value
		}
		i.must(http.MethodPost, "/v1/sources/"+id, d, nil)
		return d
	}
	say := func(args ...string) string {
		t.Helper()
		out, errs, code := i.cli(args...)
		require.Zero(t, code, "%v: %s%s", args, out, errs)
		return out
	}
	table := name + ".works"

	source("loads", map[string]any{"mode": "load-only"})
	for n := 1; n <= 2; n++ {
		require.Contains(t, say("source", "run", "loads"), "has caught up")
		require.Len(t, ofTable(i.journal("loads"), table, "existing"), 500*n)
	}
	mariaRun(t, db, "INSERT INTO works VALUES (501, 'late', 1)")
	require.Empty(t, ofTable(i.journal("loads"), table, "insert"), "it follows nothing")

	source("runs", nil)
	require.Contains(t, say("source", "run", "runs"), "has caught up")
	mariaRun(t, db, "UPDATE works SET title = 'changed' WHERE id = 501", "DELETE FROM works WHERE id = 500")
	require.Contains(t, say("source", "run", "runs"), "has caught up")
	require.Len(t, ofTable(i.journal("runs"), table, "update"), 1)
	require.Len(t, ofTable(i.journal("runs"), table, "delete"), 1)
	require.Contains(t, say("source", "run", "runs"), "nothing to do")
	proveJournal(t, i.journal("runs")).mariaEquals(t, db, name, "works")

	// A distributed transaction that was prepared before the first start, and decided after it.
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // the test ends
	xa := func(statements ...string) {
		t.Helper()
		for _, s := range statements {
			_, err := conn.ExecContext(t.Context(), s)
			require.NoError(t, err, s)
		}
	}
	xa("XA START 'early'", "INSERT INTO works VALUES (600, 'prepared before', 2)", "XA END 'early'", "XA PREPARE 'early'")
	var position string
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT @@gtid_binlog_pos").Scan(&position))
	source("follows", map[string]any{"mode": "follow-only", "from_position": position})
	source("whole", nil)
	for _, id := range []string{"follows", "whole"} {
		i.must(http.MethodPost, "/v1/sources/"+id+"/resume", nil, nil)
	}
	i.eventually("both follow", func() bool { return i.phaseOf("follows") == "running" && i.phaseOf("whole") == "running" })
	i.eventually("the load says what it waits for", func() bool {
		out, _, _ := i.cli("log")
		return strings.Contains(out, "its load waits for the server's next commit")
	})
	xa("XA COMMIT 'early'")
	mariaRun(t, db, "INSERT INTO works VALUES (601, 'after', 3)")
	for _, id := range []string{"follows", "whole"} {
		i.eventually("the journal of "+id+" has the rows", func() bool {
			came := make(map[string]bool)
			for _, e := range ofTable(i.journal(id), table, "insert", "existing") {
				came[string(e.Data.Key["id"])] = true
			}
			return came["601"] && (came["600"] || id == "follows")
		})
	}
	require.Empty(t, ofTable(i.journal("follows"), table, "existing", "loaded"))
	i.eventually("a row that was prepared before the place from which it follows makes the table stale", func() bool {
		for _, s := range i.status().Sources {
			if s.Name == "follows" {
				return s.Tables[0].State == "stale" && strings.Contains(s.Tables[0].Note, "distributed transaction")
			}
		}
		return false
	})
	proveJournal(t, i.journal("whole")).mariaEquals(t, db, name, "works")

	// A part of a table again.
	i.eventually("its load is done", func() bool {
		return len(ofTable(i.journal("whole"), table, "loaded")) > 0 && i.phaseOf("whole") == "running"
	})
	before, voids := len(ofTable(i.journal("whole"), table, "existing")), len(ofTable(i.journal("whole"), table, "void"))
	say("source", "reload", "whole", table, "--where", "branch = 3")
	i.eventually("the part has come", func() bool { return len(ofTable(i.journal("whole"), table, "existing")) > before })
	events := i.journal("whole")
	var part int
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT count(*) FROM works WHERE branch = 3").Scan(&part))
	require.Len(t, ofTable(events, table, "existing"), before+part)
	require.Len(t, ofTable(events, table, "void"), voids, "a part that is read again voids nothing")
	_, errs, code := i.cli("source", "reload", "whole", table, "--where", "brnch = 3")
	require.NotZero(t, code)
	require.Contains(t, errs, "Unknown column 'brnch'")

	for _, wrong := range []string{"0-1", "first", "0-1-99999999"} {
		d := mariaSource(t, m, map[string]any{"match": table})
		d["mode"], d["from_position"] = "follow-only", wrong
		code, raw, err := i.call(http.MethodPost, "/v1/sources/wrong/check", d)
		require.NoError(t, err)
		if code == http.StatusOK {
			require.Contains(t, string(raw), `"missing"`, "%s: %s", wrong, raw)
		}
	}
	require.Contains(t, say("source", "try", "whole", "--for", "1s"), "nothing is left behind")
	var sessions int
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT count(*) FROM information_schema.processlist WHERE command LIKE 'Binlog Dump%'").Scan(&sessions))
	require.Equal(t, 2, sessions, "the two sources that run; the trial has gone")
}

// TestMariaDBShortImages: sessions that log less than whole rows. What consumers have is the
// table, or the table is stale by name.
func TestMariaDBShortImages(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	database, db := mariaDatabase(t, m, "CREATE TABLE named (id int PRIMARY KEY, a int DEFAULT 5, b text)", "CREATE TABLE lacking (id int PRIMARY KEY, a int DEFAULT 5, b text, c int NOT NULL DEFAULT 7)",
		"CREATE TABLE filtered (id int PRIMARY KEY, shown bool NOT NULL, b text)", "CREATE TABLE keyless (id int, a int, b text)",
		"INSERT INTO named VALUES (1, 1, 'x'), (2, 2, 'y'), (3, 3, 'z')", "INSERT INTO filtered VALUES (1, true, 'in'), (2, false, 'out'), (3, true, 'in')")
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".filtered", "filter": "shown != 0"}, map[string]any{"match": database + ".*"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it goes back to the pool
	state := func(table string) (state, note string) { return i.table(database + "." + table) }
	for n, image := range []string{"MINIMAL", "NOBLOB"} {
		for _, statement := range []string{"SET binlog_row_image = " + image,
			"INSERT INTO named VALUES (%d1, NULL, ''), (%d2, 2, 'long')", "UPDATE named SET a = 6 WHERE id = %d1", "UPDATE named SET b = 'longer' WHERE id = %d2", "UPDATE named SET id = %d3 WHERE id = %d2", "UPDATE named SET a = 9 WHERE id = 1", "DELETE FROM named WHERE id = 2",
			"INSERT INTO keyless VALUES (1, 1, 'x'), (2, 2, 'y')", "UPDATE keyless SET a = 3 WHERE id = 1", "DELETE FROM keyless WHERE id = 2",
			"UPDATE filtered SET shown = false WHERE id = 3"} {
			_, err := conn.ExecContext(t.Context(), strings.ReplaceAll(statement, "%d", fmt.Sprint(n+1)))
			require.NoError(t, err, statement)
		}
		i.mariaReached("catalogue", db)
		proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "named")
		for _, table := range []string{"named", "keyless", "filtered", "lacking"} {
			found, _ := state(table)
			require.Equal(t, "following", found, table)
		}
		log, err := os.ReadFile(i.logFile()) // the status may be half a second old
		require.NoError(t, err)
		require.Equal(t, 2*n, strings.Count(string(log), "event=table-stale"))
		for _, statement := range []string{"INSERT INTO lacking (id) VALUES (%d)", "UPDATE filtered SET shown = true WHERE id = 2"} {
			_, err := conn.ExecContext(t.Context(), strings.ReplaceAll(statement, "%d", fmt.Sprint(n+1)))
			require.NoError(t, err, statement)
		}
		for _, table := range []string{"lacking", "filtered"} {
			i.eventually(table+" is stale", func() bool {
				found, note := state(table)
				return found == "stale" && strings.Contains(note, "binlog_row_image")
			})
			i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+database+"."+table+"/reload", nil, nil)
			i.eventually(table+" follows", func() bool {
				found, _ := state(table)
				return found == "following"
			})
		}
		i.mariaReached("catalogue", db)
		proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "lacking")
		mariaRun(t, db, "UPDATE filtered SET shown = (id <> 2)")
	}
}

// TestMariaDBSequences: the log has a sequence's numbers as rows of a table, which it is not.
func TestMariaDBSequences(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE loans (id int PRIMARY KEY, n int)", "CREATE SEQUENCE before_us")
	mariaRun(t, db, "CREATE SEQUENCE numbers START WITH 5", "SELECT NEXTVAL(numbers)", "SELECT NEXTVAL(before_us)", "ALTER SEQUENCE numbers RESTART 100", "SELECT SETVAL(numbers, 200)", "INSERT INTO loans VALUES (NEXTVAL(numbers), 1)",
		"CREATE TABLE later (id int PRIMARY KEY DEFAULT (NEXTVAL(numbers)), n int)", "INSERT INTO later (n) VALUES (1), (2)", "ALTER TABLE later ALTER id DROP DEFAULT", "RENAME TABLE numbers TO digits", "SELECT NEXTVAL(digits)", "CREATE OR REPLACE SEQUENCE digits", "SELECT NEXTVAL(digits)", "DROP SEQUENCE before_us",
		"DROP TABLE digits", "CREATE TABLE digits (next_not_cached_value int, minimum_value int, maximum_value int, start_value int, increment int, cache_size int, cycle_option int, cycle_count int)", "INSERT INTO digits VALUES (1, 2, 3, 4, 5, 6, 7, 8)")
	i.mariaReached("catalogue", db)
	events := i.journal("catalogue")
	f := proveJournal(t, events)
	f.mariaEquals(t, db, database, "loans")
	f.mariaEquals(t, db, database, "later")
	require.Empty(t, ofTable(events, database+".numbers"))
	require.Empty(t, ofTable(events, database+".before_us"))
	require.Len(t, ofTable(events, database+".digits", "insert"), 1, "a table that only looks like one")
}

// TestMariaDBNamesInAnyCase: a server that keeps names of tables in lower case still logs its
// statements as they were written, and names of columns are the same in any case everywhere.
func TestMariaDBNamesInAnyCase(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, map[string]string{"lower-case-table-names": "1"})
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE Loans (id int PRIMARY KEY, n text, m int)", "INSERT INTO loans VALUES (1, 'a', 1)")
	reloads := func(table string) { // what was rewritten is loaded anew on request alone
		i.eventually(table+" is stale", func() bool { state, _ := i.table(database + "." + table); return state == "stale" })
		i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+database+"."+table+"/reload", nil, nil)
		i.eventually(table+" follows", func() bool { state, _ := i.table(database + "." + table); return state == "following" })
	}
	same := func(tables ...string) {
		t.Helper()
		i.mariaReached("catalogue", db)
		f := proveJournal(t, i.journal("catalogue"))
		for _, table := range tables {
			f.mariaEquals(t, db, database, table)
		}
	}
	mariaRun(t, db, "INSERT INTO loans VALUES (2, 'a', 2)", "TRUNCATE TABLE Loans", "INSERT INTO LOANS VALUES (3, 'c', 3)")
	same("loans")
	mariaRun(t, db, "CREATE TABLE Works (id int PRIMARY KEY, n text)", "INSERT INTO WORKS VALUES (1, 'x')", "RENAME TABLE WORKS TO Books", "INSERT INTO books VALUES (2, 'y')", "TRUNCATE Books", "INSERT INTO BOOKS VALUES (3, 'z')")
	i.mariaReached("catalogue", db)
	i.eventually("books is loaded", func() bool { state, _ := i.table(database + ".books"); return state == "following" })
	same("loans", "books")
	for n, statement := range []string{"ALTER TABLE LoanS RENAME COLUMN N TO note", "ALTER TABLE loans CHANGE NOTE Note text, CHANGE M number int", "ALTER TABLE loans MODIFY NUMBER bigint", "ALTER TABLE loans CHANGE nUmber other bigint, CHANGE nOte number text"} {
		mariaRun(t, db, statement, fmt.Sprintf("INSERT INTO loans VALUES (%d, 'd', 4)", n+10))
		same("loans")
	}
	mariaRun(t, db, "ALTER TABLE loans RENAME COLUMN number TO other, RENAME COLUMN other TO note", "INSERT INTO loans VALUES (14, 'd', 4)")
	same("loans")
	state, _ := i.table(database + ".loans")
	require.Equal(t, "following", state)
	// Another column under the name of one that was dropped, at once and while nobody reads.
	mariaRun(t, db, "ALTER TABLE loans DROP COLUMN note, ADD COLUMN note text", "INSERT INTO loans VALUES (7, 'g', 7)")
	i.mariaReached("catalogue", db)
	reloads("loans")
	same("loans")
	i.pause("catalogue")
	mariaRun(t, db, "ALTER TABLE loans DROP COLUMN NOTE", "ALTER TABLE loans ADD COLUMN note text", "INSERT INTO loans VALUES (8, 'h', 8)")
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaReached("catalogue", db)
	reloads("loans")
	same("loans")
	mariaRun(t, db, "DROP TABLE BookS")
	i.mariaReached("catalogue", db)
	i.eventually("the dropped table is gone", func() bool { state, _ := i.table(database + ".books"); return state == "gone" || state == "" })
}
