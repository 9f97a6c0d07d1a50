package test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// TestScriptsWithHostileNames: the scripts for an administrator do what they are for, and
// nothing else, whatever the login and the tables are called; they can be run again, and
// after the teardown nothing is left that would keep the role.
func TestScriptsWithHostileNames(t *testing.T) {
	t.Parallel()
	const role = "o'brien \"x\" $$ $rillmark$\n; DROP TABLE bait; -- \\"
	tables := []string{"bait", "a \"b\" $$", "line\nfeed; --", `back\slash'`, "dot.ted"}
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	for _, table := range tables {
		run(t, db, "CREATE TABLE "+pgx.Identifier{table}.Sanitize()+" (id integer PRIMARY KEY)", "INSERT INTO "+pgx.Identifier{table}.Sanitize()+" VALUES (1)")
	}
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "").start()
	d := sourceDefinition(source, name)
	connection := d["connection"].(map[string]any)
	connection["user"], connection["password"] = strings.ReplaceAll(role, "$", "$$"), "made-up" // a dollar is written twice
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	script := func(verb string) {
		t.Helper()
		text, errs, code := i.cli("source", verb, "circulation")
		require.Zero(t, code, errs)
		_, err := db.PgConn().Exec(t.Context(), text).ReadAll()
		require.NoError(t, err, "%s\n%s", verb, text)
	}
	script("setup-sql")
	script("setup-sql")
	quoted := pgx.Identifier{role}.Sanitize()
	t.Cleanup(func() {
		if conn, err := source.Connect(context.Background(), name); err == nil {
			conn.Exec(context.Background(), "DROP OWNED BY "+quoted+"; DROP ROLE IF EXISTS "+quoted) //nolint:errcheck // the test has done so where all went well
			conn.Close(context.Background())                                                         //nolint:errcheck // nothing is open on it
		}
	})
	run(t, db, "ALTER ROLE "+quoted+" PASSWORD 'made-up'")
	i.resume()
	i.settled("circulation", db)
	events := i.journal("circulation")
	for _, table := range tables {
		part := table
		if strings.ContainsAny(table, "\".\n") {
			part = fmt.Sprintf("%q", table) // a JSON string, as Go writes these
		}
		require.Len(t, ofTable(events, "public."+part, "existing"), 1, table)
	}
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	i.must(http.MethodDelete, "/v1/sources/circulation", nil, nil)
	script("teardown-sql")
	script("teardown-sql")
	run(t, db, "DROP ROLE "+quoted)
	var left int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_namespace WHERE nspname = 'rillmark') + (SELECT count(*) FROM pg_class WHERE relname = 'bait') - 1").Scan(&left))
	require.Zero(t, left, "nothing is left, and the bait is there")
}

// TestPartitionsOfAPreparedSource: a source that an administrator's script has prepared brings what
// happens in a new partition from its first row on, whether rows carry its name or its root's. A
// root whose new partitions could lack what their updates need is not published.
func TestPartitionsOfAPreparedSource(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	role := "prepared_" + name
	run(t, db, "CREATE ROLE "+role+" LOGIN PASSWORD 'made-up'")
	for _, table := range []string{"mapped", "named"} {
		run(t, db, "CREATE TABLE "+table+" (id int, k int, a int, PRIMARY KEY (id, k)) PARTITION BY LIST (k)", "CREATE TABLE "+table+"_1 PARTITION OF "+table+" FOR VALUES IN (1)", "INSERT INTO "+table+" VALUES (1, 1, 1)")
	}
	run(t, db, "CREATE TABLE bare (id int, k int) PARTITION BY LIST (k)", "CREATE TABLE bare_1 PARTITION OF bare (PRIMARY KEY (id)) FOR VALUES IN (1)")
	dropSlotAtEnd(t, source)
	t.Cleanup(func() {
		if conn, err := source.Connect(context.Background(), name); err == nil {
			conn.Exec(context.Background(), "DROP OWNED BY "+role+"; DROP ROLE IF EXISTS "+role) //nolint:errcheck // the next test has a role of its own
			conn.Close(context.Background())                                                     //nolint:errcheck // nothing is open on it
		}
	})
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 1h\n").start() // no look helps
	d := ruled(source, name, []map[string]any{{"match": "mapped", "partitions": "root"}, {"match": "named*"}, {"match": "bare*"}}, nil)
	connection := d["connection"].(map[string]any)
	connection["user"], connection["password"] = role, "made-up"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	text, errs, code := i.cli("source", "setup-sql", "circulation")
	require.Zero(t, code, errs)
	for range 2 {
		_, err := db.PgConn().Exec(t.Context(), text).ReadAll()
		require.NoError(t, err, text)
	}
	require.Equal(t, []string{"(mapped)", "(named)"}, digest(t, db, "SELECT relname FROM pg_publication_rel JOIN pg_class c ON c.oid = prrelid WHERE relkind = 'p'"))
	i.resume()
	i.settled("circulation", db)
	for _, table := range []string{"mapped", "named"} {
		run(t, db, "CREATE TABLE "+table+"_2 PARTITION OF "+table+" FOR VALUES IN (2)", "INSERT INTO "+table+" VALUES (50, 2, 1)", "UPDATE "+table+" SET a = 2 WHERE id = 50", "INSERT INTO "+table+" VALUES (51, 2, 1)", "DELETE FROM "+table+" WHERE id = 51")
	}
	run(t, db, "CREATE TABLE bare_2 PARTITION OF bare FOR VALUES IN (2)", "INSERT INTO bare VALUES (1, 2)", "UPDATE bare SET id = 2", "DELETE FROM bare")
	i.reached("circulation", db)
	events := i.journal("circulation")
	for _, table := range []string{"public.mapped", "public.named_2"} {
		var got []string
		for _, e := range ofTable(events, table, "insert", "update", "delete") {
			got = append(got, e.Data.Operation+" "+row(e.Data.Key))
		}
		require.Equal(t, []string{"insert {id:50,k:2}", "update {id:50,k:2}", "insert {id:51,k:2}", "delete {id:51,k:2}"}, got, table)
	}
}
