package test

import (
	"fmt"
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
