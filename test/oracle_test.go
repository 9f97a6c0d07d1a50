package test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// An oracle that is not ours reads the same log: the server's own test plugin, over
// a slot beside ours. Schema changes of every kind are drawn at random among rows,
// with pauses and kills in between; each transaction must have in our journal the
// events that the oracle has, and the fold must give the tables.

// TestOracle is with the event trigger and without it.
func TestOracle(t *testing.T) {
	t.Parallel()
	for _, trigger := range []bool{false, true} {
		t.Run(map[bool]string{false: "without the trigger", true: "with the trigger"}[trigger], func(t *testing.T) {
			inRounds(t, func(t *testing.T, round int) { oracle(t, round, trigger) })
		})
	}
}

// changer draws statements.
type changer struct {
	random  *rand.Rand
	columns map[string][]string // by table, without id
	gone    map[string][]string // names that columns had which were dropped, by table
	root    [2]string           // the columns of parted, by what they hold
	names   int
	leaves  []string // attached
	loose   []string // detached, as the root is now
}

func (c *changer) pick(from []string) string { return from[c.random.IntN(len(from))] }

func (c *changer) name() string {
	c.names++
	return fmt.Sprintf("c%d", c.names)
}

func (c *changer) row(table string) string {
	id := 1 + c.random.IntN(12)
	columns := c.columns[table]
	values := make([]string, len(columns))
	for i := range values {
		values[i] = fmt.Sprintf("'%s-%d'", columns[i], c.random.IntN(1000))
	}
	if len(columns) == 0 {
		return fmt.Sprintf("INSERT INTO %s VALUES (%d) ON CONFLICT DO NOTHING", table, id)
	}
	switch c.random.IntN(4) {
	case 0:
		return fmt.Sprintf("DELETE FROM %s WHERE id = %d", table, id)
	case 1:
		column := c.pick(columns)
		return fmt.Sprintf("UPDATE %s SET %s = '%d' WHERE id = %d", table, column, c.random.IntN(1000), id)
	}
	return fmt.Sprintf("INSERT INTO %s (id, %s) VALUES (%d, %s) ON CONFLICT (id) DO UPDATE SET %s = excluded.%s", table, strings.Join(columns, ", "), id, strings.Join(values, ", "), columns[0], columns[0])
}

// transaction is one to three changes in one, or one alone.
func (c *changer) transaction() (all []string) {
	for range max(1, c.random.IntN(6)-2) {
		all = append(all, c.statements()...)
	}
	return all
}

// statements are one change, with rows before and after it.
func (c *changer) statements() []string {
	tables := []string{"works", "editions", "authors"}
	table := c.pick(tables)
	columns := c.columns[table]
	switch kind := c.random.IntN(24); {
	case kind < 5:
		return []string{c.row(table), c.row(c.pick(tables)), c.row(table)}
	case kind == 5 && len(columns) > 0: // a column is renamed
		was, now := c.pick(columns), c.name()
		c.columns[table] = replaced(columns, was, now)
		return []string{fmt.Sprintf("ALTER TABLE %s RENAME %s TO %s", table, was, now), c.row(table)}
	case kind == 6 && len(columns) > 1: // two columns swap their names
		a, b := columns[0], columns[1]
		return []string{c.row(table), fmt.Sprintf("ALTER TABLE %s RENAME %s TO swapped", table, a), fmt.Sprintf("ALTER TABLE %s RENAME %s TO %s", table, b, a), fmt.Sprintf("ALTER TABLE %s RENAME swapped TO %s", table, b)}
	case kind == 7 && len(columns) > 0: // one goes, and another comes under its name
		return []string{fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, columns[len(columns)-1]), fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s text", table, columns[len(columns)-1])}
	case kind == 8 && len(columns) > 0:
		was := c.pick(columns)
		c.columns[table] = slices.DeleteFunc(slices.Clone(columns), func(n string) bool { return n == was })
		c.gone[table] = append(c.gone[table], was)
		return []string{c.row("editions"), fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, was)}[1:]
	case kind == 9 && len(columns) < 6:
		name := c.name()
		c.columns[table] = append(slices.Clone(columns), name)
		return []string{fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s text%s", table, name, []string{"", " DEFAULT 'filled'"}[c.random.IntN(2)]), c.row(table)}
	case kind == 10: // two tables swap their names
		c.columns["works"], c.columns["editions"] = c.columns["editions"], c.columns["works"]
		c.gone["works"], c.gone["editions"] = c.gone["editions"], c.gone["works"]
		return []string{"ALTER TABLE works RENAME TO swapped", "ALTER TABLE editions RENAME TO works", "ALTER TABLE swapped RENAME TO editions", c.row("works")}
	case kind == 11: // a table is made again
		c.columns["authors"], c.gone["authors"] = []string{"name"}, nil
		return []string{"DROP TABLE authors", "CREATE TABLE authors (id integer PRIMARY KEY, name text)", c.row("authors")}
	case kind == 12:
		return []string{"TRUNCATE " + table, c.row(table)}
	case kind == 13 && len(c.leaves) > 1: // a partition leaves
		leaf := c.pick(c.leaves)
		c.leaves = slices.DeleteFunc(c.leaves, func(n string) bool { return n == leaf })
		if c.random.IntN(2) == 0 {
			c.loose = append(c.loose, leaf)
			return []string{c.parted(leaf), "ALTER TABLE parted DETACH PARTITION " + leaf, c.parted(leaf)}
		}
		return []string{c.parted(leaf), "DROP TABLE " + leaf}
	case kind == 14: // one comes with its first rows
		c.names++
		leaf := fmt.Sprintf("parted_%d", c.names)
		c.leaves = append(c.leaves, leaf)
		return []string{fmt.Sprintf("CREATE TABLE %s PARTITION OF parted FOR VALUES IN (%d)", leaf, c.names), c.parted(leaf), c.parted(leaf)}
	case kind == 15 && len(c.leaves) > 0:
		return []string{c.parted(c.pick(c.leaves)), "TRUNCATE " + c.pick(c.leaves)}
	case kind == 16 && len(c.loose) > 0: // one comes back
		leaf := c.loose[0]
		c.loose = c.loose[1:]
		c.leaves = append(c.leaves, leaf)
		return []string{c.parted(leaf), fmt.Sprintf("ALTER TABLE parted ATTACH PARTITION %s FOR VALUES IN (%s)", leaf, strings.TrimPrefix(leaf, "parted_"))}
	case kind == 17 && len(c.gone[table]) > 0 && len(columns) < 6: // a column comes back, as another one
		name, before := c.gone[table][0], c.row(c.pick(tables))
		c.gone[table] = c.gone[table][1:]
		c.columns[table] = append(slices.Clone(columns), name)
		kind := c.pick([]string{"text", "varchar(80)", "text NOT NULL DEFAULT 'back'"})
		return []string{before, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, kind), c.row(table)}
	case kind == 18: // one fills rows, is written to, and is gone again
		name := c.name()
		before := c.row(table)
		c.columns[table] = append(slices.Clone(columns), name)
		written := c.row(table)
		c.columns[table] = columns
		return []string{before, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s text DEFAULT 'filled'", table, name), written, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, name)}
	case kind == 19: // what identifies a row changes
		return []string{c.row(table), fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY %s", table, c.pick([]string{"FULL", "DEFAULT"})), c.row(table)}
	case kind == 20: // the key goes, and comes again
		return []string{fmt.Sprintf("ALTER TABLE authors DROP CONSTRAINT %s", "authors_pkey"), "ALTER TABLE authors ADD PRIMARY KEY (id)", c.row("authors")}
	case kind == 21 && len(c.loose) == 0: // columns of a root swap their names between rows
		a, b := c.root[0], c.root[1]
		before := c.partedIfAny()
		c.root = [2]string{b, a}
		return append(append(before, "ALTER TABLE parted RENAME "+a+" TO swapped", "ALTER TABLE parted RENAME "+b+" TO "+a, "ALTER TABLE parted RENAME swapped TO "+b), c.partedIfAny()...)
	}
	return append(c.partedIfAny(), c.row(table))
}

// partedIfAny is a row of some attached leaf.
func (c *changer) partedIfAny() []string {
	if len(c.leaves) == 0 {
		return nil
	}
	return []string{c.parted(c.pick(c.leaves))}
}

// parted writes a row into a leaf, by its own name: it may be detached.
func (c *changer) parted(leaf string) string {
	return fmt.Sprintf("INSERT INTO %s (id, year, %s, %s) VALUES (%d, %s, 'a%[6]d', 'b%[6]d') ON CONFLICT (year, id) DO UPDATE SET %[2]s = excluded.%[2]s", leaf, c.root[0], c.root[1], 1+c.random.IntN(8), strings.TrimPrefix(leaf, "parted_"), c.random.IntN(1000))
}

func replaced(columns []string, was, now string) []string {
	columns = slices.Clone(columns)
	columns[slices.Index(columns, was)] = now
	return columns
}

func oracle(t *testing.T, round int, trigger bool) {
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE works (id integer PRIMARY KEY, title text, note text)", "CREATE TABLE editions (id integer PRIMARY KEY, title text, note text)", "CREATE TABLE authors (id integer PRIMARY KEY, name text)",
		"CREATE TABLE parted (id integer, year integer, note text, shelf text, PRIMARY KEY (year, id)) PARTITION BY LIST (year)", "CREATE TABLE parted_1 PARTITION OF parted FOR VALUES IN (1)", "CREATE TABLE parted_2 PARTITION OF parted FOR VALUES IN (2)",
		"INSERT INTO works SELECT n, 't', 'n' FROM generate_series(1, 5) n", "INSERT INTO parted VALUES (1, 1, 'a'), (1, 2, 'b')")
	dropSlotAtEnd(t, source)
	slot := fmt.Sprintf("oracle_%s", name)
	run(t, db, "SELECT pg_create_logical_replication_slot('"+slot+"', 'test_decoding')")
	t.Cleanup(func() { // before the database is left to others: a slot holds the server's log
		if conn, err := source.Connect(context.Background(), name); err == nil {
			conn.Exec(context.Background(), "SELECT pg_drop_replication_slot('"+slot+"')") //nolint:errcheck // the server ends with the tests
			conn.Close(context.Background())                                               //nolint:errcheck // nothing is open on it
		}
	})
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 150ms\n").start()
	rules := []map[string]any{{"match": "parted", "partitions": "root", "after_rewrite": "reload"}, {"match": "*", "after_rewrite": "reload"}}
	i.must(http.MethodPost, "/v1/sources/circulation", ruled(source, name, rules, nil), nil)
	if trigger {
		_, errs, code := i.cli("source", "setup-sql", "circulation", "--statements", "--run")
		require.Zero(t, code, errs)
	}
	i.resume()
	i.settled("circulation", db)
	random := draws(t, round, 1795623976921362817)
	c := &changer{random: random, names: 10, leaves: []string{"parted_1", "parted_2"},
		columns: map[string][]string{"works": {"title", "note"}, "editions": {"title", "note"}, "authors": {"name"}}, gone: make(map[string][]string), root: [2]string{"note", "shelf"}}
	var said []string
	for step := range 60 {
		apart := random.IntN(5) == 0 // capture is behind meanwhile
		if apart {
			i.must(http.MethodPost, "/v1/sources/circulation/pause", map[string]string{"reason": "a test"}, nil)
		}
		for range 1 + random.IntN(4) {
			statements := c.transaction()
			said = append(said, fmt.Sprint(step, ": ", strings.Join(statements, "; ")))
			run(t, db, "BEGIN; "+strings.Join(statements, "; ")+"; COMMIT")
		}
		if apart {
			i.resume()
		}
		if random.IntN(8) == 0 {
			i.stop(syscall.SIGKILL)
			i.start()
		}
		if step%6 == 5 {
			i.reached("circulation", db)
			i.foldHolds(db, said, false)
		}
	}
	i.reached("circulation", db)
	i.foldHolds(db, said, true)
	compareWithOracle(t, db, slot, i.journal("circulation"))
}

// tables are those of the database that are captured under their own names.
func tablesOf(t *testing.T, db *pgx.Conn) []string {
	rows, _ := db.Query(t.Context(), "SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p') AND NOT relispartition ORDER BY 1")
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	return names
}

// foldHolds waits until the fold of each table that is loaded gives the table: a
// change that no row brings is found a moment later, and until then only the trigger
// tells it. all wants each table to be loaded.
func (i *instance) foldHolds(db *pgx.Conn, said []string, all bool) {
	i.t.Helper()
	wrong, tables := "", []string(nil)
	i.eventually("the fold gives the tables", func() bool {
		f := newFold()
		for _, e := range i.journal("circulation") {
			f.apply(e)
		}
		now := "" // wrong is read while this still runs
		tables = nil
		for _, table := range tablesOf(i.t, db) {
			if !f.loaded["public."+table] {
				if all {
					now += table + " is not loaded; "
				}
				continue
			}
			if what := f.differs(i.t, db, table); what != "" {
				now += table + ": " + what + "; "
				tables = append(tables, table)
			}
		}
		wrong = now
		if wrong != "" && i.t.Context().Err() == nil {
			return false
		}
		return true
	}, func() string {
		for _, table := range tables {
			state, note := i.table("public." + table)
			rows, _ := db.Query(context.Background(), "SELECT pubname || ' has ' || tablename FROM pg_publication_tables WHERE tablename = $1 ORDER BY 1", table)
			published, _ := pgx.CollectRows(rows, pgx.RowTo[string])
			wrong += fmt.Sprintf("\n%s is %s %s; %v", table, state, note, published)
			events := ofTable(i.journal("circulation"), "public."+table)
			for _, e := range events[max(0, len(events)-40):] {
				wrong += "\n" + string(e.raw)
			}
		}
		return wrong + "\n" + strings.Join(said[max(0, len(said)-40):], "\n")
	})
}

// differs says where a fold is not the table; empty where it is.
func (f *fold) differs(t *testing.T, db *pgx.Conn, table string) string {
	want := selectAll(t, db, table)
	got := f.tables["public."+table]
	if len(want) != len(got) {
		lacks, extra := slices.Collect(maps.Keys(want)), slices.Collect(maps.Keys(got))
		return fmt.Sprintf("%d rows, not %d: %v are lacking, %v are too many", len(got), len(want),
			slices.DeleteFunc(lacks, func(key string) bool { return got[key] != nil }), slices.DeleteFunc(extra, func(key string) bool { return want[key] != nil }))
	}
	for key, row := range want {
		folded := make(map[string]string)
		for name, v := range got[key] {
			folded[name] = normal(v)
		}
		if !maps.Equal(row, folded) {
			return fmt.Sprintf("%s is %v, not %v", key, folded, row)
		}
	}
	return ""
}

var decoded = regexp.MustCompile(`^table (.+?): (INSERT|UPDATE|DELETE|TRUNCATE):`)

// compareWithOracle holds that each of our transactions has the events that the oracle
// has, by table and operation. What was written to a table before it was published is
// in no stream: of the tables that were made or moved meanwhile there may be less.
func compareWithOracle(t *testing.T, db *pgx.Conn, slot string, events []*event) {
	t.Helper()
	rows, _ := db.Query(t.Context(), "SELECT xid::text, data FROM pg_logical_slot_get_changes('"+slot+"', NULL, NULL, 'skip-empty-xacts', '1')")
	theirs := make(map[string]map[string]int)
	var xid, data string
	_, err := pgx.ForEachRow(rows, []any{&xid, &data}, func() error {
		m := decoded.FindStringSubmatch(data)
		if m == nil {
			return nil
		}
		if theirs[xid] == nil {
			theirs[xid] = make(map[string]int)
		}
		for _, table := range strings.Split(m[1], ", ") {
			table = regexp.MustCompile(`^public\.parted_\d+$`).ReplaceAllString(table, "public.parted")
			theirs[xid][table+" "+strings.ToLower(m[2])]++
		}
		return nil
	})
	require.NoError(t, err)
	ours := make(map[string]map[string]int)
	for _, e := range events {
		switch e.Data.Operation {
		case "insert", "update", "delete", "truncate":
			id := e.Data.Transaction.ID
			if ours[id] == nil {
				ours[id] = make(map[string]int)
			}
			table := regexp.MustCompile(`^public\.parted_\d+$`).ReplaceAllString(e.Data.Table, "public.parted")
			ours[id][table+" "+e.Data.Operation]++
		}
	}
	compared := 0
	for id, counts := range theirs {
		for what, n := range counts {
			moved := strings.HasPrefix(what, "public.parted ") || strings.HasPrefix(what, "public.authors ") || strings.Contains(what, "swapped")
			switch {
			case strings.HasSuffix(what, "truncate") || moved:
				require.LessOrEqual(t, ours[id][what], n, "transaction %s: %s", id, what)
			default:
				require.Equal(t, n, ours[id][what], "transaction %s: %s, of %v and %v", id, what, counts, ours[id])
				compared++
			}
		}
	}
	for id, counts := range ours {
		for what := range counts {
			require.Positive(t, theirs[id][what], "transaction %s has %s, and the oracle has not", id, what)
		}
	}
	require.Greater(t, compared, 30)
}
