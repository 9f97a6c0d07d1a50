package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

// table is how a table of the source stands now: its state and its note.
func (i *instance) table(name string) (state, note string) {
	for _, s := range i.status().Sources {
		for _, t := range s.Tables {
			if t.Name == name {
				return t.State, t.Note
			}
		}
	}
	return "", ""
}

func (i *instance) comesTo(table, state string) {
	i.t.Helper()
	i.eventually(table+" is "+state, func() bool {
		now, _ := i.table(table)
		return now == state
	})
}

// TestRulesChangeWhileItRuns leaves a table out and takes it in again, without
// disturbing the others.
func TestRulesChangeWhileItRuns(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source:\n  refresh_every: 200ms\n", "CREATE TABLE loans (id integer PRIMARY KEY)", "CREATE TABLE holds (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)", "INSERT INTO holds VALUES (1)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	edit := func(version int, rules ...map[string]any) {
		d := sourceDefinition(sourceServer(t), name)
		d["tables"] = rules
		code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", fmt.Sprintf(`"%d"`, version))
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, code, "%s", raw)
	}
	edit(1, map[string]any{"match": "holds", "active": false}, map[string]any{"match": "public.*"})
	i.comesTo("public.holds", "left-out")
	run(t, db, "INSERT INTO holds VALUES (2)", "INSERT INTO loans VALUES (2)")
	i.reached("circulation", db)
	var published []string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT array_agg(tablename::text) FROM pg_publication_tables").Scan(&published))
	require.Equal(t, []string{"loans"}, published, "what is left out is not sent at all")
	require.Empty(t, ofTable(i.journal("circulation"), "public.holds", "insert"))
	edit(2, map[string]any{"match": "public.*"})
	i.comesTo("public.holds", "following")
	run(t, db, "DELETE FROM holds WHERE id = 1", "INSERT INTO loans VALUES (3)")
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	f.equals(t, db, "loans")
	f.equals(t, db, "holds")
	require.Len(t, ofTable(events, "public.loans", "loaded"), 1, "the other table is not loaded a second time")
}

// TestAnAdministratorsPreparation uses a slot and a publication that somebody
// else has made, with a login that may do nothing more, and changes neither.
func TestAnAdministratorsPreparation(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	role := "reader_" + name
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY)", "CREATE TABLE holds (id integer PRIMARY KEY)", "CREATE TABLE secret (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)",
		"CREATE ROLE "+role+" LOGIN REPLICATION PASSWORD 'made-up'", "GRANT SELECT ON loans, holds TO "+role,
		"CREATE PUBLICATION prepared FOR TABLE loans, secret", "SELECT pg_create_logical_replication_slot('rillmark_circulation', 'pgoutput')", "INSERT INTO loans VALUES (2)")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "source:\n  refresh_every: 200ms\n").start()
	d := sourceDefinition(source, name)
	connection := d["connection"].(map[string]any)
	connection["user"], connection["password"] = role, "made-up"
	connection["slot"], connection["publication"] = "rillmark_circulation", "prepared"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.comesTo("public.loans", "following")
	i.comesTo("public.holds", "unpublished")
	_, note := i.table("public.holds")
	require.Contains(t, note, `ALTER PUBLICATION "prepared" ADD TABLE "public"."holds"`)
	i.comesTo("public.secret", "not-loaded")
	_, note = i.table("public.secret")
	require.Contains(t, note, `GRANT SELECT ON "public"."secret" TO "`+role+`"`)
	run(t, db, "INSERT INTO secret VALUES (1)", "ALTER PUBLICATION prepared ADD TABLE holds", "INSERT INTO holds VALUES (1)")
	i.comesTo("public.holds", "following")
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	f.equals(t, db, "loans")
	f.equals(t, db, "holds")
	require.Len(t, ofTable(events, "public.secret", "insert"), 1, "a table that cannot be loaded is followed anyway")
	i.must(http.MethodDelete, "/v1/sources/circulation", nil, nil)
	var left int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation')").Scan(&left))
	require.Equal(t, 2, left, "what is the administrator's stays")
	run(t, db, "DROP OWNED BY "+role, "DROP ROLE "+role)
}

// TestASilentRewriteIsShown adds a column with a default: its rows come in no
// stream, so the table is stale by name until it is reloaded.
func TestASilentRewriteIsShown(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (id integer PRIMARY KEY, note text)", "INSERT INTO loans SELECT n, 'a' FROM generate_series(1, 20) n")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "ALTER TABLE loans ADD COLUMN plain integer", "UPDATE loans SET note = 'b' WHERE id = 1")
	i.reached("circulation", db)
	state, _ := i.table("public.loans")
	require.Equal(t, "following", state, "a column without a default changes no row")
	run(t, db, "ALTER TABLE loans ADD COLUMN filled double precision DEFAULT random()", "UPDATE loans SET note = 'c' WHERE id = 2")
	i.comesTo("public.loans", "stale")
	_, note := i.table("public.loans")
	require.Contains(t, note, "rillmark source reload")
	schemas := ofTable(i.journal("circulation"), "public.loans", "schema")
	require.Len(t, schemas, 3)
	require.Contains(t, string(schemas[1].Data.Schema), `"rewrites":false`)
	require.Contains(t, string(schemas[2].Data.Schema), `"rewrites":true`)
	_, errs, code := i.cli("source", "reload", "circulation", "public.loans")
	require.Zero(t, code, errs)
	i.settled("circulation", db)
	f := proveJournal(t, i.journal("circulation"))
	f.equals(t, db, "loans")
	_, errs, code = i.cli("source", "reload", "circulation", "public.nowhere")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "no table")
}

// TestRowsWrittenAnewByTheServer: ALTER … USING gives rows other values, and the log has nothing
// of it but, at most, another type. What only moves rows, or only changes a column's
// settings, is passed over.
func TestRowsWrittenAnewByTheServer(t *testing.T) {
	t.Parallel()
	tables := []string{"loans", "visits", "parted", "idle", "retyped"}
	rules := []map[string]any{{"match": "parted", "partitions": "root", "after_rewrite": "stale"}, {"match": "*", "after_rewrite": "stale"}}
	var statements []string
	for _, table := range tables {
		if table == "parted" {
			statements = append(statements, "CREATE TABLE parted (id integer PRIMARY KEY, note varchar(20)) PARTITION BY RANGE (id)", "CREATE TABLE parted_low PARTITION OF parted FOR VALUES FROM (0) TO (10)", "CREATE TABLE parted_high PARTITION OF parted FOR VALUES FROM (10) TO (1000)")
		} else {
			statements = append(statements, "CREATE TABLE "+table+" (id integer PRIMARY KEY, note varchar(20))")
		}
		statements = append(statements, "INSERT INTO "+table+" SELECT n, 'a' FROM generate_series(1, 20) n")
	}
	i, name := captured(t, "source:\n  refresh_every: 200ms\n", rules, nil, statements...)
	db := connect(t, sourceServer(t), name)
	same := func() {
		t.Helper()
		i.reached("circulation", db)
		f := proveJournal(t, i.journal("circulation"))
		for _, table := range tables {
			if state, _ := i.table("public." + table); state == "following" {
				f.equals(t, db, table)
			}
		}
	}
	looks := func() { // two looks at the source begin after what was done before
		t.Helper()
		for _, table := range []string{"one", "two"} {
			run(t, db, "DROP TABLE IF EXISTS "+table, "CREATE TABLE "+table+" (id integer PRIMARY KEY)")
			i.comesTo("public."+table, "following")
			run(t, db, "DROP TABLE "+table)
			i.comesTo("public."+table, "gone")
		}
	}
	looks()
	for _, table := range tables {
		run(t, db, "VACUUM FULL "+table)
		looks()
		run(t, db, "ALTER TABLE "+table+" ALTER note SET STORAGE EXTERNAL", "ALTER TABLE "+table+" ALTER note SET NOT NULL")
	}
	run(t, db, "ALTER TABLE retyped ALTER note TYPE text", "UPDATE retyped SET note = 'b' WHERE id = 1")
	looks()
	same()
	for _, table := range tables {
		state, note := i.table("public." + table)
		require.Equal(t, "following", state, "%s: %s", table, note)
	}
	run(t, db, "ALTER TABLE loans ALTER note TYPE varchar(20) USING upper(note)", "UPDATE loans SET note = 'b' WHERE id = 1", "ALTER TABLE visits ALTER note TYPE text USING upper(note)", "UPDATE visits SET note = 'b' WHERE id = 1",
		"ALTER TABLE parted ALTER note TYPE varchar(20) USING upper(note)")
	for _, table := range []string{"loans", "visits", "parted"} {
		i.comesTo("public."+table, "stale")
		_, errs, code := i.cli("source", "reload", "circulation", "public."+table)
		require.Zero(t, code, errs)
	}
	i.settled("circulation", db)
	same()
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	run(t, db, "ALTER TABLE idle ALTER note TYPE varchar(20) USING upper(note)")
	i.resume()
	i.comesTo("public.idle", "stale")
	same()
	for _, table := range []string{"loans", "visits", "parted", "retyped"} {
		state, note := i.table("public." + table)
		require.Equal(t, "following", state, "%s: %s", table, note)
	}
}

// TestARestoredCopyIsRecognised follows a source that is then replaced by an
// older copy of itself with other rows: system identifier, timeline and slot are
// the same, our heartbeat is not.
func TestARestoredCopyIsRecognised(t *testing.T) {
	t.Parallel()
	source := ownServer(t, durable(sourceSettings))
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE loans (id integer PRIMARY KEY, note text)")
	i := newInstance(t, stateServer(t), "source:\n  heartbeat_every: 200ms\n").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	i.stop(syscall.SIGTERM)
	source.Stop()
	copied := filepath.Join(filepath.Dir(source.Folder), "copy-of-"+filepath.Base(source.Folder))
	t.Cleanup(func() { os.RemoveAll(copied) }) //nolint:errcheck // it lies in the temporary folder
	out, err := exec.Command("cp", "-a", source.Folder, copied).CombinedOutput()
	require.NoError(t, err, "%s", out)

	// The real one goes on for a while, and is followed.
	require.NoError(t, source.Start(context.Background()))
	i.start()
	db = connect(t, source, name)
	run(t, db, "INSERT INTO loans SELECT n, 'real' FROM generate_series(1, 1000) n")
	i.settled("circulation", db)
	i.eventually("the slot has moved on", func() bool {
		var moved bool
		err := db.QueryRow(t.Context(), "SELECT confirmed_flush_lsn > restart_lsn FROM pg_replication_slots").Scan(&moved)
		return err == nil && moved
	})
	i.stop(syscall.SIGTERM)
	source.Stop()
	next := i.journaled()

	// The copy takes its place, with other rows at the same places.
	other := &demo.Cluster{Folder: copied, Port: source.Port, Settings: source.Settings}
	require.NoError(t, other.Start(context.Background()))
	t.Cleanup(other.Stop)
	db = connect(t, other, name)
	run(t, db, "INSERT INTO loans SELECT n, 'otherwise' FROM generate_series(5000, 9000) n", "CHECKPOINT")
	i.start()
	i.waits("other-log", "restored from a backup")
	require.Equal(t, next, i.journaled(), "nothing of the other log is taken")
	require.True(t, strings.Contains(i.status().Sources[0].Error, "restored from a backup"))
}

// TestTheAdministratorsScripts runs what setup-sql prints, twice, and captures
// with a login that has no right but those; then takes it away, twice.
func TestTheAdministratorsScripts(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	role := "least_" + name
	run(t, db, "CREATE SCHEMA desk", "CREATE TABLE desk.\"Late Loans\" (id integer PRIMARY KEY)", "CREATE TABLE loans (id integer PRIMARY KEY)", "CREATE TABLE visits (at integer)", "CREATE TABLE private (id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "").start()
	file := filepath.Join(i.folder, "d.yaml")
	text := fmt.Sprintf("connection: {host: 127.0.0.1, port: %d, database: %s, user: %s, password: made-up, tls: disable}\ntables:\n  - {match: private, active: false}\n  - {match: '*'}\n", source.Port, name, role)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	setup, errs, code := i.cli("source", "setup-sql", "circulation", "--file", file)
	require.Zero(t, code, errs)
	require.NotContains(t, setup, "made-up", "no secret in any output")
	run(t, db, setup, setup, "ALTER ROLE "+role+" PASSWORD 'made-up'")
	out, errs, code := i.cli("source", "check", "circulation", "--file", file)
	require.Zero(t, code, "%s%s", out, errs)

	// The prepared login's trial looks through what was prepared, and one that could not
	// see a table says so; so does the check, where the function is of other rules.
	trial := func(flags ...string) (string, int) {
		t.Helper()
		out, errs, code := i.cli(append([]string{"source", "try", "circulation", "--file", file, "--for", "1s"}, flags...)...)
		return out + errs, code
	}
	out, code = trial()
	require.Zero(t, code, out)
	run(t, db, "ALTER PUBLICATION rillmark_circulation DROP TABLE loans")
	out, code = trial()
	require.NotZero(t, code, out)
	require.Contains(t, out, "cannot be seen")
	require.Contains(t, out, "public.loans")
	run(t, db, setup)
	out, errs, code = i.cli("source", "check", "circulation", "--file", file, "--tables", "private")
	require.Equal(t, 5, code, "%s%s", out, errs)
	require.Contains(t, out, "of other rules")
	out, _, code = i.cli("source", "tables", "circulation", "--file", file)
	require.Zero(t, code)
	require.Contains(t, out, "public.loans", "before it is stored")

	_, errs, code = i.cli("source", "add", "circulation", "--file", file)
	require.Zero(t, code, errs)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "UPDATE loans SET id = 2", "INSERT INTO visits VALUES (1)", "UPDATE visits SET at = 2", "INSERT INTO desk.\"Late Loans\" VALUES (1)", "INSERT INTO private VALUES (1)")
	i.reached("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "loans")
	require.Len(t, ofTable(events, "desk.Late Loans", "insert"), 1)
	require.Len(t, ofTable(events, "public.visits", "insert"), 1)
	require.Empty(t, ofTable(events, "public.private", "insert", "existing"))
	out, errs, code = i.cli("source", "remove", "circulation")
	require.Zero(t, code, errs)
	for _, remains := range []string{"publication rillmark_circulation\n", "function rillmark.publish_circulation", "teardown-sql circulation"} {
		require.Contains(t, out, remains, "it says what stays")
	}
	teardown, errs, code := i.cli("source", "teardown-sql", "circulation") // it is kept on record
	require.Zero(t, code, errs)
	run(t, db, teardown, teardown)
	var left int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM pg_publication) + (SELECT count(*) FROM pg_replication_slots WHERE database = current_database()) + (SELECT count(*) FROM information_schema.role_table_grants WHERE grantee = '"+role+"')").Scan(&left))
	require.Zero(t, left)
	run(t, db, "DROP ROLE "+role)

	// What Rillmark writes down itself is no source.
	state := stateServer(t)
	for _, args := range [][]string{{"source", "check", "own"}, {"source", "try", "own", "--tables", "*"}} {
		out, errs, code := i.cli(append(args, "--host", "127.0.0.1", "--port", fmt.Sprint(state.Port), "--database", i.stateDB, "--user", "postgres", "--password", "${file:"+state.PasswordFile()+"}", "--tls", "disable")...)
		require.NotZero(t, code)
		require.Contains(t, out+errs, "keeps its own records")
	}
}
