package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

type schemaEvent struct {
	Definition, Previous *struct {
		Columns []struct{ Name, Type string }
	}
	Rewrites  bool
	Statement string
	Renamed   []struct{ From, To string }
}

func schemasOf(t *testing.T, events []*event, table string) (all []schemaEvent) {
	t.Helper()
	for _, e := range ofTable(events, table, "schema") {
		var s schemaEvent
		require.NoError(t, json.Unmarshal(e.Data.Schema, &s))
		all = append(all, s)
	}
	return all
}

// TestStatementsAreOnRecord installs the event trigger: a schema change is an
// event at once and in order, with its statement, and a rename is certain.
func TestStatementsAreOnRecord(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source:\n  refresh_every: 1h\n", "CREATE TYPE mood AS ENUM ('low')", "CREATE TABLE loans (id integer PRIMARY KEY, note text, m mood)", "CREATE TABLE holds (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1, 'a', 'low')")
	db := connect(t, sourceServer(t), name)
	out, errs, code := i.cli("source", "setup-sql", "circulation", "--statements", "--run")
	require.Zero(t, code, errs)
	require.Contains(t, out, "was run")
	_, errs, code = i.cli("source", "setup-sql", "circulation", "--statements", "--run") // twice changes nothing
	require.Zero(t, code, errs)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "BEGIN; UPDATE loans SET note = 'b'; ALTER TABLE loans RENAME COLUMN note TO remark; UPDATE loans SET remark = 'c'; COMMIT",
		"ALTER TYPE mood ADD VALUE 'fine'", "ALTER TABLE loans ALTER COLUMN id TYPE bigint", "ALTER TABLE loans ADD COLUMN plain integer, DROP COLUMN m", "ALTER TABLE holds ALTER id SET STATISTICS 100", "DROP TABLE holds", "ALTER TABLE loans RENAME TO lendings")
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events)
	schemas := schemasOf(t, events, "public.loans")
	require.Equal(t, "", schemas[0].Statement)
	var told []string
	for _, s := range schemas[1:] {
		if s.Statement != "" { // a look at the catalogue may have been ahead of the log
			told = append(told, s.Statement)
		}
	}
	told = strings.Split(strings.Join(told, ";\n"), ";\n") // whichever of them the events fall together in
	require.Contains(t, told[0], "RENAME COLUMN note TO remark")
	at := slices.IndexFunc(schemas, func(s schemaEvent) bool { return strings.Contains(s.Statement, "RENAME COLUMN") })
	require.Equal(t, []struct{ From, To string }{{"note", "remark"}}, schemas[at].Renamed)
	require.Equal(t, []string{"ALTER TYPE mood ADD VALUE 'fine'", "ALTER TABLE loans ALTER COLUMN id TYPE bigint", "ALTER TABLE loans ADD COLUMN plain integer, DROP COLUMN m", "ALTER TABLE loans RENAME TO lendings"},
		told[1:], "in order")
	gone := schemasOf(t, events, "public.holds")
	require.Nil(t, gone[1].Definition)
	require.Equal(t, "ALTER TABLE holds ALTER id SET STATISTICS 100;\nDROP TABLE holds", gone[1].Statement, "with what no event has said before")
	// In the transaction of the rename, the event stands between both updates.
	var order []string
	for _, e := range ofTable(events, "public.loans", "schema", "update") {
		if e.Data.Operation == "update" || strings.Contains(string(e.raw), "RENAME COLUMN") {
			order = append(order, e.Data.Operation)
		}
	}
	require.Equal(t, []string{"update", "schema", "update"}, order[:3])
	// The versions are told apart by the client as well.
	var versions struct {
		Items []struct{ Fingerprint, Table string }
	}
	i.must(http.MethodGet, "/v1/schemas?source=circulation", nil, &versions)
	var loans []string
	for _, v := range versions.Items {
		if v.Table == "public.loans" {
			loans = append(loans, v.Fingerprint)
		}
	}
	for n := range len(loans) - 1 { // those of one transaction are in any order
		out, errs, code = i.cli("schema", "diff", loans[n], loans[n+1])
		require.Zero(t, code, errs)
		if strings.Contains(out, "remark") && strings.Contains(out, "dropped") {
			break
		}
	}
	require.Contains(t, out, "remark")
	require.Contains(t, out, "dropped")
	_, errs, code = i.cli("schema", "diff", loans[0], versions.Items[0].Fingerprint)
	require.NotZero(t, code, errs)
	out, errs, code = i.cli("source", "teardown-sql", "circulation")
	require.Zero(t, code, errs)
	require.Contains(t, out, "DROP EVENT TRIGGER")
}

// TestTypesThatReadOtherwise alters the types that columns are made of: rows that were there
// read otherwise from then on, and the log has nothing of it.
func TestTypesThatReadOtherwise(t *testing.T) {
	t.Parallel()
	columns := map[string][2]string{ // the column's type, and a value
		"plain": {"mood", "fine"}, "arrays": {"mood[]", "{fine,low}"}, "domains": {"feeling", "fine"}, "arrays_of_domains": {"feeling[]", "{low}"},
		"domains_of_arrays": {"feelings", "{fine}"}, "composites": {"mark", "(fine,1)"}, "ranges": {"moods", "[low,fine)"}, "multiranges": {"moods_many", "{[low,fine)}"},
		"addresses": {"address", "(Elm,1)"}, "arrays_of_addresses": {"address[]", `{"(Elm,1)"}`},
	}
	setUp := []string{"CREATE TYPE mood AS ENUM ('low', 'fine')", "CREATE DOMAIN feeling AS mood", "CREATE DOMAIN feelings AS mood[]", "CREATE TYPE mark AS (m mood, n integer)",
		"CREATE TYPE moods AS RANGE (subtype = mood, multirange_type_name = moods_many)", "CREATE TYPE address AS (street text, number integer)"}
	for table, c := range columns {
		setUp = append(setUp, fmt.Sprintf("CREATE TABLE %s (id integer PRIMARY KEY, c %s)", table, c[0]), fmt.Sprintf("INSERT INTO %s VALUES (1, '%s')", table, c[1]))
	}
	i, name := begin(t, "source:\n  refresh_every: 200ms\n", setUp...)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "ALTER TYPE mood ADD VALUE 'high'", "ALTER TYPE address RENAME ATTRIBUTE street TO road")
	i.eventually("another label is another version", func() bool {
		return len(ofTable(i.journal("circulation"), "public.arrays_of_domains", "schema")) == 2
	})
	for table := range columns {
		state, _ := i.table("public." + table)
		require.Equal(t, "following", state, "%s: no row reads otherwise", table)
	}
	run(t, db, "BEGIN; ALTER TYPE mood RENAME VALUE 'low' TO 'between'; ALTER TYPE mood RENAME VALUE 'fine' TO 'low'; ALTER TYPE mood RENAME VALUE 'between' TO 'fine'; COMMIT",
		"ALTER TYPE address DROP ATTRIBUTE number")
	for table := range columns {
		i.comesTo("public."+table, "stale")
	}
	proveJournal(t, i.journal("circulation"))
}

// TestSchemaChangesShowWithoutRows finds a change that no row brings by looking.
func TestSchemaChangesShowWithoutRows(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source:\n  refresh_every: 200ms\n", "CREATE TYPE mood AS ENUM ('low', 'fine')", "CREATE TABLE moods (id integer PRIMARY KEY, m mood)", "INSERT INTO moods VALUES (1, 'fine')", "CREATE TABLE loans (id integer PRIMARY KEY, note text)", "CREATE TABLE holds (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1, 'a')", "INSERT INTO holds VALUES (1)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "ALTER TABLE loans ADD COLUMN filled integer DEFAULT 7", "DROP TABLE holds")
	i.comesTo("public.holds", "gone")
	i.eventually("a new column is another version", func() bool { return len(ofTable(i.journal("circulation"), "public.loans", "schema")) == 2 })
	run(t, db, "ALTER TYPE mood ADD VALUE 'high'")
	i.eventually("another label is another version", func() bool { return len(ofTable(i.journal("circulation"), "public.moods", "schema")) == 2 })
	state, _ := i.table("public.moods")
	require.Equal(t, "following", state, "a new label changes no row")
	run(t, db, "ALTER TYPE mood RENAME VALUE 'fine' TO 'good'")
	i.comesTo("public.moods", "stale")
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "loans")
	loans := schemasOf(t, events, "public.loans")
	require.False(t, loans[1].Rewrites, "it says what has filled the rows")
	require.Nil(t, schemasOf(t, events, "public.holds")[1].Definition)
	run(t, db, "CREATE TABLE holds (id bigint PRIMARY KEY, note text)", "INSERT INTO holds VALUES (2, 'made again')")
	i.comesTo("public.holds", "following")
	i.reached("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "holds")
}

// TestRandomSchemaChanges mixes statements that change the schema with rows,
// several in a transaction, and holds that each event has the columns that its
// table had at that moment: a row's own column tells which.
func TestRandomSchemaChanges(t *testing.T) {
	t.Parallel()
	inRounds(t, randomSchemaChanges)
}

func randomSchemaChanges(t *testing.T, round int) {
	i, name := begin(t, "source:\n  refresh_every: 100ms\n", "CREATE TABLE loans (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, has text)", "INSERT INTO loans (has) VALUES ('')")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	random := draws(t, round, 7)
	columns := map[string]bool{}
	has := func() string {
		var names []string
		for n := range 6 {
			if name := fmt.Sprintf("c%d", n); columns[name] {
				names = append(names, name)
			}
		}
		return fmt.Sprint(names)
	}
	for range 60 {
		statements := "BEGIN;"
		before := map[string]bool{}
		for k, v := range columns {
			before[k] = v
		}
		for range 1 + random.IntN(4) {
			column := fmt.Sprintf("c%d", random.IntN(6))
			switch kind := random.IntN(5); {
			case kind < 2:
				statements += fmt.Sprintf("INSERT INTO loans (has) VALUES ('%s');", has())
			case columns[column]:
				statements += "ALTER TABLE loans DROP COLUMN " + column + ";"
				columns[column] = false
			default:
				statements += "ALTER TABLE loans ADD COLUMN " + column + []string{" integer;", " text;", " numeric(6,2);"}[random.IntN(3)]
				columns[column] = true
			}
		}
		statements += fmt.Sprintf("UPDATE loans SET has = '%s' WHERE id = 1;", has())
		if random.IntN(5) == 0 {
			statements += "ROLLBACK"
			columns = before
		} else {
			statements += "COMMIT"
		}
		run(t, db, statements)
	}
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	for _, e := range ofTable(events, "public.loans", "insert", "update") {
		var names []string
		for n := range 6 {
			if _, there := e.Data.After[fmt.Sprintf("c%d", n)]; there {
				names = append(names, fmt.Sprintf("c%d", n))
			}
		}
		var said string
		require.NoError(t, json.Unmarshal(e.Data.After["has"], &said))
		require.Equal(t, said, fmt.Sprint(names), "%s", e.ID)
	}
	require.Len(t, f.tables["public.loans"], len(ofTable(events, "public.loans", "existing", "insert")))
}

// TestARenameBesideALook renames tables and writes to them while the source is looked at all the
// time: what a look has listed before is not taken for what the log has said since.
func TestARenameBesideALook(t *testing.T) {
	t.Parallel()
	const count = 30
	var statements []string
	for n := range count {
		statements = append(statements, fmt.Sprintf("CREATE TABLE shelf%d (id bigint PRIMARY KEY)", n), fmt.Sprintf("INSERT INTO shelf%d VALUES (1)", n))
	}
	i, name := begin(t, "source:\n  refresh_every: 20ms\n", statements...)
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	for n := range count {
		run(t, db, fmt.Sprintf("ALTER TABLE shelf%d RENAME TO rack%[1]d", n), fmt.Sprintf("UPDATE rack%d SET id = id", n))
		if n%3 == 0 {
			i.reached("circulation", db)
		}
	}
	i.reached("circulation", db)
	i.settled("circulation", db)
	gone := make(map[string]int)
	for _, e := range i.journal("circulation") {
		if e.Data.Operation == "schema" && strings.Contains(string(e.Data.Schema), `"definition":null`) {
			gone[e.Data.Table]++
		}
	}
	for n := range count {
		require.Equal(t, []int{1, 0}, []int{gone[fmt.Sprintf("public.shelf%d", n)], gone[fmt.Sprintf("public.rack%d", n)]}, "table %d", n)
	}
}

// TestANameThatComesBack: behind the event that a table is gone, whatever has its name next begins
// with a schema event of its own, though it has the columns that were seen before; across restarts,
// and whether it is the same table or another one.
func TestANameThatComesBack(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source:\n  refresh_every: 100ms\n", "CREATE TABLE loans (id bigint PRIMARY KEY, note text)", "INSERT INTO loans VALUES (1, 'a')",
		"CREATE TABLE holds (id bigint PRIMARY KEY, note text)", "INSERT INTO holds VALUES (1, 'a')")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	for n := range 3 {
		run(t, db, "ALTER TABLE loans RENAME TO elsewhere", "DROP TABLE holds", "UPDATE elsewhere SET note = 'b'")
		if n != 1 {
			i.comesTo("public.loans", "gone")
			i.comesTo("public.holds", "gone")
		}
		if n == 2 {
			i.stop(syscall.SIGKILL)
			i.start()
		}
		run(t, db, "ALTER TABLE elsewhere RENAME TO loans", "CREATE TABLE holds (id bigint PRIMARY KEY, note text)", "INSERT INTO holds VALUES (2, 'c')", "UPDATE loans SET note = 'c'")
		i.eventually("both are followed", func() bool {
			loans, _ := i.table("public.loans")
			holds, _ := i.table("public.holds")
			return loans == "following" && holds == "following"
		})
		i.settled("circulation", db)
	}
	f := proveJournal(t, i.journal("circulation")) // each row's version has been announced
	f.equals(t, db, "loans")
	f.equals(t, db, "holds")
}
