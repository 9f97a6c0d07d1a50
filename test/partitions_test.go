package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// TestPartitionsWhoseColumnsChange alters a partitioned table that is captured under its root, with
// partitions whose columns stand in different orders: names swapped, columns dropped and others
// made under their names, several times in a transaction, between rows. Each value names the
// column that it was written to, and a column of its own says which a row had.
func TestPartitionsWhoseColumnsChange(t *testing.T) {
	t.Parallel()
	inRounds(t, partitionsWhoseColumnsChange)
}

func partitionsWhoseColumnsChange(t *testing.T, round int) {
	rules := []map[string]any{{"match": "pp", "partitions": "root"}, {"match": "plain"}}
	statements := []string{"CREATE TABLE pp (id int, k int, a text, b text, has text, PRIMARY KEY (id, k)) PARTITION BY LIST (k)", "CREATE TABLE pp0 PARTITION OF pp FOR VALUES IN (0)",
		"CREATE TABLE pp1 (b text, has text, gone int, k int NOT NULL, a text, id int NOT NULL, PRIMARY KEY (id, k))", "ALTER TABLE pp1 DROP COLUMN gone", "ALTER TABLE pp ATTACH PARTITION pp1 FOR VALUES IN (1)",
		"CREATE TABLE plain (id int, k int, a text, b text, has text, PRIMARY KEY (id, k))"}
	for _, table := range []string{"pp", "plain"} {
		statements = append(statements, "INSERT INTO "+table+" SELECT n, n % 2, 'v0', 'v1', 'a=v0 b=v1' FROM generate_series(0, 19) n")
	}
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, statements...)
	dropSlotAtEnd(t, source)
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 100ms\n").start()
	d := ruled(source, name, rules, nil)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)
	into := database(t, sourceServer(t), "postgres")
	i.intoTables("tables", sourceServer(t), into, map[string]any{})
	random := draws(t, round, 3)
	next := 2
	type column struct{ name, value string }
	columns := map[string][]column{"pp": {{"a", "v0"}, {"b", "v1"}}, "plain": {{"a", "v0"}, {"b", "v1"}}}
	has := func(table string) string {
		var parts []string
		for _, c := range columns[table] {
			parts = append(parts, c.name+"="+c.value)
		}
		sort.Strings(parts)
		return strings.Join(parts, " ")
	}
	history := make(map[string][]string) // the names that each table's columns have had, in their order
	note := func(table string) {
		history[table] = append(history[table], strings.Join(names(columns[table], func(c column) string { return c.name }), " "))
	}
	note("pp")
	note("plain")
	for step := range 30 {
		switch step {
		case 10:
			i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
		case 20:
			i.resume()
		case 22, 26: // looks go on, and the log stands still: what they find is read much later, or by another run
			i.reached("circulation", db)
			way.logHeld.Store(true)
			for table := range columns {
				added := column{fmt.Sprint("x", step), fmt.Sprint("v", next)}
				columns[table] = append(columns[table], added)
				next++
				note(table)
				run(t, db, "ALTER TABLE "+table+" ADD COLUMN "+added.name+" text")
			}
			looked(t, db)
		case 25:
			way.logHeld.Store(false)
		case 29:
			i.stop(syscall.SIGKILL)
			way.logHeld.Store(false)
			way.cut()
			i.start()
		}
		table := []string{"pp", "pp", "plain"}[random.IntN(3)]
		sql := "BEGIN;"
		for range 1 + random.IntN(5) {
			if random.IntN(2) == 0 {
				set := fmt.Sprintf("UPDATE %s SET has = '%s'", table, has(table))
				for _, c := range columns[table] {
					set += fmt.Sprintf(", %s = '%s'", c.name, c.value)
				}
				sql += fmt.Sprintf("%s WHERE id = %d;", set, random.IntN(20))
				continue
			}
			now := columns[table]
			switch kind := random.IntN(5); {
			case kind < 3 && len(now) > 1:
				x, y := random.IntN(len(now)), random.IntN(len(now))
				if x == y {
					continue
				}
				sql += fmt.Sprintf("ALTER TABLE %s RENAME %s TO t; ALTER TABLE %[1]s RENAME %[3]s TO %[2]s; ALTER TABLE %[1]s RENAME t TO %[3]s;", table, now[x].name, now[y].name)
				now[x].name, now[y].name = now[y].name, now[x].name
			case kind == 3 && len(now) > 1:
				x := random.IntN(len(now))
				sql += fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s;", table, now[x].name)
				columns[table] = append(now[:x:x], now[x+1:]...)
			case len(now) < 4:
				for _, free := range []string{"a", "b", "c", "d"} {
					if !strings.Contains(has(table), free+"=") {
						sql += fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s text;", table, free)
						columns[table] = append(now, column{free, fmt.Sprint("v", next)})
						next++
						break
					}
				}
			}
			note(table)
		}
		run(t, db, sql+"COMMIT")
		if step%5 == 0 && (step < 10 || step == 20) {
			i.reached("circulation", db)
		}
	}
	i.reached("circulation", db)
	since := time.Now()
	i.eventually("all is followed", func() bool {
		for _, table := range []string{"pp", "plain"} {
			state, _ := i.table("public." + table)
			if state == "stale" {
				i.call(http.MethodPost, "/v1/sources/circulation/tables/public."+table+"/reload", nil) //nolint:errcheck // it may be loading
			}
			if state != "following" {
				since = time.Now() // the status may be a second old
			}
		}
		return time.Since(since) > 1500*time.Millisecond
	})
	i.reached("circulation", db)
	events := i.journal("circulation")
	for _, e := range events {
		if e.Data.Operation != "update" {
			continue
		}
		var said string
		require.NoError(t, json.Unmarshal(e.Data.After["has"], &said))
		var got []string
		for name, value := range e.Data.After {
			if name != "id" && name != "k" && name != "has" {
				got = append(got, name+"="+strings.Trim(string(value), `"`))
			}
		}
		sort.Strings(got)
		require.Equal(t, said, strings.Join(got, " "), "%s", e.raw)
	}
	for _, table := range []string{"pp", "plain"} {
		left := history[table]
		for _, s := range schemasOf(t, events, "public."+table) {
			var now []string
			for _, c := range s.Definition.Columns {
				if c.Name != "id" && c.Name != "k" && c.Name != "has" {
					now = append(now, c.Name)
				}
			}
			at := slices.Index(left, strings.Join(now, " "))
			require.GreaterOrEqual(t, at, 0, "a schema event of %s with %v is not at its place: %q", table, now, history[table])
			left = left[at:]
		}
	}
	f := proveJournal(t, events)
	i.caughtUp("tables")
	target := connect(t, sourceServer(t), into)
	for _, table := range []string{"pp", "plain"} {
		f.equals(t, db, table)
		query := "SELECT id, k, " + strings.Join(names(columns[table], func(c column) string { return c.name }), ", ") + ", has FROM " + table
		sameRows(t, digest(t, db, query), digest(t, target, query), table)
	}
}

// looked waits until a look at the source has put its mark into the log, and waits for it there.
func looked(t *testing.T, db *pgx.Conn) {
	t.Helper()
	require.Eventually(t, func() bool {
		var marks int
		err := db.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE '%publisher%' AND state = 'idle' AND query LIKE '%pg_logical_emit_message%'").Scan(&marks)
		return err == nil && marks > 0
	}, patience, 20*time.Millisecond)
}

// names are one text of each.
func names[T any](of []T, name func(T) string) (all []string) {
	for _, one := range of {
		all = append(all, name(one))
	}
	return all
}
