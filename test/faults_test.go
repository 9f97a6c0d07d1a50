package test

import (
	"net/http"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAQuietDatabaseBesideABusyOne: the log is the whole server's. Where nothing
// happens in the captured database, the slot moves anyway, and holds back
// nothing of what others write.
func TestAQuietDatabaseBesideABusyOne(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source: {heartbeat_every: 200ms}\n", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	before := len(i.journal("circulation"))
	busy := connect(t, sourceServer(t), database(t, sourceServer(t), "postgres"))
	run(t, busy, "CREATE TABLE fills (n integer, fill text)", "INSERT INTO fills SELECT n, repeat(md5(n::text), 10) FROM generate_series(1, 100000) n")
	var written string
	require.NoError(t, busy.QueryRow(t.Context(), "SELECT pg_current_wal_lsn()::text").Scan(&written))
	i.eventually("nothing of it is held back", func() (is bool) {
		run(t, busy, "CHECKPOINT") // it notes which transactions run, from which a slot's oldest place follows
		return db.QueryRow(t.Context(), "SELECT restart_lsn >= $1::pg_lsn AND confirmed_flush_lsn >= $1::pg_lsn FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'", written).Scan(&is) == nil && is
	})
	require.Len(t, i.journal("circulation"), before, "and no event comes of it")
}

// TestAPasswordIsChanged: the stream that is open goes on; the next one is refused,
// waits, and goes on once the definition has the new password.
func TestAPasswordIsChanged(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	role := "capture_" + name
	db := connect(t, source, name)
	run(t, db, "CREATE ROLE "+role+" LOGIN SUPERUSER PASSWORD 'made-up-1'", "CREATE TABLE loans (loan_id integer PRIMARY KEY)")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "source: {heartbeat_every: 200ms}\n").start()
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["user"], d["connection"].(map[string]any)["password"] = role, "made-up-1"
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "ALTER ROLE "+role+" PASSWORD 'made-up-2'", "INSERT INTO loans SELECT generate_series(1, 10)")
	i.reached("circulation", db)
	run(t, db, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '"+role+"'", "INSERT INTO loans SELECT generate_series(11, 20)")
	i.waits("login-refused", `refuses user "`+role+`" with this password`)
	d["connection"].(map[string]any)["password"] = "made-up-2"
	code, raw, err := i.call(http.MethodPut, "/v1/sources/circulation", d, "If-Match", `"1"`)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, code, "%s", raw)
	i.settled("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "loans")
	_, raw, _ = i.call(http.MethodGet, "/v1/log?limit=200", nil)
	require.NotContains(t, string(raw), "made-up")
}

// TestATypeIsDropped: of rows that lie in the log from before, the catalogue no
// longer knows a column's type. They come through in the engine's own text.
func TestATypeIsDropped(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "source: {heartbeat_every: 200ms, refresh_every: 200ms}\n",
		"CREATE TYPE mood AS ENUM ('calm', 'busy')", "CREATE TYPE place AS (branch text, shelf integer)", "CREATE DOMAIN price AS numeric(6,2)",
		"CREATE TABLE desk (id integer PRIMARY KEY, feeling mood, at place, fee price, moods mood[], note text)")
	db := connect(t, sourceServer(t), name)
	i.resume()
	i.settled("circulation", db)
	row := "'busy', ROW('Elm', 3), 1.5, ARRAY['calm', 'busy']::mood[], 'before'"
	run(t, db, "INSERT INTO desk VALUES (1, "+row+")")
	i.reached("circulation", db)
	i.stop(syscall.SIGTERM)
	run(t, db, "INSERT INTO desk VALUES (2, "+row+")", "UPDATE desk SET note = 'still before' WHERE id = 1",
		"DROP TYPE mood CASCADE", "DROP TYPE place CASCADE", "DROP DOMAIN price CASCADE", "INSERT INTO desk VALUES (3, 'after')")
	i.start()
	i.settled("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events)
	inserts := ofTable(events, "public.desk", "insert")
	require.Len(t, inserts, 3)
	require.Equal(t, `"busy"`, string(inserts[1].Data.After["feeling"]))
	require.True(t, strings.Contains(string(inserts[1].Data.After["at"]), "Elm"), "%s", inserts[1].raw)
	require.Equal(t, `"1.50"`, string(inserts[1].Data.After["fee"]))
	require.NotContains(t, inserts[2].Data.After, "feeling")
}
