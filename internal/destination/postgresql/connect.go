package postgresql

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
	"rillmark/internal/netguard"
	"rillmark/internal/postgres/session"
)

// Destination is a PostgreSQL database.
type Destination struct {
	settings *Settings
	options  *OutletSettings
	dial     netguard.Dial
}

// parameters are set on every session, so that values are read as they are written here.
var parameters = map[string]string{
	"DateStyle": "ISO, YMD", "IntervalStyle": "iso_8601", "TimeZone": "UTC", "search_path": "pg_catalog", "client_encoding": "UTF8",
	// Batches are small beside their tables: rows are found by their key, each.
	"enable_hashjoin": "off", "enable_mergejoin": "off", "enable_seqscan": "off", "enable_material": "off", "jit": "off",
	// What the server loses when it breaks down it loses with the offset: it comes again.
	"synchronous_commit": "off",
	// A cut over keeps writers out of the database that a system has left; who follows back goes on.
	"default_transaction_read_only": "off",
	// A statement fails rather than do nothing to rows that it may not see.
	"row_security":                "off",
	"standard_conforming_strings": "on", "statement_timeout": "0", "lock_timeout": "10s", "idle_in_transaction_session_timeout": "0",
}

// connect opens a session; application is its name in pg_stat_activity.
func (d *Destination) connect(ctx context.Context, application string) (*pgx.Conn, error) {
	s := d.settings
	config, err := session.Connection(s.Host, s.Port, s.Database, s.User, s.Password, s.TLS, s.Root, s.Cleartext == session.CleartextAllow)
	if err != nil {
		return nil, err
	}
	for name, value := range parameters {
		config.RuntimeParams[name] = value
	}
	config.RuntimeParams["application_name"] = application
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	config.DialFunc = pgconn.DialFunc(d.dial)
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, explained(err)
	}
	return conn, nil
}

// explained says an error in words where it is one that people can do something about.
func explained(err error) error {
	var known *engine.Fault
	if err == nil || errors.As(err, &known) || errors.Is(err, context.Canceled) {
		return err
	}
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		if netguard.IsRefused(err) != nil {
			return &engine.Fault{Code: "address-denied", Final: true, Message: "this service may not reach the database", Cause: err}
		}
		if fault := session.Cleartext(err); fault != nil {
			return fault
		}
		return &engine.Fault{Code: "unreachable", Message: "the database cannot be reached", Cause: err}
	}
	switch refused.Code {
	case "28P01", "28000":
		return &engine.Fault{Code: "login-refused", Message: "the database refuses user or password", Cause: err}
	case "3D000":
		return &engine.Fault{Code: "no-database", Message: "there is no such database", Cause: err, Fix: "create it, or name another one; delivery goes on by itself"}
	case "42501":
		return &engine.Fault{Code: "not-allowed", Message: "the user may not do what the outlet needs: " + refused.Message, Cause: err, Fix: "`rillmark destination check` says which rights are needed; delivery goes on by itself"}
	case "53100":
		return &engine.Fault{Code: "destination-full", Message: "the database's disk is full", Cause: err, Fix: "make room; delivery goes on by itself"}
	case "25006":
		return &engine.Fault{Code: "read-only", Message: "the database takes no changes now (it is read-only, or a standby)", Cause: err, Fix: "name the server that writes; delivery goes on by itself"}
	case "55P03", "40P01", "40001":
		return &engine.Fault{Code: "locked", Message: "somebody else holds rows or a table that the outlet writes to", Cause: err, Fix: "delivery goes on by itself once they let go"}
	}
	return &engine.Fault{Code: "database", Message: "the database does not take the rows", Cause: err}
}

// refusesRow reports whether an error is about one row's values: another row may be taken.
func refusesRow(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && (strings.HasPrefix(refused.Code, "22") || strings.HasPrefix(refused.Code, "23") || refused.Code == "54000" || refused.Code == "P0001")
}

// refusal is such an error in a sentence.
func refusal(table string, err error) error {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return err
	}
	text := refused.Message
	if refused.ColumnName != "" && !strings.Contains(text, refused.ColumnName) {
		text += ", column " + refused.ColumnName
	}
	return fmt.Errorf("%s refuses the row: %s (SQLSTATE %s)", table, text, refused.Code)
}

func isUnique(err error) bool {
	var refused *pgconn.PgError
	return errors.As(err, &refused) && refused.Code == "23505"
}
