package test

import (
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
)

// TestScriptsForTargets: a login with the rights of the script and no others is enough for an
// outlet to a database, and what the other script takes away is all of it.
func TestScriptsForTargets(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	i, name := begin(t, "", `CREATE TABLE loans (loan_id bigint PRIMARY KEY, note text)`, `CREATE TABLE "Odd Name" (id bigint PRIMARY KEY)`, "INSERT INTO loans VALUES (1, 'a')", `INSERT INTO "Odd Name" VALUES (1)`)
	db := connect(t, source, name)
	i.resume()
	i.settled("circulation", db)
	into := database(t, source, "postgres")
	admin := connect(t, source, into)
	run(t, admin, "REVOKE ALL ON DATABASE "+into+" FROM PUBLIC")
	login := "keeper_" + into
	at := databaseAt(source, into)
	at["postgresql"].(map[string]any)["user"] = login
	at["postgresql"].(map[string]any)["password"] = "made-up"
	i.must(http.MethodPost, "/v1/destinations/there", at, nil)
	definition := map[string]any{"source": "circulation", "destination": "there", "postgresql": map[string]any{"schema": "o'clock \"library\"", "origin": "the keeper's " + into}}
	script := func(which string) string {
		t.Helper()
		var scripts map[string]string
		i.must(http.MethodPost, "/v1/outlets/there/scripts", definition, &scripts)
		return scripts[which]
	}
	setup := script("setup")
	for range 2 { // it can be run again
		run(t, admin, setup)
	}
	run(t, admin, "ALTER ROLE "+login+" PASSWORD 'made-up'")
	var found struct{ Items []change.Check }
	i.must(http.MethodPost, "/v1/outlets/there/check", definition, &found)
	for _, c := range found.Items {
		if c.Name != "tables" { // that schemas cannot be made is a note
			require.Equal(t, change.Good, c.Verdict, "%+v", c)
		}
	}
	i.must(http.MethodPost, "/v1/outlets/there", definition, nil)
	i.caughtUp("there")
	run(t, db, "INSERT INTO loans VALUES (2, 'b')", "ALTER TABLE loans ADD COLUMN more text", "UPDATE loans SET more = 'x'", "CREATE TABLE late (id bigint PRIMARY KEY)", "INSERT INTO late VALUES (1)")
	i.reached("circulation", db)
	i.caughtUp("there")
	require.Len(t, digest(t, admin, `SELECT * FROM "o'clock ""library""".loans WHERE more = 'x'`), 2)
	out, errs, code := i.cli("outlet", "teardown-sql", "there")
	require.Zero(t, code, errs)
	i.must(http.MethodDelete, "/v1/outlets/there", nil, nil)
	i.eventually("its session has ended", func() bool {
		var n int
		require.NoError(t, admin.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE usename = $1", login).Scan(&n))
		return n == 0
	})
	for range 2 {
		run(t, admin, out)
	}
	run(t, admin, "DROP ROLE "+login)
	require.Len(t, digest(t, admin, `SELECT * FROM "o'clock ""library""".loans`), 2, "the rows stay")
	require.Empty(t, digest(t, admin, "SELECT FROM pg_class WHERE relname = 'outlets'"))
	require.Empty(t, digest(t, admin, "SELECT FROM pg_replication_origin WHERE roname LIKE '%"+into+"'"))

	// The same for MariaDB, whose script its own client runs.
	m := mariaServer(t, nil)
	_, maria := mariaDatabase(t, m)
	there := mariaAt(t, m)
	there["mariadb"].(map[string]any)["user"] = "kept"
	there["mariadb"].(map[string]any)["password"] = "made-up"
	i.must(http.MethodPost, "/v1/destinations/maria", there, nil)
	file := i.folder + "/maria.yaml"
	require.NoError(t, os.WriteFile(file, []byte("source: circulation\ndestination: maria\nmariadb: {schema: shelf_of_outlets, origin: '4242'}\n"), 0o600))
	out, errs, code = i.cli("outlet", "setup-sql", "maria", "--file", file)
	require.Zero(t, code, errs)
	statements := func(script string) (all []string) {
		for _, line := range strings.Split(script, "\n") {
			if statement, _, _ := strings.Cut(line, "; --"); statement != "" && !strings.HasPrefix(statement, "--") {
				all = append(all, strings.TrimSuffix(statement, ";"))
			}
		}
		return all
	}
	for range 2 {
		mariaRun(t, maria, statements(out)...)
	}
	mariaRun(t, maria, "SET PASSWORD FOR 'kept'@'%' = PASSWORD('made-up')")
	_, errs, code = i.cli("outlet", "add", "maria", "--file", file)
	require.Zero(t, code, errs)
	i.caughtUp("maria")
	require.Len(t, mariaSide(t, m, "shelf_of_outlets").digest(t, "SELECT * FROM shelf_of_outlets.loans"), 2)
	out, _, _ = i.cli("outlet", "teardown-sql", "maria")
	i.must(http.MethodDelete, "/v1/outlets/maria", nil, nil)
	for range 2 {
		mariaRun(t, maria, statements(out)...)
	}
	uncommented := strings.ReplaceAll(out[strings.Index(out, "-- Where no other"):], "-- ", "")
	mariaRun(t, maria, statements(uncommented[strings.Index(uncommented, "\n"):])...)

	var scripts map[string]string
	i.must(http.MethodPost, "/v1/outlets/odd/scripts", map[string]any{"source": "circulation", "destination": "maria", "mariadb": map[string]any{"schema": "a\nDROP DATABASE b"}}, &scripts)
	require.Contains(t, scripts["teardown"], "a?DROP", "a name does not leave its comment")
	require.NotContains(t, scripts["teardown"], "\nDROP")
	_, _, code = i.cli("outlet", "setup-sql", "nothing")
	require.NotZero(t, code)
	i.must(http.MethodPost, "/v1/outlets/pulled", map[string]any{"source": "circulation"}, nil)
	_, errs, code = i.cli("outlet", "setup-sql", "pulled")
	require.NotZero(t, code)
	require.Contains(t, errs, "is no database")
}
