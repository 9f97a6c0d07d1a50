package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/testserver"
)

// mariaFollowed is a source that follows a few tables, loaded.
func mariaFollowed(t *testing.T, m *demo.MariaDB, config string, statements ...string) (i *instance, database string, db *sql.DB) {
	t.Helper()
	database, db = mariaDatabase(t, m, statements...)
	i = newInstance(t, stateServer(t), config).start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".*", "after_rewrite": "stale"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	return i, database, db
}

// fails waits until the source is failed with a code.
func (i *instance) fails(source, code string) {
	i.t.Helper()
	i.eventually("the source fails with "+code, func() bool {
		for _, s := range i.status().Sources {
			if s.Name == source && s.Phase == "failed" {
				require.Equal(i.t, code, s.Code, s.Error)
				require.Contains(i.t, s.Error, "Fix: ")
				return true
			}
		}
		return false
	}, func() string { return fmt.Sprintf("%+v", i.status().Sources) })
}

func (i *instance) pause(source string) {
	i.t.Helper()
	i.must(http.MethodPost, "/v1/sources/"+source+"/pause", nil, nil)
	i.eventually("the source is paused", func() bool { return i.status().Sources[0].Phase == "paused" })
}

// TestMariaDBOtherLogs: a log that was purged, a server that was reset while it was read or
// while it was not, and one that has a history of its own are each recognised, and a new
// generation is the way out.
func TestMariaDBOtherLogs(t *testing.T) {
	t.Parallel()
	reset := func(i *instance, db *sql.DB) {
		i.must(http.MethodPost, "/v1/sources/catalogue/reset", map[string]string{"reason": "the log is another one"}, nil)
		i.mariaSettled("catalogue", db)
	}
	t.Run("purged", func(t *testing.T) {
		m := mariaServer(t, nil)
		i, database, db := mariaFollowed(t, m, "", "CREATE TABLE a (id int PRIMARY KEY)")
		i.pause("catalogue")
		mariaRun(t, db, "INSERT INTO a VALUES (1)", "FLUSH BINARY LOGS", "INSERT INTO a VALUES (2)", "FLUSH BINARY LOGS")
		files := func() (names []string) {
			rows, err := db.QueryContext(t.Context(), "SHOW BINARY LOGS")
			require.NoError(t, err)
			for rows.Next() {
				var name, size string
				require.NoError(t, rows.Scan(&name, &size))
				names = append(names, name)
			}
			require.NoError(t, rows.Err())
			return names
		}
		all := files()
		i.eventually("the server lets go of the files that our session had before it", func() bool {
			mariaRun(t, db, "PURGE BINARY LOGS TO '"+all[len(all)-1]+"'")
			return len(files()) == 1
		})
		i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
		i.fails("catalogue", "log-gone")
		reset(i, db)
		f := newFold()
		for _, e := range i.journal("catalogue") {
			f.apply(e)
		}
		f.mariaEquals(t, db, database, "a")
	})
	t.Run("reset under the reader", func(t *testing.T) {
		m := mariaServer(t, nil)
		i, _, db := mariaFollowed(t, m, "", "CREATE TABLE a (id int PRIMARY KEY)")
		mariaRun(t, db, "INSERT INTO a VALUES (1)")
		i.mariaReached("catalogue", db)
		mariaRun(t, db, "RESET MASTER", "INSERT INTO a VALUES (2)", "FLUSH BINARY LOGS", "INSERT INTO a VALUES (3)")
		i.eventually("the source stops", func() bool { return i.status().Sources[0].Phase == "failed" })
		require.Contains(t, []string{"other-log", "log-gone", "cannot-decode"}, i.status().Sources[0].Code)
		reset(i, db)
	})
	t.Run("another history", func(t *testing.T) {
		m := mariaServer(t, nil)
		i, _, db := mariaFollowed(t, m, "", "CREATE TABLE a (id int PRIMARY KEY)")
		i.pause("catalogue")
		mariaRun(t, db, "RESET MASTER")
		for n := range 60 { // the same names, other rows
			mariaRun(t, db, fmt.Sprintf("INSERT INTO a VALUES (%d)", n+100))
		}
		i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
		i.fails("catalogue", "other-log")
		reset(i, db)
	})
}

// TestMariaDBFailover: a source that is pointed at a replica goes on by GTID in the middle
// of the work, and nothing is lost or doubled.
func TestMariaDBFailover(t *testing.T) {
	t.Parallel()
	first := mariaServer(t, nil)
	second := mariaServer(t, map[string]string{"server-id": "2", "log-slave-updates": "1"})
	password, err := first.Password()
	require.NoError(t, err)
	replica := mariaConnect(t, second, "")
	mariaRun(t, mariaConnect(t, first, ""), "RESET MASTER")
	mariaRun(t, replica, "RESET MASTER", fmt.Sprintf("CHANGE MASTER TO master_host='127.0.0.1', master_port=%d, master_user='capture', master_password='%s', master_use_gtid=slave_pos", first.Port, password), "START SLAVE")
	i, database, db := mariaFollowed(t, first, killConfig, "CREATE TABLE a (id int PRIMARY KEY, v int)")
	for n := range 50 {
		mariaRun(t, db, fmt.Sprintf("INSERT INTO a SELECT seq + %d, seq FROM seq_1_to_40", n*100))
	}
	i.pause("catalogue")
	mariaRun(t, db, "UPDATE a SET v = v + 1 WHERE id % 3 = 0")
	var at string
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT @@gtid_binlog_pos").Scan(&at))
	var waited int
	require.NoError(t, replica.QueryRowContext(t.Context(), "SELECT MASTER_GTID_WAIT('"+at+"', 30)").Scan(&waited))
	require.Zero(t, waited)
	mariaRun(t, replica, "STOP SLAVE")
	there := mariaConnect(t, second, database)
	mariaRun(t, there, "DELETE FROM a WHERE id % 7 = 0")
	secondPassword, err := second.Password()
	require.NoError(t, err)
	var now struct {
		Version    int64          `json:"version"`
		Definition map[string]any `json:"definition"`
	}
	i.must(http.MethodGet, "/v1/sources/catalogue", nil, &now)
	now.Definition["connection"] = map[string]any{"host": "127.0.0.1", "port": second.Port, "user": "capture", "password": secondPassword}
	code, raw, err := i.call(http.MethodPut, "/v1/sources/catalogue", now.Definition, "If-Match", fmt.Sprintf(`"%d"`, now.Version))
	require.NoError(t, err)
	require.Less(t, code, 300, string(raw))
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaReached("catalogue", there)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, there, database, "a")
}

// TestMariaDBWrongInput: what is wrong with a server or a login is said with its fix.
func TestMariaDBWrongInput(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, map[string]string{"binlog-format": "MIXED", "binlog-row-metadata": "MINIMAL", "binlog-ignore-db": "scratch"})
	name, db := mariaDatabase(t, m, "CREATE TABLE parents (id int PRIMARY KEY)", "CREATE TABLE children (id int PRIMARY KEY, parent int, FOREIGN KEY mine (parent) REFERENCES parents (id) ON DELETE CASCADE)",
		"CREATE TABLE loose (v float)", "CREATE TABLE visits (id int PRIMARY KEY) ENGINE=MyISAM", "CREATE TABLE numbered (id int PRIMARY KEY, b bigint unsigned GENERATED ALWAYS AS ROW START, e bigint unsigned GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (b, e)) WITH SYSTEM VERSIONING")
	i := newInstance(t, stateServer(t), "").start()
	definition := mariaSource(t, m, map[string]any{"match": name + ".*"})
	check := func(definition map[string]any) string {
		var answer struct {
			Items []struct{ Name, Verdict, Found, Why, Fix string }
		}
		i.must(http.MethodPost, "/v1/sources/catalogue/check", definition, &answer)
		var b strings.Builder
		for _, c := range answer.Items {
			fmt.Fprintf(&b, "%s %s: %s | %s\n", c.Verdict, c.Name, c.Found, c.Fix)
		}
		return b.String()
	}
	said := check(definition)
	for _, want := range []string{"missing binlog_format: binlog_format is MIXED | SET GLOBAL binlog_format = 'ROW'", "missing binlog_row_metadata: binlog_row_metadata is MINIMAL | SET GLOBAL", "missing filters: ", "has no key", "storage engine is MyISAM",
		"ON DELETE CASCADE", "missing table " + name + ".numbered", "sync_binlog is 0"} {
		require.Contains(t, said, want)
	}
	with := func(change func(connection map[string]any)) map[string]any {
		d := mariaSource(t, m, map[string]any{"match": name + ".*"})
		change(d["connection"].(map[string]any))
		return d
	}
	require.Contains(t, check(with(func(c map[string]any) { c["password"] = "wrong" })), "refuses user \"capture\"")
	require.Contains(t, check(with(func(c map[string]any) { c["port"] = testserver.FreePort() })), "cannot be reached")
	require.Contains(t, check(with(func(c map[string]any) { c["tls"] = "require" })), "does not encrypt connections")
	require.NoError(t, m.Login(t.Context(), "weak", "SELECT ON "+name+".*"))
	said = check(with(func(c map[string]any) { c["user"] = "weak" }))
	require.Contains(t, said, "missing right to replicate: user \"weak\" does not have REPLICATION SLAVE | GRANT REPLICATION SLAVE ON *.* TO")
	require.Contains(t, said, "missing right to the log: ")
	i.must(http.MethodPost, "/v1/sources/catalogue", definition, nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.eventually("the source says that the log is not by rows", func() bool { return i.status().Sources[0].Code == "log-format" })
	mariaRun(t, db, "SET GLOBAL binlog_format = 'ROW'", "SET GLOBAL binlog_row_metadata = 'FULL'")
	i.eventually("the source runs", func() bool { return i.status().Sources[0].Phase == "running" })
}

// TestMariaDBReaderIDs: a number that another reader has is recognised before that one is
// thrown out.
func TestMariaDBReaderIDs(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	name, db := mariaDatabase(t, m, "CREATE TABLE a (id int PRIMARY KEY)")
	i := newInstance(t, stateServer(t), "").start()
	for _, source := range []string{"catalogue", "second"} {
		d := mariaSource(t, m, map[string]any{"match": name + ".*"})
		d["connection"].(map[string]any)["reader_id"] = 4711
		i.must(http.MethodPost, "/v1/sources/"+source, d, nil)
	}
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	i.must(http.MethodPost, "/v1/sources/second/resume", nil, nil)
	i.eventually("the second says that its number is taken", func() bool {
		for _, s := range i.status().Sources {
			if s.Name == "second" {
				return s.Code == "reader-id-in-use"
			}
		}
		return false
	})
	i.mariaReached("catalogue", db)
}

// TestMariaDBCascades: what the server changes without logging it is said, and a table
// whose rule says so is loaded anew.
func TestMariaDBCascades(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	database, db := mariaDatabase(t, m, "CREATE TABLE parents (id int PRIMARY KEY, v int)", "CREATE TABLE children (id int PRIMARY KEY, parent int, FOREIGN KEY (parent) REFERENCES parents (id) ON DELETE CASCADE ON UPDATE CASCADE)",
		"CREATE TABLE others (id int PRIMARY KEY, child int, FOREIGN KEY (child) REFERENCES children (id) ON DELETE SET NULL)", "INSERT INTO parents VALUES (1, 0), (2, 0), (3, 0)", "INSERT INTO children VALUES (10, 1), (20, 2)", "INSERT INTO others VALUES (100, 10)")
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".children"}, map[string]any{"match": database + ".*", "after_rewrite": "reload"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.mariaSettled("catalogue", db)
	state := func(table string) (string, string) {
		for _, s := range i.status().Sources[0].Tables {
			if s.Name == database+"."+table {
				return s.State, string(s.Cause)
			}
		}
		return "", ""
	}
	mariaRun(t, db, "INSERT INTO children VALUES (30, 3)")
	was := ""
	for try := 1; try <= 3 && was != "following"; try++ {
		// Now and then a server that has opened the child a moment ago announces it all the
		// same; the child is stale without need then, and loaded again.
		mariaRun(t, db, fmt.Sprintf("UPDATE parents SET v = %d", try))
		i.mariaReached("catalogue", db)
		if was, _ = state("children"); was == "stale" {
			i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+database+".children/reload", nil, nil)
			i.mariaSettled("catalogue", db)
		}
	}
	require.Equal(t, "following", was, "an update that leaves the key alone changes no child")
	mariaRun(t, db, "DELETE FROM parents WHERE id = 1")
	i.eventually("the child is stale", func() bool {
		was, cause := state("children")
		return was == "stale" && cause == "foreign-key"
	})
	i.mariaSettled("catalogue", db)
	f := proveJournal(t, i.journal("catalogue"))
	f.mariaEquals(t, db, database, "others")
	i.must(http.MethodPost, "/v1/sources/catalogue/tables/"+database+".children/reload", nil, nil)
	i.mariaSettled("catalogue", db)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "children")

	// A foreign key counts from the statement that makes it, whenever tables are looked at again.
	mariaRun(t, db, "CREATE TABLE late_parents (id int PRIMARY KEY)", "CREATE TABLE late_children (id int PRIMARY KEY, parent int, FOREIGN KEY (parent) REFERENCES late_parents (id) ON DELETE CASCADE)",
		"INSERT INTO late_parents VALUES (1), (2)", "INSERT INTO late_children VALUES (10, 1), (20, 2)", "DELETE FROM late_parents WHERE id = 1", "RENAME TABLE late_parents TO later_parents", "DELETE FROM later_parents WHERE id = 2")
	i.eventually("the child is loaded anew", func() bool {
		events := ofTable(i.journal("catalogue"), database+".late_children", "loaded")
		was, _ := state("late_children")
		return len(events) > 0 && was == "following"
	})
	i.mariaReached("catalogue", db)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "late_children")

	// A row of a versioned table is deleted by an update.
	mariaRun(t, db, "CREATE TABLE kept_parents (id int PRIMARY KEY, v int) WITH SYSTEM VERSIONING", "CREATE TABLE kept_children (id int PRIMARY KEY, parent int, FOREIGN KEY (parent) REFERENCES kept_parents (id) ON DELETE CASCADE) WITH SYSTEM VERSIONING",
		"INSERT INTO kept_parents VALUES (1, 1)", "INSERT INTO kept_children VALUES (10, 1)")
	i.mariaReached("catalogue", db)
	mariaRun(t, db, "DELETE FROM kept_parents")
	i.eventually("the versioned child is loaded anew", func() bool {
		was, _ := state("kept_children")
		return len(ofTable(i.journal("catalogue"), database+".kept_children", "loaded")) > 0 && was == "following"
	})

	// What is written through a union of tables stands in the log as the union's rows alone.
	mariaRun(t, db, "CREATE TABLE shelf1 (id int PRIMARY KEY) ENGINE=MyISAM", "CREATE TABLE shelf2 (id int PRIMARY KEY) ENGINE=MyISAM", "CREATE TABLE shelves (id int PRIMARY KEY) ENGINE=MERGE UNION=(shelf1, shelf2)", "INSERT INTO shelf1 VALUES (1), (2)")
	i.mariaReached("catalogue", db)
	mariaRun(t, db, "UPDATE shelves SET id = 7 WHERE id = 1")
	i.eventually("the union's tables are loaded anew", func() bool {
		events := i.journal("catalogue")
		was, _ := state("shelf1")
		return len(ofTable(events, database+".shelf1", "loaded")) > 0 && was == "following"
	})
	i.mariaReached("catalogue", db)
	proveJournal(t, i.journal("catalogue")).mariaEquals(t, db, database, "shelf1")
}

// TestMariaDBNewKey: a table that is given a key is loaded once for it, whatever its rule says
// of rewritten rows, and what was there before can be found by the key.
func TestMariaDBNewKey(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	i, database, db := mariaFollowed(t, m, "", "CREATE TABLE visits (id int NOT NULL, who text)", "INSERT INTO visits SELECT seq, 'x' FROM seq_1_to_50")
	mariaRun(t, db, "UPDATE visits SET who = 'y' WHERE id < 10", "ALTER TABLE visits ADD COLUMN n int DEFAULT 7", "ALTER TABLE visits ADD PRIMARY KEY (id), ADD COLUMN late int", "UPDATE visits SET who = 'z' WHERE id < 5", "DELETE FROM visits WHERE id = 6",
		"ALTER TABLE visits DROP COLUMN late")
	read := 0
	i.eventually("its rows have been loaded again", func() bool {
		for _, s := range i.status().Sources[0].Tables {
			if s.Name == database+".visits" && s.State == "following" && s.Counts["loaded"] == 2 {
				read = int(s.RowsDone) // the row that is deleted may be among them
				return true
			}
		}
		return false
	})
	require.Contains(t, []int{49, 50}, read)
	i.mariaReached("catalogue", db)
	events := i.journal("catalogue")
	proveJournal(t, events).mariaEquals(t, db, database, "visits")
	loaded := ofTable(events, database+".visits", "loaded")
	require.Len(t, loaded, 2)
	for _, e := range ofTable(events, database+".visits", "existing") {
		if e.offset() > loaded[0].offset() {
			require.Equal(t, 1, len(e.Data.Key), "%s", e.raw)
		}
	}
	require.Len(t, ofTable(events, database+".visits", "existing"), 50+read)
}

// TestMariaDBDamagedTable: a table whose file is not there is not loaded, by name; the others are,
// and all are followed.
func TestMariaDBDamagedTable(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	database, db := mariaDatabase(t, m, "CREATE TABLE broken (id int PRIMARY KEY)", "INSERT INTO broken VALUES (1)", "ALTER TABLE broken DISCARD TABLESPACE", "CREATE TABLE whole (id int PRIMARY KEY)", "INSERT INTO whole VALUES (1), (2)")
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/catalogue", mariaSource(t, m, map[string]any{"match": database + ".*"}), nil)
	i.must(http.MethodPost, "/v1/sources/catalogue/resume", nil, nil)
	i.eventually("the damaged table is not loaded, and the other one is", func() bool {
		found := make(map[string]string)
		for _, s := range i.status().Sources[0].Tables {
			found[strings.TrimPrefix(s.Name, database+".")] = s.State
			if s.Name == database+".broken" && s.State == "not-loaded" {
				require.Contains(t, s.Note, "Tablespace has been discarded")
				require.Contains(t, s.Note, "rillmark source reload")
			}
		}
		return found["broken"] == "not-loaded" && found["whole"] == "following"
	})
	mariaRun(t, db, "DROP TABLE broken", "CREATE TABLE broken (id int PRIMARY KEY)", "INSERT INTO broken VALUES (7)", "DELETE FROM whole WHERE id = 1")
	i.mariaReached("catalogue", db)
	f := proveJournal(t, i.journal("catalogue"))
	f.mariaEquals(t, db, database, "broken")
	f.mariaEquals(t, db, database, "whole")
}

// TestMariaDBSchemaChanges: random statements on definitions between random changes of
// rows, and the fold is the table, or the table is stale by name.
func TestMariaDBSchemaChanges(t *testing.T) {
	t.Parallel()
	inRounds(t, func(t *testing.T, round int) {
		d := drivenMariaDB(t, mariaServer(t, map[string]string{"binlog-alter-two-phase": "1"}), stateServer(t), 200, nil)
		underSchemaChanges(t, d, round, dialect{
			types: []string{"int", "bigint unsigned", "varchar(40)", "decimal(12,3)", "datetime(3)", "enum('x','y')", "json"},
			swap:  []string{"RENAME TABLE a TO swap, b TO a, swap TO b"},
			rows:  func(n int) string { return fmt.Sprintf("SELECT seq AS id FROM seq_1_to_%d", n) },
			own: func(random *rand.Rand, table string, has []string, name func() string) ([]string, []string) {
				at := random.IntN(len(has))
				switch random.IntN(4) {
				case 0:
					n := "r" + name()
					return []string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s int NOT NULL DEFAULT 7 FIRST", table, n)}, append(has, n)
				case 1:
					return []string{"DROP TABLE " + table, fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, c0 int) SELECT seq AS id, seq * 2 AS c0 FROM seq_1_to_30", table)}, []string{"c0"}
				case 2:
					return []string{fmt.Sprintf("CREATE OR REPLACE TABLE other LIKE %s", table), fmt.Sprintf("ALTER TABLE %s ENGINE=InnoDB, ALGORITHM=COPY", table), fmt.Sprintf("ALTER TABLE %s ADD INDEX (id), COMMENT 'x'", table)}, has
				}
				old, n := has[at], has[at][:1]+name() // names in another case
				return []string{fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", table, strings.ToUpper(old), strings.ToUpper(n)), fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", table, n, n)},
					append(append(has[:at:at], n), has[at+1:]...)
			},
		}, func(step int) {
			if step == 21 { // of a table that is read about when it is gone again nothing is known
				d.run("CREATE TABLE brief (id int PRIMARY KEY)", "TRUNCATE TABLE brief", "ALTER TABLE brief ADD COLUMN n int", "RENAME TABLE brief TO briefer", "TRUNCATE TABLE briefer", "DROP TABLE briefer")
			}
		})
	})
}

// TestMariaDBLoadBesideWriters: tables are loaded again and again while others write to
// them, while the log is rotated, and while monitors look at the status that the load goes
// by; each load is what the server has.
func TestMariaDBLoadBesideWriters(t *testing.T) {
	t.Parallel()
	m, copies := mariaServer(t, map[string]string{"rpl-semi-sync-master-enabled": "1", "rpl-semi-sync-master-timeout": "20", "rpl-semi-sync-master-wait-point": "AFTER_SYNC"}), 3000
	d := drivenMariaDB(t, m, stateServer(t), copies, nil)
	db := mariaConnect(t, m, d.database)
	ctx, cancel := context.WithCancel(t.Context())
	var beside sync.WaitGroup
	for range 2 {
		beside.Go(func() {
			for ctx.Err() == nil {
				rows, err := db.QueryContext(ctx, "SHOW GLOBAL STATUS LIKE 'binlog_snapshot%'")
				if err == nil {
					rows.Close() //nolint:errcheck // only the look counts
				}
			}
		})
	}
	underReloads(t, d, func(step int) {
		switch step % 10 {
		case 3:
			d.run("FLUSH BINARY LOGS")
		case 6:
			d.run("ALTER TABLE copies ADD COLUMN IF NOT EXISTS extra int NULL, ALGORITHM=INSTANT")
		case 9:
			d.run("ALTER TABLE loans FORCE")
		}
		if step == 59 {
			cancel()
			beside.Wait()
		}
	})
}
