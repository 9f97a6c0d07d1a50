package test

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheSlotWaitsForWriters: a slot is made once every transaction that writes
// has ended, and it is shown whom it waits for; what the database has set against
// long statements does not end a load.
func TestTheSlotWaitsForWriters(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	writer := connect(t, source, name)
	run(t, db, "CREATE TABLE loans (loan_id integer PRIMARY KEY, note text)", "INSERT INTO loans SELECT n, repeat('x', 200) FROM generate_series(1, 50000) n")
	for _, setting := range []string{"statement_timeout = '5ms'", "lock_timeout = '5ms'", "idle_in_transaction_session_timeout = '5ms'"} {
		run(t, db, "ALTER DATABASE "+name+" SET "+setting)
	}
	run(t, writer, "BEGIN", "INSERT INTO loans VALUES (0, 'open before the slot')")
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.must(http.MethodPost, "/v1/sources/circulation/resume", nil, nil)
	i.eventually("it is shown whom the slot waits for", func() bool {
		return strings.Contains(i.status().Sources[0].Doing, "waiting for the transaction of user postgres")
	})
	run(t, writer, "COMMIT")
	i.settled("circulation", db)
	events := i.journal("circulation")
	proveJournal(t, events).equals(t, db, "loans")
	require.Len(t, ofTable(events, "public.loans", "existing"), 50_001)
}

// TestSilenceIsNotDeath: a server may be silent for long, and it wants to hear from
// us meanwhile, whatever our own side waits for. Neither ends the stream; a silence
// beyond the limit does.
func TestSilenceIsNotDeath(t *testing.T) {
	t.Parallel()
	source := sourceServer(t)
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE loans (loan_id integer PRIMARY KEY)", "ALTER DATABASE "+name+" SET wal_sender_timeout = '6s'")
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	dropSlotAtEnd(t, source)
	i := newInstance(t, stateServer(t), "source: {silence_after: 9s, heartbeat_every: 300ms}\n").start()
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()
	i.settled("circulation", db)
	// The stream's session, and whether the server has heard from it for so long.
	sender := func() (pid int) {
		require.NoError(t, db.QueryRow(t.Context(), "SELECT active_pid FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation'").Scan(&pid))
		return pid
	}
	replies := func(what, condition string, args ...any) {
		i.eventually(what, func() (so bool) {
			require.NoError(t, db.QueryRow(t.Context(), "SELECT coalesce(bool_or("+condition+"), true) FROM pg_stat_replication WHERE application_name = 'rillmark circulation stream' AND pid = (SELECT active_pid FROM pg_replication_slots WHERE slot_name = 'rillmark_circulation')", args...).Scan(&so))
			return so
		})
	}
	pid := sender()

	way.stalled.Store(true)
	replies("nothing comes through for a good part of the limit", "clock_timestamp() - reply_time > '3s'")
	way.stalled.Store(false)
	run(t, db, "INSERT INTO loans SELECT generate_series(1, 100)")
	i.reached("circulation", db)
	require.Equal(t, pid, sender(), "a silence is waited out")

	state := connect(t, stateServer(t), i.stateDB)
	run(t, state, "BEGIN", "SELECT FROM rillmark.journal_head FOR UPDATE")
	run(t, db, "INSERT INTO loans SELECT generate_series(101, 200)")
	var since string
	require.NoError(t, db.QueryRow(t.Context(), "SELECT clock_timestamp()::text").Scan(&since))
	replies("replies go on while nothing can be journaled, for longer than the server waits", "reply_time - $1::timestamptz > '7s'", since)
	run(t, state, "ROLLBACK")
	i.reached("circulation", db)
	require.Equal(t, pid, sender(), "the server has heard from us all the time")

	way.stalled.Store(true)
	i.eventually("the silence is noticed", func() bool {
		log, err := os.ReadFile(i.logFile())
		return err == nil && strings.Contains(string(log), "event=source-silent")
	})
	way.stalled.Store(false)
	run(t, db, "DELETE FROM loans WHERE loan_id % 2 = 0")
	i.settled("circulation", db)
	proveJournal(t, i.journal("circulation")).equals(t, db, "loans")
}

// TestMoneyFollowsItsLocale: of all settings that the text of a value depends on,
// lc_monetary is the one that says what the value means, and is left as it is.
func TestMoneyFollowsItsLocale(t *testing.T) {
	locales := filepath.Join(shared.folder, "locales")
	require.NoError(t, mkdir(locales))
	for _, one := range []string{"de_DE", "C"} {
		out, err := exec.Command("localedef", "--no-archive", "-i", one, "-f", "UTF-8", filepath.Join(locales, one+".utf8")).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	t.Setenv("LOCPATH", locales)
	source := ownServer(t, sourceSettings)
	require.NoError(t, os.Unsetenv("LOCPATH"))
	name := database(t, source, "postgres")
	db := connect(t, source, name)
	run(t, db, "CREATE TABLE fees (fee_id integer PRIMARY KEY, amount money)", "INSERT INTO fees VALUES (1, 1234.5)", "ALTER DATABASE "+name+" SET lc_monetary = 'de_DE.UTF-8'")
	i := newInstance(t, stateServer(t), "").start()
	i.must(http.MethodPost, "/v1/sources/circulation", sourceDefinition(source, name), nil)
	i.resume()
	i.settled("circulation", db)
	run(t, db, "INSERT INTO fees VALUES (2, 1234.5)")
	i.reached("circulation", db)
	fees := ofTable(i.journal("circulation"), "public.fees", "existing", "insert")
	require.Len(t, fees, 2)
	for _, e := range fees {
		require.Equal(t, `"1.234,50 €"`, string(e.Data.After["amount"]), e.Data.Operation)
	}
}
