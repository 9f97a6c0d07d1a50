package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTypesInMariaDB: every value of PostgreSQL's types is in MariaDB what it is in an event,
// or its row is a dead letter: none is changed in silence.
func TestTypesInMariaDB(t *testing.T) {
	t.Parallel()
	statements := slices.Clone(typesOfOurOwn)
	for n, v := range everyType {
		statements = append(statements, fmt.Sprintf("CREATE TABLE v%d (id integer PRIMARY KEY, v %s)", n, v.kind), fmt.Sprintf("INSERT INTO v%d VALUES (1, %s)", n, v.sql))
	}
	i, name := begin(t, "", statements...)
	db := connect(t, sourceServer(t), name)
	to := targetOf(t, "mariadb")
	s := &stage{instance: i}
	s.keeps("facts", to, map[string]any{"schema": to.database})
	i.resume()
	i.settled("circulation", db)
	for n := range everyType {
		run(t, db, fmt.Sprintf("INSERT INTO v%d SELECT 2, v FROM v%[1]d", n))
	}
	i.reached("circulation", db)
	i.caughtUp("facts")
	refused := make(map[string]bool)
	for _, item := range i.letters("facts").Items {
		refused[item.Table] = true
	}
	var notHeld []string
	for n, v := range everyType {
		table := fmt.Sprintf("v%d", n)
		if refused["public."+table] {
			notHeld = append(notHeld, v.kind+" "+v.sql)
			require.Equal(t, []string{"0"}, to.digest(t, "SELECT count(*) FROM "+table), "%s %s", v.kind, v.sql)
			continue
		}
		column := "v"
		if v.kind == "bytea" {
			column = "to_base64(v)"
		}
		for _, got := range to.digest(t, "SELECT "+column+" FROM "+table) {
			require.Equal(t, plain(v.json), plain(asJSON(v.kind, v.json, got)), "%s %s", v.kind, v.sql)
		}
		require.Len(t, to.digest(t, "SELECT v FROM "+table), 2, "%s %s", v.kind, v.sql)
	}
	// Many rows go another way, and are the same.
	for n := range everyType {
		if !refused[fmt.Sprintf("public.v%d", n)] {
			run(t, db, fmt.Sprintf("INSERT INTO v%d SELECT i, (SELECT v FROM v%[1]d WHERE id = 1) FROM generate_series(10, 260) i", n))
		}
	}
	i.reached("circulation", db)
	i.caughtUp("facts")
	require.Equal(t, []string{"1"}, to.digest(t, "SELECT variable_value > 0 FROM information_schema.global_status WHERE variable_name = 'COM_LOAD'"))
	for n, v := range everyType {
		if table := fmt.Sprintf("v%d", n); !refused["public."+table] {
			require.Equal(t, []string{"253|1"}, to.digest(t, "SELECT count(*), count(DISTINCT hex(v)) FROM "+table), "%s %s", v.kind, v.sql)
		}
	}
	require.Equal(t, []string{"double precision '-Infinity'", "double precision 'NaN'", "date '0044-03-15 BC'", "date 'infinity'", "timestamp '-infinity'", "timestamptz '12026-01-01 00:00:00+00'",
		"timestamptz '0044-03-15 12:00:00+00 BC'", "timestamp '0044-03-15 12:00:00 BC'"}, notHeld, "only what MariaDB has no value for")
}

// asJSON is a text of the target's as an event would have it.
func asJSON(kind, like, text string) string {
	if strings.HasPrefix(like, `"`) {
		quoted, _ := json.Marshal(text)
		if strings.HasSuffix(kind, "[]") {
			return text // of a column of JSON
		}
		return string(quoted)
	}
	return text
}

// plain writes a JSON value in one way, numbers as they read, and times without what their
// type says already.
func plain(text string) string {
	var v any
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return text
	}
	switch v := v.(type) {
	case bool:
		return map[bool]string{true: "1", false: "0"}[v]
	case json.Number:
		if f, err := strconv.ParseFloat(v.String(), 64); err == nil && strings.ContainsAny(v.String(), ".eE") {
			return strconv.FormatFloat(f, 'g', -1, 64)
		}
		return v.String()
	case string:
		return strings.TrimSuffix(strings.Replace(v, "T", " ", 1), "Z")
	}
	again, _ := json.Marshal(v)
	return string(again)
}

// TestDefinitionsInMariaDB: changes of a table's definition are followed at their place, where
// each statement commits by itself; a kill between two leaves nothing half done.
func TestDefinitionsInMariaDB(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id bigint PRIMARY KEY, a integer NOT NULL, b text, gone text NOT NULL, due date)",
		"INSERT INTO loans SELECT i, i, 'b' || i, 'g', NULL FROM generate_series(1, 500) i")
	source := sourceServer(t)
	db := connect(t, source, name)
	to := targetOf(t, "mariadb")
	s := &stage{instance: i, source: postgresSide(t, source, name)}
	s.keeps("desk", to, map[string]any{"schema": to.database, "dropped_columns": "drop"})
	s.keeps("fixed", to, map[string]any{"schema": to.database + "_fixed", "definitions": "fixed"})
	i.resume()
	i.settled("circulation", db)
	same := func(what, columns string) {
		t.Helper()
		i.reached("circulation", db)
		i.settled("circulation", db)
		i.caughtUp("desk")
		sameRows(t, s.source.digest(t, "SELECT "+columns+" FROM loans"), to.digest(t, "SELECT "+columns+" FROM loans"), what)
	}
	same("after the load", "loan_id, a, b, gone, due")
	needed := i.outletIs("fixed", "holds", func(o outletStatus) bool { return o.Phase == "failed" && o.Code == "definition-needed" }).Error
	_, statements, _ := strings.Cut(needed, "`: ")
	to.run(strings.Split(statements, "; ")...)
	i.must(http.MethodPost, "/v1/outlets/fixed/resume", nil, nil)
	i.caughtUp("fixed")
	require.Len(t, to.digest(t, "SELECT * FROM "+to.database+"_fixed.loans"), 500)

	run(t, db, "ALTER TABLE loans ADD COLUMN c varchar(20) DEFAULT 'x'", "INSERT INTO loans SELECT i, i, 'b', 'g', '2026-01-01' FROM generate_series(1001, 1300) i")
	i.reached("circulation", db)
	_, errs, code := i.cli("source", "reload", "circulation", "public.loans")
	require.Zero(t, code, errs)
	same("a column with a default", "loan_id, a, b, gone, due, c")
	run(t, db, "ALTER TABLE loans RENAME COLUMN b TO note", "UPDATE loans SET note = note || '!' WHERE loan_id % 3 = 0")
	same("a renamed column", "loan_id, a, note, gone, due, c")
	run(t, db, "ALTER TABLE loans RENAME COLUMN loan_id TO number", "UPDATE loans SET a = a + 1 WHERE number % 7 = 0", "UPDATE loans SET number = 4000 WHERE number = 400", "DELETE FROM loans WHERE number = 401", "INSERT INTO loans VALUES (402, 1, 'b', 'g') ON CONFLICT (number) DO UPDATE SET a = 77")
	same("a renamed key", "number, a, note, gone, due, c")
	run(t, db, "ALTER TABLE loans RENAME COLUMN number TO loan_id", "DELETE FROM loans WHERE loan_id = 403")
	same("its former name", "loan_id, a, note, gone, due, c")
	for range 3 {
		// Two columns that swap their names, and the service is killed around it.
		run(t, db, "BEGIN", "UPDATE loans SET a = a + 1 WHERE loan_id < 20", "ALTER TABLE loans RENAME COLUMN note TO x", "ALTER TABLE loans RENAME COLUMN gone TO note", "ALTER TABLE loans RENAME COLUMN x TO gone", "UPDATE loans SET a = a + 1 WHERE loan_id > 1290", "COMMIT")
		i.stop(syscall.SIGKILL)
		i.start()
		same("two columns that swap their names", "loan_id, a, note, gone, due, c")
	}
	run(t, db, "ALTER TABLE loans DROP COLUMN c", "DELETE FROM loans WHERE loan_id % 5 = 0", "INSERT INTO loans (loan_id, a, gone, note) VALUES (5000, 1, 'g', 'n')")
	same("a dropped column", "loan_id, a, note, gone, due")
	run(t, db, "ALTER TABLE loans ALTER COLUMN a TYPE numeric(20,3)", "UPDATE loans SET a = 12345678901234567.125 WHERE loan_id = 2", "ALTER TABLE loans ALTER COLUMN note DROP NOT NULL, ALTER COLUMN gone DROP NOT NULL", "INSERT INTO loans (loan_id, a) VALUES (5001, 1)")
	same("a wider type", "loan_id, a, note, gone, due")
	run(t, db, "TRUNCATE loans", "INSERT INTO loans (loan_id, a) SELECT i, i FROM generate_series(1, 2000) i")
	same("a truncate", "loan_id, a, note, gone, due")
	run(t, db, "ALTER TABLE loans DROP CONSTRAINT loans_pkey, ADD PRIMARY KEY (a)", "UPDATE loans SET loan_id = 1 WHERE a BETWEEN 10 AND 20", "UPDATE loans SET a = -a WHERE a > 1900", "DELETE FROM loans WHERE a = 11")
	same("another key", "loan_id, a, note, gone, due")
	require.Equal(t, []string{"a"}, to.digest(t, "SELECT column_name FROM information_schema.statistics WHERE table_schema = '"+to.database+"' AND table_name = 'loans' AND index_name = 'PRIMARY'"))

	// A reload never shows an empty table, and takes out what is not in the source.
	to.run("INSERT INTO loans (loan_id, a) VALUES (-1, -5000)", "DELETE FROM loans WHERE a = 7", "UPDATE loans SET note = 'wrong' WHERE a = 8")
	_, errs, code = i.cli("source", "reload", "circulation", "public.loans")
	require.Zero(t, code, errs)
	i.eventually("the reload is over there, too", func() bool {
		n := to.digest(t, "SELECT count(*) FROM loans")[0]
		require.Contains(t, []string{"1999", "2000"}, n)
		return len(to.digest(t, "SELECT 1 FROM loans WHERE a IN (-5000, 7)")) == 1 && to.digest(t, "SELECT count(*) FROM loans WHERE a = -5000")[0] == "0"
	})
	same("a reload", "loan_id, a, note, gone, due")
	i.eventually("nothing is left of it", func() bool {
		return len(to.digest(t, "SELECT table_name FROM information_schema.tables WHERE table_name LIKE 'loading%'")) == 0
	})
}

// TestTablesThatRefuseInMariaDB: rows that a table does not take, values that the server would
// only change, tables that cannot be kept, and what the check says.
func TestTablesThatRefuseInMariaDB(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable, "CREATE TABLE fines (fine_id integer PRIMARY KEY, amount numeric, code integer UNIQUE DEFERRABLE)", "CREATE TABLE marks (mark text PRIMARY KEY)")
	source := sourceServer(t)
	db := connect(t, source, name)
	to := targetOf(t, "mariadb")
	s := &stage{instance: i, source: postgresSide(t, source, name)}
	to.run("CREATE TABLE desk (id bigint PRIMARY KEY, note varchar(8) CHECK (note <> 'poison'), seen datetime DEFAULT now()) ENGINE = MyISAM", "CREATE TABLE fines (fine_id integer PRIMARY KEY, amount decimal(10,2), code integer UNIQUE, seen varchar(3) DEFAULT 'no')",
		"CREATE TABLE marks (mark varchar(100) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci PRIMARY KEY)")
	s.keeps("desk", to, map[string]any{"schema": to.database}, map[string]any{"tables": []string{"desk", "fines"}})
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO desk VALUES (1, 'one')")
	holds := func(outlet, says string) {
		t.Helper()
		require.Contains(t, i.outletIs(outlet, "holds", func(o outletStatus) bool { return o.Phase == "failed" }).Error, says)
	}
	again := func(outlet string) {
		t.Helper()
		_, errs, code := i.cli("outlet", "resume", outlet)
		require.Zero(t, code, errs)
	}
	holds("desk", "a table of MyISAM, which has no transactions")
	to.run("ALTER TABLE desk ENGINE = InnoDB", "CREATE TRIGGER stamp BEFORE INSERT ON desk FOR EACH ROW SET NEW.note = concat(NEW.note, '?')")
	again("desk")
	holds("desk", "has triggers (stamp)")
	to.run("DROP TRIGGER stamp")
	again("desk")
	// One row is refused, and those of its key wait; all others arrive, with the transaction.
	run(t, db, "BEGIN", "INSERT INTO desk SELECT n, 'good' FROM generate_series(10, 300) n", "INSERT INTO desk VALUES (400, 'poison')", "UPDATE desk SET note = 'fine' WHERE id = 400", "UPDATE desk SET note = 'much too long' WHERE id = 20", "COMMIT",
		"INSERT INTO fines VALUES (1000, 1.005, 5)")
	i.reached("circulation", db)
	i.caughtUp("desk")
	l := i.letters("desk")
	require.EqualValues(t, 3, l.Dead, "%+v", l)
	require.EqualValues(t, 1, l.Behind)
	require.Contains(t, l.Items[0].Error, "CONSTRAINT")
	require.Contains(t, fmt.Sprint(l.Items), "a value would not be kept as it is: Data truncated for column 'amount'")
	require.Equal(t, []string{"292"}, to.digest(t, "SELECT count(*) FROM desk"))
	to.run("ALTER TABLE desk MODIFY note text", "ALTER TABLE fines MODIFY amount decimal(10,3)")
	_, errs, code := i.cli("dead-letter", "retry", "desk", "--all")
	require.Zero(t, code, errs)
	i.eventually("there are no dead letters any more", func() bool { l := i.letters("desk"); return l.Dead+l.Behind == 0 })
	require.Equal(t, []string{"20|much too long", "400|fine"}, to.digest(t, "SELECT id, note FROM desk WHERE id IN (20, 400)"))
	require.Equal(t, []string{"1.005"}, to.digest(t, "SELECT amount FROM fines"))
	// Values that are unique at the end of a transaction, and not within it; what the table
	// has besides stays.
	run(t, db, "INSERT INTO fines SELECT n, n, -n FROM generate_series(1, 300) n", "UPDATE fines SET code = -301 - code WHERE code < 0")
	i.reached("circulation", db)
	i.caughtUp("desk")
	to.run("UPDATE fines SET seen = 'yes' WHERE fine_id > 290")
	run(t, db, "UPDATE fines SET code = -3 - code WHERE fine_id IN (299, 300)")
	i.reached("circulation", db)
	i.caughtUp("desk")
	require.Zero(t, i.letters("desk").Dead)
	sameRows(t, s.source.digest(t, "SELECT fine_id, code FROM fines"), to.digest(t, "SELECT fine_id, code FROM fines"))
	require.Equal(t, []string{"11"}, to.digest(t, "SELECT count(*) FROM fines WHERE seen = 'yes'"))

	// Keys that the table takes for equal; two outlets into one table.
	s.keeps("marks", to, map[string]any{"schema": to.database}, map[string]any{"tables": []string{"marks"}})
	run(t, db, "INSERT INTO marks VALUES ('a'), ('A'), ('a ')")
	holds("marks", "takes different keys for equal")
	to.run("ALTER TABLE marks MODIFY mark varchar(100) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin")
	again("marks")
	i.reached("circulation", db)
	i.caughtUp("marks")
	require.Equal(t, []string{"A", "a", "a "}, to.digest(t, "SELECT mark FROM marks"))
	s.keeps("second", to, map[string]any{"schema": to.database}, map[string]any{"tables": []string{"desk"}})
	holds("second", "the outlet desk writes")

	// The user of a check that may nothing.
	port := fmt.Sprint(to.at["mariadb"].(map[string]any)["port"])
	to.run("CREATE USER bare@'%' IDENTIFIED BY 'geheim'")
	out, _, code := i.cli("destination", "check", "bare", "--kind", "mariadb", "--host", "127.0.0.1", "--port", port, "--user", "bare", "--password", "geheim", "--tls-mode", "disable")
	require.NotZero(t, code)
	for _, says := range []string{"the user lacks SELECT, INSERT", "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, CREATE TEMPORARY TABLES ON `rillmark`.* TO 'bare'@'%'", "no tables can be made"} {
		require.Contains(t, out, says)
	}
	_, errs, code = i.cli("destination", "check", "bare", "--kind", "mariadb", "--host", "127.0.0.1", "--port", port, "--user", "bare", "--password", "wrong", "--tls-mode", "disable")
	require.NotZero(t, code)
	require.NotContains(t, errs, "wrong")
}

// TestAlterationsInTargets: outlets to both kinds of databases go on behind what an ALTER makes of
// a table of MariaDB, and have the rows that come after it.
func TestAlterationsInTargets(t *testing.T) {
	t.Parallel()
	alterations := []string{
		"ADD COLUMN more int NOT NULL DEFAULT 7", "ADD COLUMN more int AS (branch + 1) VIRTUAL", "ADD COLUMN more int AS (branch + 1) STORED", "ADD COLUMN more json DEFAULT '{}'", "ADD COLUMN more timestamp(6) DEFAULT current_timestamp(6)", "ADD COLUMN more uuid DEFAULT uuid()",
		"DROP COLUMN card", "RENAME COLUMN id TO number", "CHANGE note remark varchar(80) NOT NULL", "MODIFY note varchar(40) INVISIBLE DEFAULT 'n'", "MODIFY note varchar(40) FIRST", "MODIFY branch varchar(20)", "MODIFY branch bigint", "MODIFY card int",
		"MODIFY state enum('fine', 'worn', 'lost')", "MODIFY state set('fine', 'worn', 'lost')", "MODIFY fee decimal(10,3)", "MODIFY fee double", "MODIFY note text NOT NULL", "MODIFY note longblob NOT NULL", "MODIFY id int unsigned", "MODIFY id varchar(20)",
		"DROP PRIMARY KEY, ADD PRIMARY KEY (id, note)", "ADD UNIQUE (note)", "CONVERT TO CHARACTER SET latin1", "ADD PERIOD FOR lent (since, due)",
	}
	var setUp []string
	for n := range alterations {
		setUp = append(setUp, fmt.Sprintf("CREATE TABLE t%d (id bigint PRIMARY KEY, branch int, note varchar(40) NOT NULL, fee decimal(8,2), state enum('fine', 'worn'), card varchar(40), since date NOT NULL, due date NOT NULL)", n),
			fmt.Sprintf("INSERT INTO t%d VALUES (1, 1, 'one', 2.5, 'fine', '77', '2026-01-01', '2026-02-01'), (2, 2, 'two', 2.5, 'fine', '12', '2026-01-01', '2026-02-01')", n))
	}
	i, database, db := mariaFollowed(t, mariaServer(t, nil), "", append([]string{"CREATE TABLE first (id int PRIMARY KEY)"}, setUp...)...)
	targets := map[string]*side{"there": targetOf(t, "postgresql"), "here": targetOf(t, "mariadb")}
	in := map[string]string{"there": "kept", "here": targets["here"].database}
	var outlets []string
	for name, to := range targets {
		i.must(http.MethodPost, "/v1/destinations/"+name, to.at, nil)
		for n := range alterations {
			outlets = append(outlets, fmt.Sprintf("%s%d", name, n))
			i.must(http.MethodPost, "/v1/outlets/"+outlets[len(outlets)-1], map[string]any{"source": "catalogue", "destination": name, "tables": []string{fmt.Sprintf("%s.t%d", database, n)}, to.engine: map[string]any{"schema": in[name]},
				"retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}, nil)
		}
	}
	i.mariaReached("catalogue", db)
	i.caughtUp(outlets...)
	for n, alteration := range alterations {
		mariaRun(t, db, fmt.Sprintf("ALTER TABLE t%d %s", n, alteration), fmt.Sprintf("UPDATE t%d SET state = 'worn'", n), fmt.Sprintf("DELETE FROM t%d LIMIT 1", n))
	}
	i.mariaReached("catalogue", db)
	i.caughtUp(outlets...)
	for n, alteration := range alterations {
		for name, to := range targets {
			require.Zero(t, i.letters(fmt.Sprintf("%s%d", name, n)).Dead, alteration)
			require.Equal(t, []string{"worn|2026-02-01"}, to.digest(t, fmt.Sprintf("SELECT state, due FROM %s.t%d", in[name], n)), "%s, %s", alteration, name)
		}
	}
}
