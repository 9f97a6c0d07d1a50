package session

import (
	"context"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// Querier is what a connection and a transaction share.
type Querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func Quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// Literal is a text in SQL, whatever standard_conforming_strings says.
func Literal(s string) string {
	s = strings.ReplaceAll(s, "'", "''")
	if strings.Contains(s, `\`) {
		return "E'" + strings.ReplaceAll(s, `\`, `\\`) + "'"
	}
	return "'" + s + "'"
}

// InComment is a name as a comment of one line may hold it.
func InComment(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' {
			return '?'
		}
		return r
	}, name)
}

// DollarTag is a quote that none of the texts ends.
func DollarTag(texts ...string) string {
	all := strings.Join(texts, "\n")
	for tag := "$rillmark"; ; tag += "_" {
		if !strings.Contains(all, tag+"$") {
			return tag + "$"
		}
	}
}

// SanitizedName is a table in SQL, of its name in events.
func SanitizedName(name string) string {
	schema, table, _ := change.SplitTable(name)
	return pgx.Identifier{schema, table}.Sanitize()
}

// NotOurOwn refuses a database in which Rillmark keeps its records.
func NotOurOwn(ctx context.Context, conn *pgx.Conn) error {
	var own bool
	err := conn.QueryRow(ctx, "SELECT count(*) = 2 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'rillmark' AND c.relname IN ('journal_head', 'outlet_offset')").Scan(&own)
	if err == nil && own {
		return &engine.Fault{Code: "state-database", Message: "this is a database in which Rillmark keeps its own records, and it cannot be a source: writing its events down would make events without an end", Final: true,
			Fix: "name the database whose tables are to be captured; the state database is one of its own"}
	}
	return err
}
