package test

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
)

// The tables of the tests under load: a single key, a key of two columns in another order
// than the table's, a key of text under a collation, and one of a storage engine without
// transactions.
var mariaWorkloadTables = []string{
	"CREATE TABLE copies (copy_id bigint PRIMARY KEY, shelf_mark varchar(100) NOT NULL, price decimal(8,2), acquired_at datetime(6) NOT NULL DEFAULT current_timestamp(6), cover blob)",
	"CREATE TABLE loans (note text, patron_id int, copy_id bigint unsigned, lent timestamp(3) NOT NULL DEFAULT current_timestamp(3), body json, PRIMARY KEY (copy_id, patron_id))",
	"CREATE TABLE shelves (mark varchar(40) CHARACTER SET latin1 PRIMARY KEY, essay longtext NOT NULL, visits int NOT NULL DEFAULT 0, tags varbinary(100))",
	"CREATE TABLE visits (id int PRIMARY KEY, n int NOT NULL) ENGINE=MyISAM",
}

func mariaFill(copies int) []string {
	return append(mariaWorkloadTables[:len(mariaWorkloadTables):len(mariaWorkloadTables)],
		fmt.Sprintf("INSERT INTO copies SELECT seq, concat('S-', seq %% 50), (seq %% 9000) / 100.0, now(6), unhex(md5(seq)) FROM seq_1_to_%d", copies),
		fmt.Sprintf("INSERT INTO loans SELECT 'first', seq %% 40, seq, now(3), json_object('n', 9007199254740993 + seq) FROM seq_1_to_%d", copies/2),
		fmt.Sprintf("INSERT INTO shelves SELECT concat('m', seq), repeat(md5(seq), 20), 0, 'a' FROM seq_1_to_%d", copies/20),
		fmt.Sprintf("INSERT INTO visits SELECT seq, 0 FROM seq_1_to_%d", copies/20))
}

// startMariaWriters starts writers, which change the tables until their end is called, and
// connect again where the server goes away.
func startMariaWriters(t *testing.T, m *demo.MariaDB, database string, n, copies int) *writers {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	for i := range n {
		w.done.Add(1)
		random := seeded.Random(t, uint64(i))
		go func() {
			defer w.done.Done()
			for ctx.Err() == nil {
				db, err := m.Connect(ctx, database)
				if err != nil {
					continue
				}
				for step := 0; err == nil && ctx.Err() == nil; step++ {
					err = mariaWriteOne(ctx, db, random, copies, fmt.Sprintf("w%d-%d-%d", i, step, random.Uint32()))
				}
				db.Close() //nolint:errcheck // it may be broken
				var server *mysql.MySQLError
				if errors.As(err, &server) && server.Number != 1213 && server.Number != 1205 && server.Number != 1062 && server.Number != 1053 && server.Number != 1927 && server.Number != 1412 && server.Number != 1020 {
					t.Errorf("a writer's statement failed: %v", err)
					return
				}
			}
		}()
	}
	t.Cleanup(w.end)
	return w
}

// mariaWriteOne is one transaction of one to a few hundred changes; some are rolled back,
// whole or to a savepoint, some are distributed.
func mariaWriteOne(ctx context.Context, db *sql.DB, random *rand.Rand, copies int, name string) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close() //nolint:errcheck // it goes back to the pool
	exec := func(sql string, args ...any) {
		if err == nil {
			_, err = conn.ExecContext(ctx, sql, args...)
		}
	}
	distributed := random.IntN(12) == 0
	xid := "'" + name + "'"
	if distributed {
		exec("XA START " + xid)
	} else {
		exec("START TRANSACTION")
	}
	defer func() {
		if err != nil {
			conn.Raw(func(any) error { return errors.New("gone") }) //nolint:errcheck // whatever is open on it
		}
	}()
	for range 1 + random.IntN(4) {
		id, other := 1+random.IntN(copies), 1+random.IntN(copies*2)
		var sql string
		args := []any{id}
		switch random.IntN(13) {
		case 0, 1:
			sql, args = "INSERT IGNORE INTO copies (copy_id, shelf_mark, price, acquired_at, cover) VALUES (?, 'new', ?, now(6), NULL)", []any{other, fmt.Sprintf("%d.%02d", id%500, id%100)}
		case 2:
			sql = "DELETE FROM copies WHERE copy_id = ?"
		case 3, 4:
			sql = "UPDATE copies SET shelf_mark = concat(shelf_mark, '!'), acquired_at = now(6) WHERE copy_id = ? AND length(shelf_mark) < 60"
		case 5:
			sql, args = "UPDATE IGNORE copies SET copy_id = ? WHERE copy_id = ?", []any{other, id}
		case 6:
			sql, args = "INSERT IGNORE INTO loans (note, patron_id, copy_id) VALUES ('again', ?, ?)", []any{random.IntN(40), id}
		case 7:
			sql = "UPDATE loans SET note = NULL, body = json_set(body, '$.seen', true) WHERE copy_id = ?"
		case 8:
			sql = "UPDATE IGNORE loans SET patron_id = patron_id + 1000 WHERE copy_id = ? AND patron_id < 1000"
		case 9:
			sql, args = "UPDATE shelves SET visits = visits + 1 WHERE mark = concat('m', ?)", []any{id % (copies / 20)}
		case 10:
			sql, args = "UPDATE IGNORE shelves SET mark = concat('M', ?) WHERE mark = concat('m', ?)", []any{random.IntN(copies / 10), id % (copies / 20)}
		case 11:
			sql, args = "REPLACE INTO copies (copy_id, shelf_mark, price, acquired_at, cover) VALUES (?, 'replaced', 1, now(6), 'x')", []any{other}
		default:
			sql, args = "UPDATE shelves SET essay = repeat(md5(?), 30), tags = NULL WHERE mark = concat('m', ?)", []any{fmt.Sprint(other), id % (copies / 20)}
		}
		if random.IntN(15) == 0 && !distributed {
			exec("SAVEPOINT s")
			exec(sql, args...)
			exec("ROLLBACK TO s")
			continue
		}
		exec(sql, args...)
	}
	if random.IntN(20) == 0 && !distributed {
		exec("UPDATE visits SET n = n + 1 WHERE id = ?", 1+random.IntN(copies/20)) // stays, whatever comes
	}
	switch what := random.IntN(150); {
	case distributed:
		exec("XA END " + xid)
		exec("XA PREPARE " + xid)
		if random.IntN(4) == 0 {
			exec("XA ROLLBACK " + xid)
		} else {
			exec("XA COMMIT " + xid)
		}
		return err
	case what < 4:
		exec("ROLLBACK")
		return err
	case what == 4: // a transaction of many rows, so that kills cut through one
		exec("UPDATE copies SET price = price + 0.01 WHERE copy_id % 3 = ?", random.IntN(3))
	}
	exec("COMMIT")
	return err
}

// mariaProve holds that the journal is whole and equal to the source.
func mariaProve(t *testing.T, i *instance, db *sql.DB, database string, tables ...string) []*event {
	t.Helper()
	finishXA(t, db)
	i.mariaSettled("catalogue", db)
	events := i.journal("catalogue")
	f := proveJournal(t, events)
	for _, table := range tables {
		require.True(t, f.loaded[database+"."+table], "%s was loaded", table)
		f.mariaEquals(t, db, database, table)
	}
	return events
}

// finishXA ends the distributed transactions whose writer has gone. One whose session is just
// ending is in the list, and cannot be ended yet.
func finishXA(t *testing.T, db *sql.DB) {
	t.Helper()
	committed := 0
	require.Eventually(t, func() bool {
		rows, err := db.QueryContext(t.Context(), "XA RECOVER")
		require.NoError(t, err)
		var names []string
		for rows.Next() {
			var a, b, c int
			var name string
			require.NoError(t, rows.Scan(&a, &b, &c, &name))
			names = append(names, name)
		}
		require.NoError(t, rows.Err())
		for _, name := range names {
			how := []string{"COMMIT", "ROLLBACK"}[committed%2]
			_, err := db.ExecContext(t.Context(), "XA "+how+" '"+name+"'")
			var server *mysql.MySQLError
			if errors.As(err, &server) && (server.Number == 1402 || server.Number == 1397) {
				continue // there was nothing in it, and it is rolled back; or its session is ending
			}
			require.NoError(t, err)
			committed++
		}
		return len(names) == 0
	}, patience, 20*time.Millisecond, "distributed transactions are ended")
}

// reloadAfterLostRows has tables loaded again that a kill has left without their rows in the log,
// and holds that the log says so. The server logs a distributed transaction's end before its
// engine carries it out, so that a kill in between leaves one that is ended again. And its engine
// may have prepared one when the kill comes before the log has its rows.
func reloadAfterLostRows(t *testing.T, i *instance, db *sql.DB) {
	t.Helper()
	named := regexp.MustCompile(`distributed transaction "([^"]+)"`)
	for _, s := range i.statusFromNow().Sources {
		for _, table := range s.Tables {
			if table.State != "stale" {
				continue
			}
			found := named.FindStringSubmatch(table.Note)
			require.NotNil(t, found, "%s: %s", table.Name, table.Note)
			log, id := mariaLog(t, db), " X'"+strings.ToUpper(hex.EncodeToString([]byte(found[1])))+"'"
			prepared, committed := strings.Count(log, "XA PREPARE"+id), strings.Count(log, "XA COMMIT"+id)
			require.LessOrEqual(t, prepared, 1, "%s", table.Note)
			require.Equal(t, 1+prepared, committed+strings.Count(log, "XA ROLLBACK"+id), "%s", table.Note)
			require.Positive(t, committed, "%s", table.Note)
			i.must(http.MethodPost, "/v1/sources/"+s.Name+"/tables/"+table.Name+"/reload", nil, nil)
			i.eventually(table.Name+" is no longer stale", func() bool {
				for _, now := range i.status().Sources {
					for _, one := range now.Tables {
						if one.Name == table.Name {
							return one.State == "following"
						}
					}
				}
				return false
			})
		}
	}
}

// mariaLog is what a server says of its log's events, in capitals.
func mariaLog(t *testing.T, db *sql.DB) string {
	t.Helper()
	var b strings.Builder
	files, err := db.QueryContext(t.Context(), "SHOW BINARY LOGS")
	require.NoError(t, err)
	var names []string
	for files.Next() {
		var name, size string
		require.NoError(t, files.Scan(&name, &size))
		names = append(names, name)
	}
	require.NoError(t, files.Err())
	for _, name := range names {
		events, err := db.QueryContext(t.Context(), "SHOW BINLOG EVENTS IN '"+name+"'")
		require.NoError(t, err)
		for events.Next() {
			var file, at, kind, server, end, info string
			require.NoError(t, events.Scan(&file, &at, &kind, &server, &end, &info))
			b.WriteString(strings.ToUpper(info) + "\n")
		}
		require.NoError(t, events.Err())
	}
	require.Contains(t, b.String(), "XA START X'", "there are some")
	return b.String()
}
