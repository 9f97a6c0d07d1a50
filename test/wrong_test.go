package test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/require"
)

// problem is a problem document.
type problem struct {
	Type, Code, Detail, Fix string
	Status                  int
	Errors                  []struct{ Location, Message string }
}

func (i *instance) refused(method, path string, body any, headers ...string) problem {
	i.t.Helper()
	status, raw, err := i.call(method, path, body, headers...)
	require.NoError(i.t, err)
	var p problem
	require.NoError(i.t, json.Unmarshal(raw, &p), "%s", raw)
	require.Equal(i.t, status, p.Status)
	require.GreaterOrEqual(i.t, status, 400, "%s %s", method, path)
	require.Equal(i.t, "urn:rillmark:problem:"+p.Code, p.Type)
	return p
}

// TestWrongInput holds that each wrong input comes back as a sentence that says
// what, where and what to do, the same by API and client.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	i.must(http.MethodPost, "/v1/outlets/desk", map[string]any{"source": "circulation"}, nil)
	i.resume()
	i.settled("circulation", connect(t, sourceServer(t), name))
	good := sourceDefinition(sourceServer(t), name)
	with := func(change func(map[string]any)) map[string]any {
		raw, _ := json.Marshal(good)
		var copied map[string]any
		json.Unmarshal(raw, &copied) //nolint:errcheck // it was made a line above
		change(copied)
		return copied
	}
	for _, c := range []struct {
		what, method, path string
		body               any
		status             int
		code, says         string
	}{
		{"a body that is not JSON", "POST", "/v1/sources/other", "{not json", 400, "bad-request", "body"},
		{"an unknown field", "POST", "/v1/sources/other", with(func(d map[string]any) { d["tabels"] = 1 }), 422, "invalid-definition", "body.tabels: unexpected property"},
		{"an unknown field further down", "POST", "/v1/sources/other", with(func(d map[string]any) { d["connection"].(map[string]any)["prt"] = 1 }), 422, "invalid-definition", "body.connection.prt"},
		{"a missing field", "POST", "/v1/sources/other", map[string]any{"tables": []any{}}, 422, "invalid-definition", "connection"},
		{"a port out of range", "POST", "/v1/sources/other", with(func(d map[string]any) { d["connection"].(map[string]any)["port"] = 99999 }), 422, "invalid-definition", "body.connection.port"},
		{"a name that is none", "POST", "/v1/sources/Other!", good, 422, "invalid-definition", "no name for a source"},
		{"a name that is taken", "POST", "/v1/sources/circulation", good, 409, "name-taken", `source "circulation" is there already`},
		{"an unknown source", "GET", "/v1/sources/nowhere", nil, 404, "not-found", `there is no source "nowhere"`},
		{"an outlet of an unknown source", "POST", "/v1/outlets/x", map[string]any{"source": "nowhere"}, 404, "not-found", `there is no source "nowhere"`},
		{"an outlet to an unknown destination", "POST", "/v1/outlets/x", map[string]any{"source": "circulation", "destination": "nowhere"}, 404, "not-found", `there is no destination "nowhere"`},
		{"an outlet with an unknown operation", "POST", "/v1/outlets/x", map[string]any{"source": "circulation", "operations": []string{"upsert"}}, 422, "invalid-definition", "operations"},
		{"an outlet from outside of the journal", "POST", "/v1/outlets/x", map[string]any{"source": "circulation", "from": "99999"}, 422, "offset-outside", "offset 99999 lies outside of the journal, which holds 1 to"},
		{"reading outside of the journal", "GET", "/v1/sources/circulation/events?from=99999", nil, 422, "offset-outside", "lies outside"},
		{"a commit of what was never handed out", "POST", "/v1/outlets/desk/commit", map[string]int64{"committed": 99999}, 422, "offset-outside", "was never handed out"},
		{"a path outside of files_root", "POST", "/v1/destinations/x", map[string]any{"kind": "file", "file": map[string]string{"directory": "../../etc"}}, 422, "path-outside", "outside of the service's files_root"},
		{"an unknown kind", "POST", "/v1/destinations/x", map[string]any{"kind": "pigeon"}, 422, "invalid-definition", "kind"},
		{"a change without its version", "PUT", "/v1/sources/circulation", good, 428, "version-required", "If-Match"},
		{"an unknown schema version", "GET", "/v1/schemas/0000000000000000", nil, 404, "not-found", "no schema version"},
		{"no fingerprint", "GET", "/v1/schemas/xyz", nil, 422, "invalid-definition", "sixteen"},
		{"an unknown path", "GET", "/v1/nothing", nil, 404, "not-found", "nothing at"},
		{"a name with U+0000", "GET", "/v1/outlets/a%00b", nil, 422, "invalid-definition", "U+0000"},
		{"a table that is no UTF-8", "GET", "/v1/sources/circulation/tables/%FF/rows", nil, 422, "invalid-definition", "not UTF-8"},
		{"a filter with U+0000", "GET", "/v1/schemas?source=a%00b", nil, 422, "invalid-definition", "U+0000"},
		{"a text with U+0000", "POST", "/v1/sources/circulation/reset", map[string]any{"reason": "a\x00b"}, 400, "bad-request", "U+0000, at byte 12"},
		{"a load of no table", "POST", "/v1/outlets/desk/load", map[string]any{"tables": []string{"nothing"}}, 422, "no-tables", "no such table"},
		{"a source that has outlets", "DELETE", "/v1/sources/circulation", nil, 409, "in-use", "has outlet"},
	} {
		p := i.refused(c.method, c.path, c.body)
		require.Equal(t, c.status, p.Status, "%s: %+v", c.what, p)
		require.Equal(t, c.code, p.Code, c.what)
		require.Contains(t, p.Detail+fmt.Sprint(p.Errors), c.says, c.what)
	}
	// Two edits of the same version: the second is told.
	var first struct{ Version int64 }
	i.must(http.MethodGet, "/v1/sources/circulation", nil, &first)
	described := with(func(d map[string]any) { d["description"] = "what the desk lends" })
	code, _, err := i.call(http.MethodPut, "/v1/sources/circulation", described, "If-Match", fmt.Sprintf(`"%d"`, first.Version))
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code)
	require.Equal(t, "changed-meanwhile", i.refused(http.MethodPut, "/v1/sources/circulation", good, "If-Match", fmt.Sprintf(`"%d"`, first.Version)).Code)

	// The client says the same, with line and column of a definition's file.
	file := filepath.Join(i.folder, "d.yaml")
	require.NoError(t, os.WriteFile(file, []byte("engine: postgresql\nconnection:\n  host: db.example\n  database: x\n  user: y\n  prt: 5432\ntables:\n  - match: public.*\n"), 0o600))
	_, errs, exit := i.cli("source", "add", "other", "--file", file)
	require.Equal(t, 3, exit)
	require.Contains(t, errs, "d.yaml:6:")
	require.Contains(t, errs, "connection.prt")
	require.NoError(t, os.WriteFile(file, []byte("engine: postgresql\n connection: [\n"), 0o600))
	_, errs, exit = i.cli("source", "add", "other", "--file", file)
	require.Equal(t, 2, exit)
	require.Regexp(t, `\[\d+:\d+\]`, errs, "line and column")
	for _, c := range []struct {
		args []string
		exit int
		says string
	}{
		{[]string{"source", "show", "nowhere"}, 3, `there is no source "nowhere"`},
		{[]string{"source", "add", "circulation", "--host", "h", "--database", "d", "--user", "u", "--tables", "*"}, 3, "already"},
		{[]string{"source", "add", "x"}, 2, "--host"},
		{[]string{"source", "frobnicate"}, 2, "unknown command"},
		{[]string{"read"}, 2, "exactly"},
		{[]string{"status", "--colour"}, 2, "unknown flag"},
		{[]string{"status", "--server", "http://127.0.0.1:1"}, 4, "no service answers"},
		{[]string{"outlet", "rewind", "desk", "--to", "77777"}, 3, "outside"},
	} {
		_, errs, exit := i.cli(c.args...)
		require.Equal(t, c.exit, exit, "%v: %s", c.args, errs)
		require.Contains(t, errs, c.says, "%v", c.args)
	}
}

// TestCheckNamesWhatIsMissing goes through what a source can lack.
func TestCheckNamesWhatIsMissing(t *testing.T) {
	source := sourceServer(t)
	i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY)", "CREATE TABLE visits (at integer)")
	db := connect(t, source, name)
	run(t, db, "CREATE ROLE plain_"+name+" LOGIN PASSWORD 'made-up'",
		"CREATE UNLOGGED TABLE drafts (id integer PRIMARY KEY)", "CREATE FOREIGN DATA WRAPPER afar", "CREATE SERVER afar FOREIGN DATA WRAPPER afar", "CREATE FOREIGN TABLE outside (id integer) SERVER afar",
		"CREATE TABLE private (id integer PRIMARY KEY)", "ALTER TABLE private OWNER TO plain_"+name, "ALTER TABLE private ENABLE ROW LEVEL SECURITY", "ALTER TABLE private FORCE ROW LEVEL SECURITY")
	plainServer := ownServer(t, map[string]string{"wal_level": "replica", "max_replication_slots": "0"})
	t.Setenv("NO_SUCH", "")
	check := func(change func(connection, definition map[string]any)) string {
		d := sourceDefinition(source, name)
		change(d["connection"].(map[string]any), d)
		var found struct {
			Items []struct{ Name, Verdict, Found, Why, Fix string }
		}
		status, raw, err := i.call(http.MethodPost, "/v1/sources/try/check", d)
		require.NoError(t, err)
		if status != http.StatusOK {
			return string(raw)
		}
		require.NoError(t, json.Unmarshal(raw, &found))
		var said strings.Builder
		for _, one := range found.Items {
			fmt.Fprintf(&said, "%s %s: %s / %s / %s\n", one.Verdict, one.Name, one.Found, one.Why, one.Fix)
		}
		return said.String()
	}
	require.NotContains(t, check(func(_, _ map[string]any) {}), "missing ", "a source that has all is ready")
	require.Contains(t, check(func(_, _ map[string]any) {}), "note table public.visits: no key")
	for what, c := range map[string]struct {
		change func(c, d map[string]any)
		says   []string
	}{
		"wrong password":   {func(c, _ map[string]any) { c["password"] = "wrong" }, []string{"missing connection", "refuses user \"postgres\" with this password", "correct user and password"}},
		"unknown host":     {func(c, _ map[string]any) { c["host"] = "nowhere.invalid" }, []string{"missing connection", "nowhere.invalid"}},
		"nobody listens":   {func(c, _ map[string]any) { c["port"] = 1 }, []string{"missing connection", "cannot be reached"}},
		"unknown database": {func(c, _ map[string]any) { c["database"] = "nowhere" }, []string{"has no database \"nowhere\""}},
		"unset variable":   {func(c, _ map[string]any) { c["password"] = "${env:RILLMARK_SECRET_NONE}" }, []string{"no variable RILLMARK_SECRET_NONE"}},
		"plain user": {func(c, _ map[string]any) { c["user"], c["password"] = "plain_"+name, "made-up" },
			[]string{"missing replication right", "ALTER ROLE", "REPLICATION", "missing publication", "GRANT CREATE ON DATABASE", "missing table public.loans", "GRANT SELECT ON",
				"missing table public.private: row-level security hides rows from user plain_" + name, "BYPASSRLS"}},
		"tables without a log": {func(_, _ map[string]any) {}, []string{"note table public.drafts: an unlogged table cannot be captured", "SET LOGGED", "note table public.outside: a foreign table cannot be captured"}},
		"wal_level and slots": {func(c, _ map[string]any) {
			c["port"], c["database"], c["password"] = plainServer.Port, "postgres", "${file:"+plainServer.PasswordFile()+"}"
		}, []string{"missing log detail: wal_level is replica", "ALTER SYSTEM SET wal_level = 'logical'", "missing replication slots: 0 of 0", "max_replication_slots"}},
		"unknown table":            {func(_, d map[string]any) { d["tables"] = []map[string]any{{"match": "public.nowhere"}} }, []string{"missing tables", "public.nowhere", "source tables"}},
		"a slot that is not there": {func(c, _ map[string]any) { c["slot"] = "absent_slot" }, []string{"missing our slot", "absent_slot"}},
	} {
		said := check(c.change)
		for _, part := range c.says {
			require.Contains(t, said, part, what)
		}
		require.NotContains(t, said, "made-up", "no secret in any output")
	}
	_, errs, exit := i.cli("source", "check", "try", "--host", "127.0.0.1", "--port", "1", "--database", "d", "--user", "u", "--tables", "*")
	require.Equal(t, 5, exit, errs)

	// What a start meets instead is told in the same words, and mends itself.
	run(t, db, "SELECT pg_create_logical_replication_slot('rillmark_circulation', 'pgoutput')")
	i.resume()
	i.waits("slot-exists", "already, which this source did not make")
	run(t, db, "SELECT pg_drop_replication_slot('rillmark_circulation')")
	i.settled("circulation", db)

	// A slot that another reader holds.
	i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
	i.eventually("the slot is let go", func() bool {
		var active bool
		err := db.QueryRow(t.Context(), "SELECT active FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'").Scan(&active)
		return err == nil && !active
	})
	other := holdSlot(t, source.Address(name), "rillmark_circulation", "rillmark_circulation")
	i.resume()
	i.waits("slot-in-use", "in use by another reader")
	other()
	i.settled("circulation", db)
}

// waits waits until the source says why it waits or has failed.
func (i *instance) waits(code, says string) {
	i.t.Helper()
	i.eventually("the source says "+code, func() bool {
		for _, s := range i.status().Sources {
			return (s.Phase == "waiting" || s.Phase == "failed") && s.Code == code && strings.Contains(s.Error, says)
		}
		return false
	})
}

// TestNothingIsSkippedInSilence forces what must stop a source for good.
func TestNothingIsSkippedInSilence(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	i, name := begin(t, "source:\n  heartbeat_every: 200ms\n", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	db := connect(t, source, name)
	i.resume()
	i.settled("circulation", db)
	pause := func() {
		i.must(http.MethodPost, "/v1/sources/circulation/pause", nil, nil)
		i.eventually("the slot is let go", func() bool {
			var active bool
			err := db.QueryRow(t.Context(), "SELECT active FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'").Scan(&active)
			return err == nil && !active
		})
	}
	pause()
	run(t, db, "INSERT INTO loans VALUES (1)", "SELECT pg_replication_slot_advance('rillmark_circulation', pg_current_wal_lsn())")
	i.resume()
	i.waits("slot-advanced", "advanced")
	pause()
	run(t, db, "SELECT pg_drop_replication_slot('rillmark_circulation')")
	i.resume()
	i.waits("slot-gone", "is gone")
	require.Empty(t, ofTable(i.journal("circulation"), "public.loans", "insert"))
	// Removing works anyway, and leaves nothing on the database.
	i.must(http.MethodDelete, "/v1/sources/circulation", nil, nil)
	var left int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM pg_publication").Scan(&left))
	require.Zero(t, left)
	require.Empty(t, i.status().Sources)
	// Added again under its name, it gives no id a second time.
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	require.Equal(t, "circulation/2/1", i.journal("circulation")[0].ID)
}

// TestStateDatabaseRefusesWrites holds that capture stops before the slot is
// confirmed, says so, and goes on when it can.
func TestStateDatabaseRefusesWrites(t *testing.T) {
	t.Parallel()
	source, state := sourceServer(t), stateServer(t)
	i, name := begin(t, "source:\n  heartbeat_every: 100ms\n", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	db := connect(t, source, name)
	i.resume()
	i.settled("circulation", db)
	admin := connect(t, state, "postgres")
	readOnly := func(on string) {
		run(t, admin, "ALTER DATABASE "+i.stateDB+" SET default_transaction_read_only = "+on,
			"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+i.stateDB+"'")
	}
	readOnly("on")
	i.waits("state-database", "the state database cannot be used")
	var before string
	confirmed := func() (at string) {
		require.NoError(t, db.QueryRow(t.Context(), "SELECT confirmed_flush_lsn::text FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'").Scan(&at))
		return at
	}
	before = confirmed()
	run(t, db, "INSERT INTO loans SELECT generate_series(1, 500)")
	i.waits("state-database", "read-only")
	require.Equal(t, before, confirmed(), "nothing is confirmed that is not stored")
	readOnly("off")
	i.settled("circulation", db)

	// The same for a disk that is full; the trigger answers as the server does.
	stateDB := connect(t, state, i.stateDB)
	var segment string
	require.NoError(t, stateDB.QueryRow(t.Context(), "SELECT 'rillmark.' || quote_ident(relation) FROM rillmark.journal_segment").Scan(&segment))
	run(t, stateDB, `CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$`,
		"CREATE TRIGGER full_disk BEFORE INSERT ON "+segment+" EXECUTE FUNCTION full_disk()")
	run(t, db, "DELETE FROM loans WHERE loan_id > 250")
	i.waits("state-database", "No space left on device")
	run(t, stateDB, "DROP FUNCTION full_disk CASCADE")
	i.settled("circulation", db)
	f := proveJournal(t, i.journal("circulation"))
	f.equals(t, db, "loans")
}

// TestTokenAndSecrets holds that beyond loopback nothing goes without the token,
// and that no secret can be read back.
func TestTokenAndSecrets(t *testing.T) {
	state := stateServer(t)
	i := newInstance(t, state, "")
	open := filepath.Join(i.folder, "open.yaml")
	require.NoError(t, os.WriteFile(open, []byte("listen: 0.0.0.0:0\nstate_database: x\n"), 0o600))
	_, errs, exit := i.cli("serve", "--config", open)
	require.Equal(t, 2, exit)
	require.Contains(t, errs, "beyond this machine")
	require.NoError(t, os.WriteFile(open, []byte("listen: 127.0.0.1:0\nstate_databse: x\n"), 0o600))
	_, errs, exit = i.cli("serve", "--config", open)
	require.Equal(t, 2, exit)
	require.Contains(t, errs, "[2:1]", "line and column")

	i.token = "a-token-of-the-test-0123456789"
	t.Setenv("TEST_TOKEN", i.token)
	i.configure("token: ${env:TEST_TOKEN}\n")
	i.start()
	for _, path := range []string{"/v1/status", "/v1/sources", "/metrics", "/v1/status/stream", "/v1/openapi.json", "/readyz"} {
		status, raw, err := i.call(http.MethodGet, path, nil, "Authorization", "-")
		require.NoError(t, err)
		require.Equal(t, http.StatusUnauthorized, status, path)
		require.NotContains(t, string(raw), i.token)
	}
	status, _, err := i.call(http.MethodPost, "/v1/session", map[string]string{"token": "wrong"}, "Authorization", "-")
	require.NoError(t, err)
	require.Equal(t, http.StatusUnauthorized, status)
	response, err := http.Post(i.address+"/v1/session", "application/json", strings.NewReader(`{"token":"`+i.token+`"}`))
	require.NoError(t, err)
	response.Body.Close() //nolint:errcheck // it was only looked at
	cookie := response.Header.Get("Set-Cookie")
	require.Contains(t, cookie, "HttpOnly")
	require.NotContains(t, cookie, i.token)
	status, _, err = i.call(http.MethodGet, "/v1/status", nil, "Authorization", "-", "Cookie", strings.SplitN(cookie, ";", 2)[0])
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)

	// A password that is typed in is sealed, and stays so through an edit.
	d := sourceDefinition(sourceServer(t), "nowhere")
	d["connection"].(map[string]any)["password"] = "a secret of the test"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	_, raw, err := i.call(http.MethodGet, "/v1/sources/circulation", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"password":"(sealed)"`)
	d["connection"].(map[string]any)["password"] = "(sealed)"
	code, _, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code)
	conn := connect(t, state, i.stateDB)
	var stored string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT definition::text FROM rillmark.source").Scan(&stored))
	require.Contains(t, stored, "sealed:2:")
	require.NotContains(t, stored, "a secret of the test")
	i.sealsAreBound(t, conn, d)
	key, err := os.Stat(filepath.Join(i.folder, "rillmark.key"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), key.Mode().Perm())

	// A page of another site can neither read under another name nor change.
	status, _, err = i.call(http.MethodPost, "/v1/sources/circulation/resume", nil, "Origin", "http://elsewhere.example")
	require.NoError(t, err)
	require.Equal(t, http.StatusForbidden, status)

	require.Zero(t, i.stop(syscall.SIGHUP).ExitCode(), "it ends in order, at the end of its terminal, too")
	log, err := os.ReadFile(i.logFile())
	require.NoError(t, err)
	require.Contains(t, string(log), "asked to by a signal")
	require.NotContains(t, string(log), "a secret of the test")
	require.NotContains(t, string(log), i.token)
}

// TestMetricsAndDescription looks at what machines read.
func TestMetricsAndDescription(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", "CREATE TABLE loans (loan_id integer PRIMARY KEY)", "INSERT INTO loans VALUES (1)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	_, raw, err := i.call(http.MethodGet, "/metrics", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), `rillmark_journal_events_total{operation="existing",source="circulation",table="public.loans"} 1`)
	require.Contains(t, string(raw), `rillmark_table_state{cause="",source="circulation",state="following",table="public.loans"} 1`)
	var description struct {
		OpenAPI string
		Paths   map[string]any
	}
	i.must(http.MethodGet, "/v1/openapi.json", nil, &description)
	require.True(t, strings.HasPrefix(description.OpenAPI, "3.1"))
	require.Contains(t, description.Paths, "/v1/sources/{name}/stream")
	// The console's types were made from this very description.
	printed, errs, code := i.cli("openapi")
	require.Zero(t, code, errs)
	kept, err := os.ReadFile("../console/openapi.json")
	require.NoError(t, err)
	require.Equal(t, string(kept), printed, "run `make types`")
	// The log of the run tells the story.
	out, _, code := i.cli("log")
	require.Zero(t, code)
	for _, part := range []string{"source added", "resumed", "replication slot rillmark_circulation made", "public.loans: 1 rows loaded"} {
		require.Contains(t, out, part)
	}
}

// holdSlot streams from a slot as another reader would, until it is let go.
func holdSlot(t *testing.T, address, slot, publication string) (letGo func()) {
	t.Helper()
	config, err := pgconn.ParseConfig(address)
	require.NoError(t, err)
	config.RuntimeParams["replication"] = "database"
	conn, err := pgconn.ConnectConfig(t.Context(), config)
	require.NoError(t, err)
	conn.Frontend().Send(&pgproto3.Query{String: "START_REPLICATION SLOT " + slot + " LOGICAL 0/0 (proto_version '1', publication_names '" + publication + "')"})
	require.NoError(t, conn.Frontend().Flush())
	m, err := conn.ReceiveMessage(t.Context())
	require.NoError(t, err)
	require.IsType(t, &pgproto3.CopyBothResponse{}, m)
	return func() { conn.Close(context.Background()) } //nolint:errcheck // it has done its work
}

// TestTheDoor: a session is random, ends when it is ended, and a wrong token costs time
// and is on record; slow bodies and unknown parameters get nowhere.
func TestTheDoor(t *testing.T) {
	t.Parallel()
	i := newInstance(t, stateServer(t), "")
	i.token = "a-token-of-the-test-0123456789"
	i.configure("token: " + i.token + "\n")
	i.start()
	sign := func() string {
		t.Helper()
		response, err := http.Post(i.address+"/v1/session", "application/json", strings.NewReader(`{"token":"`+i.token+`"}`))
		require.NoError(t, err)
		response.Body.Close() //nolint:errcheck // it was only looked at
		require.Equal(t, http.StatusNoContent, response.StatusCode)
		cookie := response.Cookies()[0]
		require.Positive(t, cookie.MaxAge, "it ends by itself")
		return cookie.Name + "=" + cookie.Value
	}
	as := func(method, path, cookie string) int {
		t.Helper()
		status, _, err := i.call(method, path, nil, "Authorization", "-", "Cookie", cookie)
		require.NoError(t, err)
		return status
	}
	one, two := sign(), sign()
	require.NotEqual(t, one, two)
	require.Equal(t, http.StatusOK, as(http.MethodGet, "/v1/status", one))
	i.stop(syscall.SIGTERM)
	i.start()
	require.Equal(t, http.StatusOK, as(http.MethodGet, "/v1/status", one), "it outlives a restart")
	require.Equal(t, http.StatusNoContent, as(http.MethodDelete, "/v1/session", one))
	require.Equal(t, http.StatusUnauthorized, as(http.MethodGet, "/v1/status", one), "an ended session is no way in")
	require.Equal(t, http.StatusOK, as(http.MethodGet, "/v1/status", two))

	status, _, err := i.call(http.MethodGet, "/v1/status", nil, "Authorization", "Bearer wrong")
	require.NoError(t, err)
	require.Equal(t, http.StatusUnauthorized, status)
	_, raw, err := i.call(http.MethodGet, "/metrics", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), "rillmark_logins_failed_total 1")
	i.eventually("it is on record", func() bool {
		_, raw, err := i.call(http.MethodGet, "/v1/log", nil)
		return err == nil && strings.Contains(string(raw), "login-failed")
	})

	for path, told := range map[string]string{"/v1/log?subjekt=a": "subjekt", "/v1/log?limit=1&limit=2": "given 2 times", "/v1/log?subject=%zz": "malformed", "/v1/status/stream?from=1": "from",
		"/v1/sources/none/stream?tables=a": "tables"} {
		status, raw, err := i.call(http.MethodGet, path, nil)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, status, path)
		require.Contains(t, string(raw), told, path)
	}
}

// sealsAreBound: what is kept of a secret is good for its place alone, and no caller can put it anywhere.
func (i *instance) sealsAreBound(t *testing.T, conn *pgx.Conn, source map[string]any) {
	refused := func(method, path string, body any, says string, header ...string) {
		t.Helper()
		code, raw, err := i.call(method, path, body, header...)
		require.NoError(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, code, "%s", raw)
		require.Contains(t, string(raw), says)
	}
	var sealed string
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT definition->'connection'->>'password' FROM rillmark.source").Scan(&sealed))
	for _, prefix := range []string{sealed, "sealed:1:YWJj", "sealed:9:"} {
		to := map[string]any{"kind": "http", "http": map[string]any{"url": "http://127.0.0.1:9/", "headers": map[string]string{"X-Token": prefix}}}
		refused(http.MethodPost, "/v1/destinations/elsewhere", to, "is what the service keeps of a secret")
		refused(http.MethodPost, "/v1/destinations/elsewhere/check", to, "is what the service keeps of a secret")
	}
	to := map[string]any{"kind": "http", "http": map[string]any{"url": "http://127.0.0.1:9/", "headers": map[string]string{"X-Token": "(sealed)"}}}
	refused(http.MethodPost, "/v1/destinations/elsewhere", to, "stands for a stored secret, and there is none here")
	refused(http.MethodPost, "/v1/destinations/elsewhere/check", to, "stands for a stored secret, and there is none here")
	source["hash_key"] = "(sealed)"
	refused(http.MethodPut, "/v1/sources/circulation", source, "stands for a stored secret, and there is none here", "If-Match", `"1"`)
	source["hash_key"] = "made-up-key-of-the-test"
	code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", source, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)

	// The key of hashed columns is no oracle for somebody's own database.
	other := map[string]any{}
	maps.Copy(other, source)
	connection := maps.Clone(source["connection"].(map[string]any))
	connection["host"], connection["password"] = "localhost", "another"
	other["connection"], other["hash_key"] = connection, "(sealed)"
	refused(http.MethodPost, "/v1/sources/circulation/check", other, "give the secrets anew")

	// Somebody who can write to the state database puts it in another place.
	run(t, conn, "UPDATE rillmark.source SET definition = jsonb_set(definition, '{hash_key}', definition->'connection'->'password')")
	code, raw, err = i.call(http.MethodPost, "/v1/sources/circulation/check", nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusBadGateway, code, "%s", raw)
	require.Contains(t, string(raw), "sealed for another place")
}
