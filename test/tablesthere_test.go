package test

import (
	"fmt"
	"net/http"
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
