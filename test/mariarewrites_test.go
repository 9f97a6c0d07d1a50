package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBRewrites: what an ALTER does to values of rows is in no event. Where it may have
// changed any, in a session that lets values be cut or in a strict one, the table is stale by
// name; where it cannot have, the table goes on.
func TestMariaDBRewrites(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, _ := mariaFollowed(t, m, "", "CREATE TABLE first (id int PRIMARY KEY)")
	for _, mode := range []string{"", "STRICT_TRANS_TABLES"} {
		mariaRun(t, mariaConnect(t, m, ""), "SET GLOBAL sql_mode = '"+mode+"'")
		db := mariaConnect(t, m, database)
		var tables []string
		var stale []bool
		for n, one := range []struct{ column, value, alter, stale string }{ // stale in no, every or only a lossy session
			{"varchar(20)", "'abc  '", "MODIFY v varchar(4)", "lossy"}, {"varchar(20)", "'abc  '", "MODIFY v char(20)", "every"}, {"varchar(20)", "'abc'", "MODIFY v varchar(30)", "no"}, {"varchar(20)", "'abc'", "MODIFY v text", "no"},
			{"char(20)", "'abc  '", "MODIFY v varchar(20)", "no"}, {"text", "'abc'", "MODIFY v longtext", "no"}, {"longtext", "'abc'", "MODIFY v tinytext", "lossy"}, {"varchar(80)", "'abc'", "MODIFY v tinytext", "lossy"},
			{"varchar(20) CHARACTER SET utf8mb4", "'Łódź'", "MODIFY v varchar(20) CHARACTER SET latin1", "lossy"}, {"varchar(20) CHARACTER SET utf8mb4", "'Łódź'", "CONVERT TO CHARACTER SET latin1", "lossy"},
			{"varchar(20) CHARACTER SET latin1", "'abc'", "CONVERT TO CHARACTER SET utf8mb4", "no"}, {"int", "NULL", "MODIFY v int NOT NULL", "lossy"}, {"decimal(10,2)", "1234.5", "MODIFY v decimal(4,2)", "lossy"}, {"decimal(10,2)", "1234.5", "MODIFY v decimal(12,2)", "no"},
			{"float", "0.1", "MODIFY v double", "every"}, {"int", "7", "MODIFY v bigint", "no"}, {"enum('a','b')", "'a'", "MODIFY v enum('b')", "lossy"}, {"enum('a','b')", "'a'", "MODIFY v enum('z','a','b')", "no"}, {"set('a','b')", "'a'", "MODIFY v set('a','b','c')", "no"},
			{"varbinary(20)", "'abcdef'", "MODIFY v varbinary(2)", "lossy"}, {"int AS (id * 2) STORED", "DEFAULT", "MODIFY v int AS (id * 3) STORED", "every"}, {"int AS (id * 2) VIRTUAL", "DEFAULT", "MODIFY v int AS (id * 3) VIRTUAL", "every"}, {"int", "7", "ALTER v SET DEFAULT 8", "no"},
		} {
			table := fmt.Sprintf("t%d_%d", len(mode), n)
			mariaRun(t, db, "CREATE TABLE "+table+" (id int PRIMARY KEY, v "+one.column+")", "INSERT INTO "+table+" VALUES (1, "+one.value+")")
			i.mariaReached("catalogue", db)
			alter := fmt.Sprintf("ALTER TABLE %s %s", table, one.alter)
			if _, err := db.ExecContext(t.Context(), alter); err != nil {
				require.Equal(t, "STRICT_TRANS_TABLES/lossy", mode+"/"+one.stale, "%s: %v", alter, err)
				mariaRun(t, db, "DELETE FROM "+table, alter)
			}
			i.mariaReached("catalogue", db)
			tables, stale = append(tables, table), append(stale, one.stale == "every" || one.stale == "lossy" && mode == "")
		}
		f := proveJournal(t, i.journal("catalogue"))
		for n, table := range tables {
			want := map[bool]string{true: "stale", false: "following"}[stale[n]]
			i.eventually(table+" is "+want, func() bool { state, _ := i.table(database + "." + table); return state == want }, func() string {
				state, note := i.table(database + "." + table)
				return strings.Join([]string{mode, table, state, note}, " ")
			})
			if !stale[n] {
				f.mariaEquals(t, db, database, table)
			}
		}
	}
}

// TestMariaDBRowsGoUnseen: statements that take rows, or bring some, and log none of them. Each
// table is read again, and equals its events.
func TestMariaDBRowsGoUnseen(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	const parts = " PARTITION BY RANGE (id) (PARTITION low VALUES LESS THAN (10), PARTITION high VALUES LESS THAN (100))"
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE doubled (id int PRIMARY KEY, v int)", "CREATE TABLE versioned (id int PRIMARY KEY, v int) WITH SYSTEM VERSIONING", "CREATE TABLE repaired (id int PRIMARY KEY, v int) ENGINE = MyISAM",
		"CREATE TABLE cut (id int PRIMARY KEY, v int)"+parts, "CREATE TABLE dropped (id int PRIMARY KEY, v int)"+parts, "CREATE TABLE exchanged (id int PRIMARY KEY, v int)"+parts, "CREATE TABLE other (id int PRIMARY KEY, v int)",
		"CREATE TABLE fleeting (id int PRIMARY KEY, v int) ENGINE = MEMORY", "CREATE TABLE sound (id int PRIMARY KEY, v int)")
	tables := []string{"doubled", "versioned", "repaired", "cut", "dropped", "exchanged", "other", "fleeting", "sound"}
	for _, table := range tables {
		mariaRun(t, db, "INSERT INTO "+table+" VALUES (1, 1), (20, 1)", "UPDATE "+table+" SET v = 2 WHERE id = 1")
	}
	mariaRun(t, db, "UPDATE doubled SET v = 1", "DELETE FROM other WHERE id = 20")
	i.mariaReached("catalogue", db)
	mariaRun(t, db, "ALTER IGNORE TABLE doubled ADD UNIQUE (v)", "ALTER TABLE versioned DROP SYSTEM VERSIONING", "REPAIR TABLE repaired, sound", "ALTER TABLE cut TRUNCATE PARTITION low", "ALTER TABLE dropped DROP PARTITION high",
		"ALTER TABLE exchanged EXCHANGE PARTITION low WITH TABLE other")
	m.Stop()
	require.NoError(t, m.Start(t.Context()))
	rows, err := mariaRows(db)(t.Context(), "SELECT * FROM fleeting")
	require.NoError(t, err)
	require.Empty(t, rows, "the server's restart has emptied it")
	for _, table := range tables {
		mariaRun(t, db, "INSERT INTO "+table+" VALUES (3, 3)")
	}
	i.mariaReached("catalogue", db)
	i.eventually("seven tables are read again", func() bool {
		events, again := i.journal("catalogue"), 0
		for _, table := range tables {
			again += len(ofTable(events, database+"."+table, "loaded")) - 1
		}
		return again == 7
	})
	f := proveJournal(t, i.journal("catalogue"))
	for _, table := range tables {
		f.mariaEquals(t, db, database, table)
	}
	require.Len(t, ofTable(i.journal("catalogue"), database+".sound", "void"), 1, "the first load's: a repair does nothing to it")
}

// TestMariaDBDefaultsThatFillRows: a default that is a constant fills the rows that are there, and
// the schema event says with what, after one ALTER as after several, before rows of the table come
// and while they do. Where it is no constant, the table is stale.
func TestMariaDBDefaultsThatFillRows(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE loans (id int PRIMARY KEY, note text)", "INSERT INTO loans VALUES (1, 'a'), (2, 'b')", "CREATE TABLE drawn (id int PRIMARY KEY)", "INSERT INTO drawn VALUES (1)")
	to := targetOf(t, "postgresql")
	s := &stage{instance: i}
	s.keeps("current", to, map[string]any{"schema": "current", "offsets": to.database + ".outlets"}, map[string]any{"source": "catalogue", "tables": []string{database + ".loans"}})
	i.caughtUp("current")
	for n, alter := range []string{"ADD a int DEFAULT -007, ADD b int unsigned NOT NULL, ADD c bigint DEFAULT '9007199254740993'", "ADD d decimal(8,2) DEFAULT 00.5 AFTER id, ADD e decimal(20,4) NOT NULL, ADD f decimal(5) DEFAULT -12, ADD f0 decimal(5,1) DEFAULT -0.0",
		"ADD g varchar(9) NOT NULL DEFAULT 'gold' FIRST", "ADD (h char(4) DEFAULT 'x', i text NOT NULL)", "ADD j enum('x','Y') DEFAULT 'x'", "ADD k bool DEFAULT TRUE, ADD l int DEFAULT NULL, ADD k2 int", "ALTER k SET DEFAULT 0", "RENAME COLUMN a TO a2",
		"ADD n varchar(9) DEFAULT 007, ADD o varchar(9) DEFAULT -1.50, ADD p smallint zerofill DEFAULT 12", "ADD q int DEFAULT 3 COMMENT 'DEFAULT 4', ADD q2 varchar(40) CHARACTER SET ucs2 DEFAULT 'wide'"} {
		mariaRun(t, db, "ALTER TABLE loans "+alter)
		if n%3 == 1 {
			mariaRun(t, db, "UPDATE loans SET note = CONCAT(note, 'x') WHERE id = 1")
		}
		if n%4 == 2 {
			i.mariaReached("catalogue", db)
		}
	}
	mariaRun(t, db, "INSERT INTO loans (id, b, e, i) VALUES (3, 4, 5, 'new')", "ALTER TABLE drawn ADD r double DEFAULT (rand())")
	i.mariaReached("catalogue", db)
	i.eventually("the table with drawn values is stale", func() bool { state, _ := i.table(database + ".drawn"); return state == "stale" })
	i.caughtUp("current")
	state, note := i.table(database + ".loans")
	require.Equal(t, "following", state, note)
	events := i.journal("catalogue")
	require.Len(t, ofTable(events, database+".loans", "void"), 1, "it is loaded once")
	proveJournal(t, events).mariaEquals(t, db, database, "loans")
	const shown = "SELECT id, note, a2, b, c, d, e, f, f0, g, h, i, j, k, l, k2, n, o, p + 0, q, q2 FROM "
	want, err := mariaRows(db)(t.Context(), shown+"loans ORDER BY id")
	require.NoError(t, err)
	require.Len(t, want, 3)
	require.Equal(t, fmt.Sprint(want), fmt.Sprint(to.digest(t, shown+"current.loans ORDER BY id")))
}

// TestMariaDBMadeTwice: what is read of a CREATE when another one has followed under its name.
func TestMariaDBMadeTwice(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE loans (id int PRIMARY KEY)")
	i.must(http.MethodPost, "/v1/sources/catalogue/pause", nil, nil)
	mariaRun(t, db, "CREATE TABLE made (a date)", "INSERT INTO made VALUES ('2026-12-02')", "DROP TABLE made", "CREATE TABLE made (a date, b int) COMMENT 'of two'", "INSERT INTO made VALUES ('2026-12-03', 1)",
		"CREATE OR REPLACE TABLE made (b int, KEY (b)) SELECT DATE '2026-12-04' AS a, 2 AS b", "DROP TABLE made", "CREATE TABLE made (a date, b int, c int)")
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaReached("catalogue", db)
	var got []string
	for _, e := range ofTable(i.journal("catalogue"), database+".made", "schema", "insert") {
		require.Equal(t, database, e.Data.Database)
		if e.Data.Operation == "insert" {
			got = append(got, "row")
			continue
		}
		var s struct {
			Definition *struct{ Columns []struct{ Name string } }
		}
		require.NoError(t, json.Unmarshal(e.Data.Schema, &s))
		if s.Definition != nil {
			got = append(got, fmt.Sprint(s.Definition.Columns))
		}
	}
	require.Equal(t, []string{"[{a}]", "row", "[{a} {b}]", "row", "[{a} {b}]", "row", "[{a} {b} {c}]"}, got)
}
