package test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheSlotWaitsForWriters: a slot is made once every transaction that writes
// has ended, and it is shown whom it waits for; what the database has set against
// long statements does not end a load.
func TestTheSlotWaitsForWriters(t *testing.T) {
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
