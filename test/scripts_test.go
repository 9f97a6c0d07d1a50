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
