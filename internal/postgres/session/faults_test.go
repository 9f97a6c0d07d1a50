package session

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"rillmark/internal/engine"
)

// TestFaultsInAnyLanguage: what a server says in its own language (lc_messages) is
// told by its SQLSTATE and by what was being done. The texts are the server's own.
func TestFaultsInAnyLanguage(t *testing.T) {
	connection, err := pgx.ParseConfig("host=127.0.0.1 port=5432 dbname=circulation user=library")
	require.NoError(t, err)
	c := &Config{Source: "circulation", Connection: connection}
	for _, one := range []struct {
		at      Stage
		state   string
		message string
		code    string
		final   bool
	}{
		{Connecting, "28P01", "Passwort-Authentifizierung für Benutzer »library« fehlgeschlagen", "login-refused", false},
		{Connecting, "28000", "Rolle »library« existiert nicht", "login-refused", false},
		{Connecting, "3D000", "Datenbank »circulation« existiert nicht", "unknown-database", false},
		{Connecting, "53300", "tut mir leid, schon zu viele Verbindungen", "no-free-connection", false},
		{Opening, "42501", "nur Superuser und Replikationsrollen können WAL-Sender starten", "no-replication-right", false},
		{Querying, "42501", "keine Berechtigung für Tabelle loans", "no-right", false},
		{MakingSlot, "53400", "alle Replikations-Slots sind in Benutzung", "no-free-slot", false},
		{MakingSlot, "55000", "logische Dekodierung erfordert wal_level >= logical", "wal-level", false},
		{Starting, "42704", "Replikations-Slot »rillmark_circulation« existiert nicht", "slot-gone", true},
		{Starting, "55000", "kann keine Änderungen mehr von Replikations-Slot »rillmark_circulation« erhalten", "slot-lost", true},
		{Starting, "55006", "Replikations-Slot »rillmark_circulation« ist aktiv für PID 4711", "slot-in-use", false},
		{Streaming, "58P01", "das angeforderte WAL-Segment 000000010000000000000012 wurde schon entfernt", "slot-lost", true},
		{Streaming, "42704", "Publikation »rillmark_circulation« existiert nicht", "publication-gone", true},
		{Streaming, "XX000", "invalid memory alloc request size 1258291204", "row-too-large", false},
		{Streaming, "57P01", "Verbindung wird abgebrochen aufgrund von Anweisung des Administrators", "source-away", false},
		{Querying, "22012", "Division durch Null", "source-error", false},
	} {
		var fault *engine.Fault
		require.ErrorAs(t, c.ExplainAt(one.at, &pgconn.PgError{Code: one.state, Message: one.message}), &fault)
		require.Equal(t, one.code, fault.Code, one.message)
		require.Equal(t, one.final, fault.Final, one.message)
		require.Contains(t, fault.Error(), one.message, "the server's own words are shown")
	}
}
