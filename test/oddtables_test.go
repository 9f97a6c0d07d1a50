package test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOddTables: tables without columns, with names that an engine does not take, with a key that
// is an array, or a very long one: what one engine cannot have holds that table alone, by name, and
// all others arrive.
func TestOddTables(t *testing.T) {
	t.Parallel()
	const longKey = "repeat(md5(n::text), 1500)"
	i, name := begin(t, "", "CREATE TABLE bare ()", `CREATE TABLE "shelf 📚" (id int PRIMARY KEY, n int)`, `CREATE TABLE faces (id int PRIMARY KEY, "🙂" text)`, "CREATE TABLE keyed (id int PRIMARY KEY, isbn int NOT NULL)",
		"CREATE TABLE lists (a int[], b text[], n int, docs json[], PRIMARY KEY (a, b))", "CREATE TABLE papers (title text PRIMARY KEY, n int)", "CREATE TABLE plain (id int PRIMARY KEY, n int)", "CREATE TABLE dated (d date)", "CREATE TABLE counted (id int PRIMARY KEY, n int)", "CREATE TABLE marks (mark varchar(20) PRIMARY KEY)")
	source := sourceServer(t)
	db := connect(t, source, name)
	s := &stage{instance: i, source: postgresSide(t, source, name)}
	targets := []*side{targetOf(t, "postgresql"), targetOf(t, "mariadb")}
	for n, to := range targets {
		// One is there, with a key of its own that gives each row a number.
		to.run("CREATE SCHEMA current", "CREATE TABLE current.counted (seq "+[]string{"bigserial", "bigint AUTO_INCREMENT"}[n]+" PRIMARY KEY, id int NOT NULL UNIQUE, n int)")
		s.keeps(to.engine, to, map[string]any{"schema": "current", "offsets": to.database + ".outlets", "dropped_columns": "drop"})
	}
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO faces VALUES (1, 'a')", "INSERT INTO keyed VALUES (1, 10), (2, 20)", `INSERT INTO lists VALUES ('{1,2}', '{"a,b",NULL}', 1, ARRAY['null', '{"a": 1}', NULL]::json[]), ('{}', '{"\\ x"}', 2, NULL)`, `INSERT INTO "shelf 📚" VALUES (1, 1)`, "INSERT INTO plain VALUES (1, 1)", "INSERT INTO marks VALUES ('a')")
	i.reached("circulation", db)
	i.caughtUp("postgresql", "mariadb")
	// Somebody alters the targets: from now on they take for one what are two marks.
	targets[0].run("CREATE COLLATION any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false)", "ALTER TABLE current.marks ALTER mark TYPE varchar(20) COLLATE any_case")
	targets[1].run("ALTER TABLE current.marks MODIFY mark varchar(20) COLLATE utf8mb4_general_ci")
	for _, to := range targets {
		for _, verb := range []string{"pause", "resume"} {
			_, errs, code := i.cli("outlet", verb, to.engine)
			require.Zero(t, code, errs)
		}
	}
	run(t, db, "INSERT INTO bare DEFAULT VALUES", "UPDATE lists SET n = 3 WHERE a = '{}'", "ALTER TABLE keyed DROP COLUMN id, ADD PRIMARY KEY (isbn)", "INSERT INTO keyed VALUES (30)", "DELETE FROM keyed WHERE isbn = 10",
		`UPDATE "shelf 📚" SET n = 2`, "INSERT INTO papers SELECT "+longKey+", n FROM generate_series(1, 2) n", "UPDATE papers SET n = 5", "UPDATE plain SET n = 2", "ALTER TABLE marks ADD note text", "INSERT INTO marks VALUES ('A')",
		// No date there: what waits behind that row is no other table's definition.
		"INSERT INTO dated VALUES ('12026-12-02'), ('2026-12-02')", "DROP TABLE dated", "CREATE TABLE dated (id int PRIMARY KEY, n int)", "INSERT INTO dated VALUES (1, 2)",
		"DROP TABLE counted", "CREATE TABLE counted (id int, n int, note text)", "INSERT INTO counted VALUES (1, 2, 'a')")
	i.eventually("the table that was made again is loaded", func() bool {
		return len(ofTable(i.journal("circulation"), "public.dated", "loaded")) == 2 && len(ofTable(i.journal("circulation"), "public.counted", "loaded")) == 2
	})
	i.reached("circulation", db)
	i.caughtUp("postgresql", "mariadb")
	held := map[string][]string{"postgresql": {"public.bare no-columns", "public.marks keys-equal"}, "mariadb": {"public.bare no-columns", "public.faces no-such-name", "public.marks keys-equal", "public.shelf 📚 no-such-name"}}
	for _, to := range targets {
		var got []string
		for _, one := range i.outletIs(to.engine, "runs", func(o outletStatus) bool { return o.Phase == "running" }).Incomplete {
			got = append(got, one.Table+" "+one.Code)
		}
		require.Equal(t, held[to.engine], got)
		require.Equal(t, []string{"20", "30"}, to.digest(t, "SELECT isbn FROM current.keyed"))
		require.Equal(t, []string{"1|2"}, to.digest(t, "SELECT id, n FROM current.plain"))
		require.Equal(t, []string{"1", "3"}, to.digest(t, "SELECT n FROM current.lists"))
		require.Equal(t, []string{"1|2"}, to.digest(t, "SELECT id, n FROM current.dated"))
		require.Equal(t, []string{"1|2|a"}, to.digest(t, "SELECT id, n, note FROM current.counted WHERE seq > 0"))
		require.Equal(t, []string{"seq"}, to.digest(t, "SELECT column_name FROM information_schema.key_column_usage WHERE table_name = 'counted' AND table_schema = 'current' AND constraint_name IN ('PRIMARY', 'counted_pkey')"))
		v := i.verified(to.engine, "--tables", "public.dated,public.lists,public.keyed,public.plain")
		require.True(t, v.Equal, "%+v", v)
	}
	require.Equal(t, []string{`{"null","{\"a\": 1}",NULL}|3`}, targets[0].digest(t, "SELECT docs, array_length(docs, 1) FROM current.lists WHERE docs IS NOT NULL"), "a document that is null is no null")
	require.Equal(t, []string{"5", "5"}, targets[0].digest(t, "SELECT n FROM current.papers"))
	l := i.letters("mariadb") // whose keys are shorter, and which has no year 12026
	require.EqualValues(t, 3, l.Dead, "%+v", l)
	require.EqualValues(t, 3, l.Behind, "%+v", l)
	// What the outlet says leads on.
	_, errs, code := i.cli("outlet", "edit", "mariadb", "--set", `mariadb.renamed_tables={"public.shelf 📚": "current.shelf"}`)
	require.Zero(t, code, errs)
	_, errs, code = i.cli("outlet", "load", "mariadb", "--tables", "public.shelf 📚", "--wait")
	require.Zero(t, code, errs)
	require.Equal(t, []string{"1|2"}, targets[1].digest(t, "SELECT id, n FROM current.shelf"))
}
