package test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

func TestTablesThatAreThere(t *testing.T) {
	t.Parallel()
	c := sourceServer(t)
	tablesThatAreThere(t, postgresSide(t, c, database(t, c, "postgres")), "place")
}

func TestTablesThatAreThereInMariaDB(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	_, db := mariaDatabase(t, m)
	mariaRun(t, db, "CREATE DATABASE place_there")
	tablesThatAreThere(t, mariaSide(t, m, "place_there"), "place_there")
}

// tablesThatAreThere: before an outlet writes into tables of a database, a check compares
// those that are there with what the source's rows need, and what it says comes true.
func tablesThatAreThere(t *testing.T, target *side, schema string) {
	i, name := begin(t, "source:\n  refresh_every: 300ms\n", "CREATE TABLE fine (id bigint PRIMARY KEY, note varchar(40))", "CREATE TABLE made (id bigint PRIMARY KEY, at date)",
		"CREATE TABLE narrow (id bigint PRIMARY KEY, price numeric(8,2), note varchar(100), n bigint)", "CREATE TABLE named (id bigint PRIMARY KEY, branch_id integer, title text)",
		"CREATE TABLE nokey (id bigint PRIMARY KEY, note text)", "CREATE TABLE filled (id bigint PRIMARY KEY, note text)", "CREATE TABLE seen (id bigint PRIMARY KEY)", "CREATE TABLE moved (id bigint PRIMARY KEY)", "CREATE TABLE dropped (id bigint PRIMARY KEY)", "CREATE TABLE gone (id bigint PRIMARY KEY)",
		"INSERT INTO narrow VALUES (1, 12.50, 'a long note of more than ten letters', 5000000000), (2, 3, 'short', 1)", "INSERT INTO named VALUES (1, 7, 'x')", "INSERT INTO nokey VALUES (1, 'x')", "INSERT INTO filled VALUES (1, 'x')", "INSERT INTO moved VALUES (1)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "DROP TABLE gone", "INSERT INTO made VALUES (1, '2026-11-26')")
	i.reached("circulation", db)
	if target.engine == "postgresql" {
		target.run("CREATE SCHEMA " + schema)
	}
	in := func(table string) string { return schema + "." + table }
	target.run("CREATE TABLE "+in("fine")+" (id bigint PRIMARY KEY, note varchar(200), extra integer)", "CREATE TABLE "+in("narrow")+" (id integer PRIMARY KEY, price decimal(6,1), note varchar(10), n bigint)",
		"CREATE TABLE "+in("named")+" (id bigint PRIMARY KEY, branch integer, title text)", "CREATE TABLE "+in("nokey")+" (id bigint, note text)", "CREATE TABLE "+in("filled")+" (id bigint PRIMARY KEY, note text)",
		"INSERT INTO "+in("filled")+" VALUES (99, 'mine')", "CREATE VIEW "+in("seen")+" AS SELECT 1 AS id", "CREATE TABLE "+in("elsewhere")+" (id bigint PRIMARY KEY)")
	i.must(http.MethodPost, "/v1/destinations/there", target.at, nil)
	settings := map[string]any{"schema": schema, "renamed_tables": map[string]string{"public.moved": in("elsewhere")}}
	definition := map[string]any{"source": "circulation", "destination": "there", target.engine: settings}
	check := func() map[string]change.Check {
		t.Helper()
		var found struct{ Items []change.Check }
		i.must(http.MethodPost, "/v1/outlets/there/check", definition, &found)
		by := make(map[string]change.Check)
		for _, c := range found.Items {
			by[strings.TrimPrefix(c.Name, "table public.")] = c
		}
		return by
	}
	i.eventually("the table is known to be gone", func() bool { return !strings.Contains(fmt.Sprint(check()["tables that are not there"]), "gone") })
	said := check()
	quoted := `"place"."fine"`
	if target.engine == "mariadb" {
		quoted = "`place_there`.`fine`"
	}
	require.Contains(t, said["tables that are there"].Found, quoted)
	require.Contains(t, said["tables that are there"].Found, "elsewhere")
	require.NotContains(t, said["tables that are there"].Found, "narrow")
	require.Contains(t, said["tables that are not there"].Found, "made")
	for table, want := range map[string]struct {
		verdict change.Verdict
		says    string
	}{
		"narrow": {change.Note, "narrower than"},
		"named":  {change.Note, `it has no column "branch_id", and "branch" is none of the source's: they may be one`},
		"nokey":  {change.Missing, "no unique index on just the key"},
		"filled": {change.Missing, "has rows that the outlet did not write"},
		"seen":   {change.Missing, "is no table"},
	} {
		require.Equal(t, want.verdict, said[table].Verdict, "%s: %+v", table, said[table])
		require.Contains(t, said[table].Found, want.says)
	}
	for _, column := range []string{"column id is", "column price is", "column note is"} {
		require.Contains(t, said["narrow"].Found, column)
	}
	require.NotContains(t, said["narrow"].Found, "column n is")
	require.Contains(t, said["named"].Fix, "rows: [{match: public.named, columns: [{match: branch_id, name: branch}]}]")
	require.Len(t, target.digest(t, "SELECT * FROM "+in("filled")), 1, "a check changes nothing")

	// What it says is done: the statements as they stand there, the mapping, another name.
	for _, table := range []string{"narrow", "nokey", "filled", "named"} {
		for _, statement := range strings.FieldsFunc(said[table].Fix, func(r rune) bool { return r == ';' || r == '\n' }) {
			if strings.HasPrefix(statement, "ALTER TABLE") {
				target.run(statement)
			}
		}
	}
	target.run("DELETE FROM "+in("filled"), "DROP VIEW "+in("seen"))
	definition["rows"] = []map[string]any{{"match": "public.named", "columns": []map[string]any{{"match": "branch_id", "name": "branch"}}}}
	for table, c := range check() {
		require.NotEqual(t, change.Missing, c.Verdict, "%s: %+v", table, c)
		require.NotContains(t, c.Found, "narrower", table)
	}
	i.must(http.MethodPost, "/v1/outlets/there", definition, nil)
	i.caughtUp("there")
	require.Zero(t, i.letters("there").Dead)
	require.Equal(t, []string{"1|7|x"}, target.digest(t, "SELECT id, branch, title FROM "+in("named")))
	require.Equal(t, []string{"1"}, target.digest(t, "SELECT id FROM "+in("elsewhere")))
	require.Equal(t, []string{"1|12.50|a long note of more than ten letters|5000000000", "2|3.00|short|1"}, target.digest(t, "SELECT id, price, note, n FROM "+in("narrow")))
	// One that has gone from the source since says so, and the others are compared.
	run(t, db, "DROP TABLE dropped")
	v := i.verified("there")
	require.Empty(t, v.Differences)
	for _, one := range v.Tables {
		if one.Table == "public.dropped" {
			require.Equal(t, "it is no longer at the source", one.Skipped)
		} else {
			require.Empty(t, one.Skipped)
		}
	}
	for table, c := range check() {
		require.NotEqual(t, change.Missing, c.Verdict, "its own tables are fine: %s: %+v", table, c)
	}

	// The check of a second outlet names the outlet that writes the tables. With fixed definitions
	// it gives the statements.
	out, errs, code := i.cli("outlet", "add", "second", "--source", "circulation", "--destination", "there", "--to-schema", schema)
	require.Zero(t, code, errs+out)
	out, _, code = i.cli("outlet", "check", "second")
	require.NotZero(t, code)
	require.Contains(t, out, "the outlet there writes")
	settings["definitions"], settings["schema"] = "fixed", schema+"_2"
	delete(settings, "renamed_tables")
	require.Contains(t, check()["made"].Fix, "CREATE TABLE")
	out, _, _ = i.cli("outlet", "preview", "second")
	require.Contains(t, out, "its tables")

	// Two tables in one place are refused at definition.
	settings["table"] = "all"
	status, raw, err := i.call(http.MethodPost, "/v1/outlets/third", definition)
	require.NoError(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, string(raw), "would both be written into")
}

// heldTable is a table of a database that would not keep rows as they are written.
type heldTable struct {
	source, target string // how it is made there and here, $T its name
	rows           string // VALUES of the source's
	// says is what the check says of it. It begins with "note: " where the outlet delivers in spite
	// of it, and is empty where nothing is wrong.
	says string
}

// TestTablesThatWouldNotKeepRows: tables of PostgreSQL that lose or alter rows without an
// error are refused, and once what the refusal says is done the rows are all there.
func TestTablesThatWouldNotKeepRows(t *testing.T) {
	t.Parallel()
	const plain, row = "(id integer PRIMARY KEY, v text)", "(1, 'a'), (2, 'b')"
	mood := "CREATE TYPE mood AS ENUM ('low'"
	all := map[string]heldTable{
		"twins":    {"CREATE TABLE $T (id text PRIMARY KEY, v text)", "CREATE TABLE $T (id text COLLATE any_case PRIMARY KEY, v text)", "('a', 'x'), ('A', 'y')", "collation is not deterministic"},
		"anycase":  {"CREATE TABLE $T (id text PRIMARY KEY, v text)", "CREATE TABLE $T (id public.citext PRIMARY KEY, v text)", "('a', 'x'), ('A', 'y')", "citext"},
		"same":     {"CREATE TABLE $T (id text COLLATE any_case PRIMARY KEY, v text)", "CREATE TABLE $T (id text COLLATE any_case PRIMARY KEY, v text)", "('a', 'x'), ('B', 'y')", ""},
		"rounded":  {"CREATE TABLE $T (id numeric(8,2) PRIMARY KEY, v text)", "CREATE TABLE $T (id numeric(8,1) PRIMARY KEY, v text)", "(1.01, 'x'), (1.02, 'y')", "may be rounded to one"},
		"seconds":  {"CREATE TABLE $T (id timestamptz PRIMARY KEY, v text)", "CREATE TABLE $T (id timestamptz(0) PRIMARY KEY, v text)", "('2026-11-27 10:00:00.1Z', 'x'), ('2026-11-27 10:00:00.2Z', 'y')", "may be rounded to one"},
		"hidden":   {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + "; ALTER TABLE $T ENABLE ROW LEVEL SECURITY; CREATE POLICY part ON $T USING (id > 1) WITH CHECK (true)", row, "row-level security"},
		"forced":   {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + "; ALTER TABLE $T OWNER TO $U; ALTER TABLE $T ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY", row, "row-level security"},
		"unlogged": {"CREATE TABLE $T " + plain, "CREATE UNLOGGED TABLE $T " + plain, row, "is unlogged"},
		"acting":   {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + "; CREATE TRIGGER shouts BEFORE INSERT ON $T FOR EACH ROW EXECUTE FUNCTION shout(); ALTER TABLE $T ENABLE ALWAYS TRIGGER shouts", row, "note: trigger shouts"},
		"ruled":    {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + "; CREATE RULE none AS ON DELETE TO $T DO INSTEAD NOTHING; ALTER TABLE $T ENABLE ALWAYS RULE none", row, "note: rule none"},
		"parent":   {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + "; CREATE TABLE $T_child () INHERITS ($T)", row, "inherit from"},
		"deferred": {"CREATE TABLE $T " + plain, "CREATE TABLE $T (id integer PRIMARY KEY DEFERRABLE, v text)", row, "no unique index"},
		"parts":    {"CREATE TABLE $T " + plain, "CREATE TABLE $T " + plain + " PARTITION BY HASH (id); CREATE TABLE $T_0 PARTITION OF $T FOR VALUES WITH (MODULUS 1, REMAINDER 0)", row, ""},
		"moods":    {"CREATE TABLE $T (id integer PRIMARY KEY, v mood)", "CREATE TABLE $T (id integer PRIMARY KEY, v mood)", "(1, 'low'), (2, 'fine')", ""},
	}
	anyCase := "CREATE COLLATION any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
	i, name := begin(t, "", mood+", 'fine')", anyCase, "CREATE TABLE first (id integer PRIMARY KEY)")
	c := sourceServer(t)
	db := connect(t, c, name)
	into := database(t, c, "postgres")
	user := "writer_" + into
	target := postgresSide(t, c, into)
	target.run("CREATE EXTENSION citext", mood+")", anyCase, "CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.v := upper(NEW.v); RETURN NEW; END'", "CREATE ROLE "+user+" LOGIN PASSWORD 'made up'",
		"GRANT CREATE, TEMPORARY ON DATABASE "+into+" TO "+user, "GRANT SET ON PARAMETER session_replication_role TO "+user, "GRANT CREATE ON SCHEMA public TO "+user, "ALTER TYPE mood OWNER TO "+user)
	login := target.at["postgresql"].(map[string]any)
	login["user"], login["password"] = user, "made up"
	i.wouldNotKeep(t, "circulation", "public", func(s string) { run(t, db, s) }, target, "public", user, all, func() {
		run(t, connect(t, c, into), "GRANT SELECT, INSERT, UPDATE, DELETE, TRUNCATE ON ALL TABLES IN SCHEMA public TO "+user)
		i.resume()
		i.settled("circulation", db)
	})
	require.Equal(t, []string{"fine", "low"}, target.digest(t, "SELECT v FROM moods"))
}

// TestTablesThatWouldNotKeepRowsInMariaDB: keys that are two at the source and one here.
func TestTablesThatWouldNotKeepRowsInMariaDB(t *testing.T) {
	t.Parallel()
	keyed := func(kind string) string { return "CREATE TABLE $T (id " + kind + " PRIMARY KEY, v text)" }
	text := func(collation string) string { return keyed("varchar(20) COLLATE " + collation) }
	all := map[string]heldTable{
		"exact":   {text("utf8mb4_bin"), text("utf8mb4_general_ci"), "('a', 'x'), ('A', 'y')", "takes different keys for equal"},
		"rules":   {text("utf8mb4_general_ci"), text("utf8mb4_unicode_ci"), "('ß', 'x'), ('ss', 'y')", "takes different keys for equal"},
		"sets":    {keyed("varchar(20) CHARACTER SET latin1 COLLATE latin1_swedish_ci"), text("utf8mb4_general_ci"), "('ä', 'x'), ('a', 'y')", "takes different keys for equal"},
		"padded":  {text("utf8mb4_nopad_bin"), text("utf8mb4_bin"), "('a', 'x'), ('a ', 'y')", "takes different keys for equal"},
		"rounded": {keyed("decimal(8,2)"), keyed("decimal(8,1)"), "(1.01, 'x'), (1.02, 'y')", "may be rounded to one"},
		"seconds": {keyed("datetime(3)"), keyed("datetime"), "('2026-11-27 10:00:00.1', 'x'), ('2026-11-27 10:00:00.2', 'y')", "may be rounded to one"},
		"same":    {text("utf8mb4_general_ci"), text("utf8mb4_general_ci"), "('a', 'x'), ('B', 'y')", ""},
		"wider":   {keyed("varchar(20) CHARACTER SET utf8mb3 COLLATE utf8mb3_general_ci"), text("utf8mb4_general_ci"), "('a', 'x'), ('B', 'y')", ""},
		"finer":   {text("utf8mb4_general_ci"), text("utf8mb4_bin"), "('a', 'x'), ('B', 'y')", ""},
	}
	m := mariaServer(t, nil)
	i, name, db := mariaFollowed(t, m, "", "CREATE TABLE first (id int PRIMARY KEY)")
	target := targetOf(t, "mariadb")
	i.wouldNotKeep(t, "catalogue", name, func(s string) { mariaRun(t, db, s) }, target, target.database, "", all, func() { i.mariaSettled("catalogue", db) })
}

// wouldNotKeep makes the tables on both sides and an outlet for each, and runs the statements
// that the checks give.
func (i *instance) wouldNotKeep(t *testing.T, source, from string, there func(string), target *side, into, user string, all map[string]heldTable, ready func()) {
	statements := func(text, table string) []string {
		return strings.Split(strings.NewReplacer("$T", table, "$U", user).Replace(text), "; ")
	}
	for table, one := range all {
		for _, s := range statements(one.source, table) {
			there(s)
		}
		there("INSERT INTO " + table + " VALUES " + one.rows)
		target.run(statements(one.target, table)...)
	}
	ready()
	i.must(http.MethodPost, "/v1/destinations/there", target.at, nil)
	definition := map[string]any{"source": source, "destination": "there", target.engine: map[string]any{"schema": into}}
	fixes := make(map[string]string)
	for table, one := range all {
		definition["tables"] = []string{from + "." + table}
		var found struct{ Items []change.Check }
		i.must(http.MethodPost, "/v1/outlets/"+table+"/check", definition, &found)
		at := slices.IndexFunc(found.Items, func(c change.Check) bool { return c.Name == "table "+from+"."+table })
		i.must(http.MethodPost, "/v1/outlets/"+table, definition, nil)
		if note, is := strings.CutPrefix(one.says, "note: "); is {
			require.Equal(t, change.Note, found.Items[at].Verdict)
			require.Contains(t, found.Items[at].Found, note)
			continue
		}
		if one.says == "" {
			require.True(t, at < 0 || found.Items[at].Verdict != change.Missing, "%+v", found.Items)
			continue
		}
		require.GreaterOrEqual(t, at, 0, "%s: %+v", table, found.Items)
		require.Equal(t, change.Missing, found.Items[at].Verdict)
		require.Contains(t, found.Items[at].Found, one.says)
		held := i.outletIs(table, "it holds before its first row", func(o outletStatus) bool { return o.Phase == "failed" })
		require.Contains(t, fmt.Sprint(held), one.says)
		require.Equal(t, []string{"0"}, target.digest(t, "SELECT count(*) FROM "+table))
		fix, _, _ := strings.Cut(strings.TrimPrefix(found.Items[at].Fix, "as superuser: "), ";")
		if fixes[table] = fix; table == "parent" {
			fixes[table] = "DROP TABLE parent_child"
		}
	}
	for table, fix := range fixes {
		target.run(fix)
		i.must(http.MethodPost, "/v1/outlets/"+table+"/resume", nil, nil)
	}
	for table := range all {
		i.caughtUp(table)
		require.Equal(t, []string{"2"}, target.digest(t, "SELECT count(*) FROM "+table), table)
		require.Zero(t, i.letters(table).Dead, table)
	}
}
