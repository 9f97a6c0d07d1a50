package test

import (
	"context"
	stdsql "database/sql"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
	"rillmark/internal/seeded"
)

// side is a database that rows come from or go to, of either engine.
type side struct {
	engine   string
	database string
	port     int
	capture  string // in MariaDB, the password of the login that captures
	// at is the server as a destination.
	at map[string]any
	// rows are those of a query, each as its columns' texts.
	rows func(ctx context.Context, query string) ([]string, error)
	run  func(statements ...string)
	kill func()
	back func() error
}

func postgresSide(t *testing.T, c *demo.Cluster, database string) *side {
	var one sync.Mutex
	var conn *pgx.Conn
	t.Cleanup(func() {
		if conn != nil {
			conn.Close(context.Background()) //nolint:errcheck // it may be broken
		}
	})
	return &side{engine: "postgresql", database: database, at: databaseAt(c, database), run: func(statements ...string) { t.Helper(); run(t, connect(t, c, database), statements...) },
		kill: c.Kill, back: func() error { return c.Start(context.Background()) },
		rows: func(ctx context.Context, query string) (_ []string, err error) {
			one.Lock()
			defer one.Unlock()
			if conn == nil || conn.IsClosed() {
				if conn, err = c.Connect(ctx, database); err != nil {
					return nil, err
				}
			}
			rows, err := conn.Query(ctx, query, pgx.QueryExecModeSimpleProtocol)
			if err != nil {
				return nil, err
			}
			return pgx.CollectRows(rows, func(row pgx.CollectableRow) (string, error) {
				var parts []string
				for _, raw := range row.RawValues() {
					parts = append(parts, textOf(raw))
				}
				return strings.Join(parts, "|"), nil
			})
		}}
}

func mariaSide(t *testing.T, m *demo.MariaDB, database string) *side {
	pool := mariaConnect(t, m, database)
	return &side{engine: "mariadb", database: database, at: mariaAt(t, m), run: func(statements ...string) { t.Helper(); mariaRun(t, pool, statements...) },
		kill: m.Kill, back: func() error { return m.Start(context.Background()) }, port: m.Port, capture: mariaPassword(t, m), rows: mariaRows(pool)}
}

func mariaPassword(t *testing.T, m *demo.MariaDB) string {
	password, err := m.Password()
	require.NoError(t, err)
	return password
}

// mariaRows asks a pool of sessions.
func mariaRows(pool *stdsql.DB) func(ctx context.Context, query string) ([]string, error) {
	return func(ctx context.Context, query string) (all []string, err error) {
		rows, err := pool.QueryContext(ctx, query)
		if err != nil {
			return nil, err
		}
		defer rows.Close() //nolint:errcheck // Err tells
		columns, err := rows.Columns()
		if err != nil {
			return nil, err
		}
		values := make([]stdsql.RawBytes, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				return nil, err
			}
			var parts []string
			for _, v := range values {
				parts = append(parts, textOf(v))
			}
			all = append(all, strings.Join(parts, "|"))
		}
		return all, rows.Err()
	}
}

func mariaAt(t *testing.T, m *demo.MariaDB) map[string]any {
	require.NoError(t, m.Login(t.Context(), "keeper", "SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, INDEX, CREATE TEMPORARY TABLES ON *.*"))
	return map[string]any{"kind": "mariadb", "mariadb": map[string]any{"host": "127.0.0.1", "port": m.Port, "user": "keeper", "tls": "disable", "password": "${file:" + m.PasswordFile() + "}"}}
}

func textOf(raw []byte) string {
	if raw == nil {
		return "null"
	}
	return string(raw)
}

// digest is a query's rows in one order.
func (s *side) digest(t *testing.T, query string) []string {
	t.Helper()
	rows, err := s.rows(t.Context(), query)
	require.NoError(t, err, query)
	slices.Sort(rows)
	return rows
}

// shown is a column's expression that both engines show alike; kind is one letter.
func (s *side) shown(column string) string {
	name, kind, _ := strings.Cut(column, ":")
	postgres := s.engine == "postgresql"
	switch kind {
	case "time":
		if postgres {
			return "to_char(" + name + ", 'YYYY-MM-DD HH24:MI:SS.US')"
		}
		return "date_format(" + name + ", '%Y-%m-%d %H:%i:%s.%f')"
	case "zoned":
		if postgres {
			return "to_char(" + name + " AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS.US')"
		}
		return "date_format(" + name + ", '%Y-%m-%d %H:%i:%s.%f')"
	case "bytes":
		if postgres {
			return "encode(" + name + ", 'hex')"
		}
		return "lower(hex(" + name + "))"
	case "json":
		if postgres {
			return "replace(to_jsonb(" + name + ")::text, ' ', '')"
		}
		return "replace(" + name + ", ' ', '')"
	}
	return name
}

func (s *side) list(columns string) string {
	var parts []string
	for _, column := range strings.Fields(columns) {
		parts = append(parts, s.shown(column))
	}
	return strings.Join(parts, ", ")
}

// infinity is the end of the newest versions.
func (s *side) infinity() string {
	if s.engine == "postgresql" {
		return "'infinity'"
	}
	return "'9999-12-31 23:59:59.999999'"
}

// sums reads, through every interruption, what must be the same at the end of each of the
// source's transactions.
type sums struct {
	stop context.CancelFunc
	done sync.WaitGroup
	read int
}

func (s *side) watchSums(t *testing.T, query, want string) *sums {
	ctx, cancel := context.WithCancel(context.Background())
	w := &sums{stop: cancel}
	w.done.Add(1)
	go func() {
		defer w.done.Done()
		for ctx.Err() == nil {
			sum, err := s.rows(ctx, query)
			if err != nil {
				continue // it is away
			}
			if w.read++; sum[0] != want {
				t.Errorf("%s gives %s, not %s: half a transaction can be seen", query, sum[0], want)
				return
			}
		}
	}()
	t.Cleanup(w.end)
	return w
}

func (s *sums) end() {
	s.stop()
	s.done.Wait()
}

// transfers moves amounts between two rows, or among many, in one transaction each.
func (s *side) transfers(t *testing.T) *writers {
	ctx, cancel := context.WithCancel(context.Background())
	w := &writers{stop: cancel}
	random := seeded.Random(t, 99)
	w.done.Add(1)
	go func() {
		defer w.done.Done()
		for n := 0; ctx.Err() == nil; n++ {
			sql := fmt.Sprintf("UPDATE fines SET amount = amount + CASE WHEN fine_id %% 2 = 0 THEN 1 ELSE -1 END WHERE fine_id IN (%d, %d)", 2*random.IntN(500), 1+2*random.IntN(500))
			if n%400 == 0 {
				sql = "UPDATE fines SET amount = amount + CASE WHEN fine_id % 2 = 0 THEN 5 ELSE -5 END" // more than a batch
			}
			s.rows(ctx, sql) //nolint:errcheck // the server may be away; the sum is the same
		}
	}()
	t.Cleanup(w.end)
	return w
}

// stage is a source with its workload, on one instance.
type stage struct {
	*instance
	source  *side
	prefix  string // of its tables' names in events
	write   func() *writers
	settled func()
	caught  func()
}

func stageOf(t *testing.T, engine string, copies int) *stage {
	fines := []string{"CREATE TABLE fines (fine_id integer PRIMARY KEY, amount bigint NOT NULL)"}
	if engine == "postgresql" {
		source := sourceServer(t)
		name := database(t, source, "postgres")
		db := connect(t, source, name)
		fillWorkload(t, db, copies)
		run(t, db, append(fines, "INSERT INTO fines SELECT i, 100 FROM generate_series(0, 999) i")...)
		dropSlotAtEnd(t, source)
		i := newInstance(t, stateServer(t), killConfig).start()
		i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
		return &stage{i, postgresSide(t, source, name), "public", func() *writers { return startWriters(t, source, name, 3, copies) },
			func() { i.settled("circulation", db) }, func() { i.reached("circulation", db) }}
	}
	m := mariaServer(t, nil)
	name, db := mariaDatabase(t, m, append(append(mariaFill(copies), fines...), "INSERT INTO fines SELECT seq, 100 FROM seq_0_to_999")...)
	i := newInstance(t, stateServer(t), killConfig).start()
	i.must(http.MethodPost, "/v1/sources/circulation", mariaSource(t, m, map[string]any{"match": name + ".*"}), nil)
	return &stage{i, mariaSide(t, m, name), name, func() *writers { return startMariaWriters(t, m, name, 3, copies) },
		func() { finishXA(t, db); i.mariaSettled("circulation", db) }, func() { i.mariaReached("circulation", db) }}
}

// targetOf is an empty database of a server of its own, or on the source's where that is of
// the same engine.
func targetOf(t *testing.T, engine string) *side {
	if engine == "postgresql" {
		server := ownServer(t, map[string]string{"wal_level": "logical"})
		return postgresSide(t, server, database(t, server, "postgres"))
	}
	m := mariaServer(t, nil)
	name, _ := mariaDatabase(t, m)
	return mariaSide(t, m, name)
}

// keeps adds an outlet that keeps the source's tables.
func (s *stage) keeps(name string, to *side, options map[string]any, more ...map[string]any) {
	s.t.Helper()
	s.must(http.MethodPost, "/v1/destinations/"+name, to.at, nil)
	outlet := map[string]any{"source": "circulation", "destination": name, to.engine: options, "retry": map[string]any{"first_wait": "20ms", "longest_wait": "300ms"}}
	for _, one := range more {
		for key, value := range one {
			outlet[key] = value
		}
	}
	s.must(http.MethodPost, "/v1/outlets/"+name, outlet, nil)
}

// TestTables keeps the tables of a source under writers in another database, in each of the
// three ways, while the service and the target's server are killed.
func TestTables(t *testing.T)               { pair(t, "postgresql", "postgresql") }
func TestTablesInMariaDB(t *testing.T)      { pair(t, "postgresql", "mariadb") }
func TestTablesFromMariaDB(t *testing.T)    { pair(t, "mariadb", "postgresql") }
func TestTablesBetweenMariaDB(t *testing.T) { pair(t, "mariadb", "mariadb") }

func pair(t *testing.T, from, to string) {
	t.Parallel()
	inRounds(t, func(t *testing.T, round int) { tables(t, round, from, to) })
}

func tables(t *testing.T, round int, from, engine string) {
	s := stageOf(t, from, 2000)
	to := targetOf(t, engine)
	few := map[string]any{"batch": map[string]any{"events": 400}}
	s.keeps("current", to, map[string]any{"schema": "now", "offsets": to.database + ".outlets"}, few)
	s.keeps("flagged", to, map[string]any{"schema": "flagged", "keep": "flagged"}, few)
	s.keeps("versions", to, map[string]any{"schema": "past", "keep": "versions"}, few)
	w := s.write()
	s.resume()
	s.settled()
	moving := s.source.transfers(t)
	s.caughtUp("current", "flagged", "versions")
	watch := to.watchSums(t, "SELECT coalesce(sum(amount), 0) FROM now.fines", "100000")
	// One comes late: the rows are loaded for it alone.
	s.keeps("late", to, map[string]any{"schema": "late", "offsets": to.database + ".late_outlets"}, few, map[string]any{"from": "load"})
	random := draws(t, round, 5)
	for range 5 {
		s.progresses(int64(200 + random.IntN(1500)))
		if random.IntN(2) == 0 {
			s.stop(syscall.SIGKILL)
			s.start()
			continue
		}
		to.kill()
		require.NoError(t, to.back())
	}
	s.progresses(300)
	w.end()
	moving.end()
	s.settled()
	s.caught()
	s.outletIs("late", "is loaded", func(o outletStatus) bool { return len(o.Loads) == 0 })
	s.caught()
	s.caughtUp("current", "flagged", "versions", "late")
	watch.end()
	require.Positive(t, watch.read)
	log, err := os.ReadFile(s.logFile())
	require.NoError(t, err)
	require.NotContains(t, string(log), "are read again for this outlet", "without a condition, each database has what the log left out")
	voids := make(map[string]int)
	all := s.journal("circulation")
	for _, outlet := range []string{"current", "flagged", "versions"} {
		s.outletIs(outlet, fmt.Sprintf("has counted each of %d events once, whatever was killed", len(all)), func(o outletStatus) bool { return o.Delivered == int64(len(all)) })
	}
	for _, e := range all {
		if e.Data.Operation == "void" {
			voids[e.Data.Table]++
		}
	}
	for table, n := range voids {
		require.Equal(t, 1, n, "the load for one outlet voids nothing of %s for others", table)
	}
	tables := []struct{ name, columns, key string }{{"copies", "copy_id shelf_mark price acquired_at:zoned cover:bytes", "copy_id"}, {"loans", "note patron_id copy_id lent:zoned body:json", "copy_id, patron_id"},
		{"shelves", "mark essay visits tags:json", "mark"}, {"fines", "fine_id amount", "fine_id"}}
	if from == "postgresql" {
		tables[1].columns = strings.Replace(tables[1].columns, "zoned", "time", 1)
	} else {
		tables[0].columns, tables[2].columns = strings.Replace(tables[0].columns, "zoned", "time", 1), strings.Replace(tables[2].columns, "json", "bytes", 1)
	}
	for _, table := range tables {
		columns := to.list(table.columns)
		want := s.source.digest(t, "SELECT "+s.source.list(table.columns)+" FROM "+table.name)
		require.NotEmpty(t, want)
		sameRows(t, want, to.digest(t, "SELECT "+columns+" FROM now."+table.name), "%s as it is now", table.name)
		sameRows(t, want, to.digest(t, "SELECT "+columns+" FROM late."+table.name), "%s, loaded late", table.name)
		sameRows(t, want, to.digest(t, "SELECT "+columns+" FROM flagged."+table.name+" WHERE NOT _deleted"), "%s, flagged", table.name)
		sameRows(t, want, to.digest(t, "SELECT "+columns+" FROM past."+table.name+" WHERE _until = "+to.infinity()), "%s, the newest versions", table.name)
		twice := to.digest(t, "SELECT _offset FROM past."+table.name+" GROUP BY _offset HAVING count(*) > 1")
		require.Empty(t, twice, "each event of %s made one version", table.name)
		overlapping := to.digest(t, "SELECT count(*) FROM (SELECT _from < lag(_until) OVER (PARTITION BY "+table.key+" ORDER BY _offset) AS o FROM past."+table.name+") q WHERE o")
		require.Equal(t, []string{"0"}, overlapping, "versions of a row of %s follow each other", table.name)
	}
	s.findsDifferences(t, to)
	// Rewound, each ends in the same rows.
	before := to.digest(t, "SELECT * FROM past.copies")
	for _, outlet := range []string{"current", "versions"} {
		s.must(http.MethodPost, "/v1/outlets/"+outlet+"/rewind", map[string]any{"to": "beginning"}, nil)
	}
	s.caught() // there is more than was delivered before
	s.caughtUp("current", "versions")
	sameRows(t, s.source.digest(t, "SELECT "+s.source.list(tables[0].columns)+" FROM copies"), to.digest(t, "SELECT "+to.list(tables[0].columns)+" FROM now.copies"))
	sameRows(t, before, to.digest(t, "SELECT * FROM past.copies"))
}

// findsDifferences verifies what is equal, and what is not once it has been tampered with.
func (s *stage) findsDifferences(t *testing.T, to *side) {
	for _, outlet := range []string{"current", "flagged", "versions"} {
		v := s.verified(outlet)
		require.True(t, v.Equal, "%+v", v)
		require.GreaterOrEqual(t, len(v.Tables), 4)
	}
	key := func(table, column string, n int) string {
		return to.digest(t, "SELECT "+column+" FROM now."+table+" WHERE "+column+" IS NOT NULL ORDER BY 1")[n]
	}
	gone, other, blank, mark := key("copies", "copy_id", 3), key("copies", "copy_id", 9), key("copies", "copy_id", 12), key("shelves", "mark", 5)
	to.run("DELETE FROM now.copies WHERE copy_id = "+gone, "UPDATE now.copies SET price = price + 0.01 WHERE copy_id = "+other, "UPDATE now.copies SET shelf_mark = concat(shelf_mark, ' ') WHERE copy_id = "+blank,
		"INSERT INTO now.fines VALUES (-7, 1)", "UPDATE now.shelves SET visits = visits + 1 WHERE mark = '"+mark+"'")
	v := s.verified("current")
	require.False(t, v.Equal)
	var found []string
	for _, d := range v.Differences {
		line := d.Kind + " " + strings.TrimPrefix(d.Table, s.prefix+".")
		for _, column := range []string{"copy_id", "fine_id", "mark"} {
			line += " " + d.Key[column]
		}
		for _, c := range d.Columns {
			line += " " + c.Name
		}
		found = append(found, strings.Join(strings.Fields(line), " "))
	}
	require.ElementsMatch(t, []string{"missing copies " + gone, "different copies " + other + " price", "different copies " + blank + " shelf_mark", "extra fines -7", "different shelves " + mark + " visits"}, found)
	// Mended: by a load of what differs, for this outlet alone.
	v = s.verified("current", "--fix")
	require.True(t, v.Equal, "%+v", v)
	fixes := make(map[string]int)
	for _, f := range v.Fixes {
		fixes[strings.TrimPrefix(f.Table, s.prefix+".")] = f.Rows
	}
	require.Equal(t, map[string]int{"copies": 3, "fines": 0, "shelves": 1}, fixes)
	require.Empty(t, to.digest(t, "SELECT fine_id FROM now.fines WHERE fine_id < 0"))
}
