package session

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/engine"
)

// EmitsSQL is the function that writes a text into the log: from version 17 on it has one argument
// more.
const EmitsSQL = "(SELECT oid FROM pg_catalog.pg_proc WHERE proname = 'pg_logical_emit_message' AND pronamespace = 'pg_catalog'::regnamespace AND proargtypes[2] = 'text'::regtype)"

// GrantMessages is the statement that lets a user write messages into the log of the server that a
// session is with.
func GrantMessages(conn *pgx.Conn, user string) string {
	arguments := "boolean, text, text"
	if Major(conn) >= 17 {
		arguments += ", boolean"
	}
	return "GRANT EXECUTE ON FUNCTION pg_logical_emit_message(" + arguments + ") TO " + Quoted(user)
}

// Major is the main version of a session's server; 0 where that is not known.
func Major(conn *pgx.Conn) int {
	if conn == nil {
		return 0
	}
	text := conn.PgConn().ParameterStatus("server_version") // 18.4, or 19beta1
	digits := strings.IndexFunc(text, func(r rune) bool { return r < '0' || r > '9' })
	if digits < 0 {
		digits = len(text)
	}
	n, _ := strconv.Atoi(text[:digits]) // what is no number is not known
	return n
}

// The versions of servers that can be captured; later ones may do.
const (
	Oldest = 15
	Newest = 18
)

// Supported is the fault of a server that is too old to be captured; nil for any other.
func Supported(conn *pgx.Conn) error {
	if n := Major(conn); n == 0 || n >= Oldest {
		return nil
	}
	return &engine.Fault{Code: "server-version", Final: true, Message: fmt.Sprintf("the server is PostgreSQL %s, and versions %d to %d can be captured: earlier ones have no publications by schema, with row filters or column lists", conn.PgConn().ParameterStatus("server_version"), Oldest, Newest),
		Fix: "upgrade the server, or capture from a replica that follows it logically"}
}
