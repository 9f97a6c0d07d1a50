package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/netguard"
)

// Destination is a MariaDB server.
type Destination struct {
	settings *Settings
	options  *OutletSettings
	dial     netguard.Dial
}

// parameters are those of every session. Readers are not kept waiting by more than the rows
// that are written, and a lock is waited for ten seconds. Batches are small beside their
// tables: rows are found by their key, each.
const parameters = "SET NAMES utf8mb4, time_zone = '+00:00', autocommit = 1, " +
	"sql_mode = 'STRICT_ALL_TABLES,ALLOW_INVALID_DATES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO,NO_BACKSLASH_ESCAPES', " +
	"max_seeks_for_key = 1, join_cache_level = 0, max_statement_time = 0, wait_timeout = 31536000, net_read_timeout = 3600, lock_wait_timeout = 10, innodb_lock_wait_timeout = 10, " +
	"SESSION transaction_isolation = 'READ-COMMITTED'"

// older servers know the isolation under another name.
var olderParameters = strings.Replace(parameters, "transaction_isolation", "tx_isolation", 1)

// connect opens a session; program is its name for the server.
func (d *Destination) connect(ctx context.Context, program string) (*wire.Conn, error) {
	s := d.settings
	config := &wire.Config{Host: s.Host, Port: s.Port, User: s.User, Password: s.Password, Dial: d.dial, Program: program, Several: true}
	var err error
	if config.TLS, config.Require, err = session.TLS(s.Host, s.TLS, s.Root); err != nil {
		return nil, err
	}
	conn, err := wire.Connect(ctx, config)
	if err != nil {
		return nil, explained(err)
	}
	err = conn.Exec(ctx, parameters)
	if wire.Code(err) == codeNoVariable {
		err = conn.Exec(ctx, olderParameters)
	}
	if err != nil {
		conn.Close()
		return nil, explained(err)
	}
	return conn, nil
}

// The numbers of the server's errors (the manual, "MariaDB Error Codes").
const (
	codeDenied          = 1045
	codeHostDenied      = 1130
	codeHostBlocked     = 1129
	codeDatabaseRight   = 1044
	codeTableRight      = 1142
	codeColumnRight     = 1143
	codeNoRight         = 1227
	codeNoDatabase      = 1049
	codeNoVariable      = 1193
	codeDuplicate       = 1062
	codeNoLoad          = 1148
	codeNoLocalLoad     = 4166
	codeSubquery        = 1242
	codeLockTimeout     = 1205
	codeDeadlock        = 1213
	codeReadOnly        = 1290
	codeReadOnlyMode    = 1792
	codeDiskFull        = 1021
	codeTableFull       = 1114
	codeIncorrectValue  = 1366
	codeNoDefault       = 1364
	codeNoPartition     = 1526
	codeConstraint      = 4025
	codeFullConnections = 1040
)

// errTooLong is a row whose statement the server would not take.
type errTooLong struct{ bytes, limit int }

func (e *errTooLong) Error() string {
	return fmt.Sprintf("its statement has %d bytes, and the server's max_allowed_packet is %d", e.bytes, e.limit)
}

// errChanged is a row of which the server has changed a value, with no more than a warning.
type errChanged struct{ warning string }

func (e *errChanged) Error() string { return "a value would not be kept as it is: " + e.warning }

// explained says an error in words where it is one that people can do something about.
func explained(err error) error {
	var known *engine.Fault
	if err == nil || errors.As(err, &known) || errors.Is(err, context.Canceled) {
		return err
	}
	var refused *wire.Error
	if !errors.As(err, &refused) {
		switch {
		case netguard.IsRefused(err) != nil:
			return &engine.Fault{Code: "address-denied", Final: true, Message: "this service may not reach the database", Cause: err}
		case errors.Is(err, wire.ErrNoTLS):
			return &engine.Fault{Code: "no-tls", Cause: err, Message: "the server does not encrypt connections", Fix: "set ssl_cert and ssl_key on the server, or tls: disable in the destination"}
		}
		return &engine.Fault{Code: "unreachable", Message: "the database cannot be reached", Cause: err}
	}
	switch refused.Code {
	case codeDenied, codeHostDenied, codeHostBlocked:
		return &engine.Fault{Code: "login-refused", Message: "the database refuses user or password, or logins from this machine", Cause: err}
	case codeNoDatabase:
		return &engine.Fault{Code: "no-database", Message: "there is no such database", Cause: err, Fix: "create it; delivery goes on by itself"}
	case codeDatabaseRight, codeTableRight, codeColumnRight, codeNoRight:
		return &engine.Fault{Code: "not-allowed", Message: "the user may not do what the outlet needs: " + refused.Message, Cause: err, Fix: "`rillmark destination check` says which rights are needed; delivery goes on by itself"}
	case codeDiskFull, codeTableFull:
		return &engine.Fault{Code: "destination-full", Message: "the database's disk is full", Cause: err, Fix: "make room; delivery goes on by itself"}
	case codeReadOnly, codeReadOnlyMode:
		return &engine.Fault{Code: "read-only", Message: "the database takes no changes now (it is read-only)", Cause: err, Fix: "name the server that writes; delivery goes on by itself"}
	case codeLockTimeout, codeDeadlock:
		return &engine.Fault{Code: "locked", Message: "somebody else holds rows or a table that the outlet writes to", Cause: err, Fix: "delivery goes on by itself once they let go"}
	case codeFullConnections:
		return &engine.Fault{Code: "no-free-connection", Message: "the database has no free connection", Cause: err, Fix: "close some, or raise max_connections; delivery goes on by itself"}
	}
	return &engine.Fault{Code: "database", Message: "the database does not take the rows", Cause: err}
}

// refusesRow reports whether an error is about one row's values: another row may be taken.
func refusesRow(err error) bool {
	var long *errTooLong
	var changed *errChanged
	if errors.As(err, &long) || errors.As(err, &changed) {
		return true
	}
	var refused *wire.Error
	if !errors.As(err, &refused) {
		return false
	}
	switch refused.Code {
	case codeIncorrectValue, codeNoDefault, codeNoPartition, codeConstraint:
		return true
	}
	class := refused.State[:min(len(refused.State), 2)]
	return class == "01" || class == "22" || class == "23" || class == "45" // a warning that a strict session makes an error
}

// refusal is such an error in a sentence.
func refusal(table string, err error) error {
	var refused *wire.Error
	if errors.As(err, &refused) {
		return fmt.Errorf("%s refuses the row: %s (error %d)", table, refused.Message, refused.Code)
	}
	return fmt.Errorf("%s refuses the row: %w", table, err)
}

// versionOf is a server's version as 101106.
func versionOf(text string) int {
	n, parts := 0, strings.SplitN(strings.TrimPrefix(text, "5.5.5-"), ".", 3)
	for i := range 3 {
		part := 0
		if i < len(parts) {
			digits := parts[i][:len(parts[i])-len(strings.TrimLeft(parts[i], "0123456789"))]
			part, _ = strconv.Atoi(digits) // digits, or nothing
		}
		n = n*100 + part
	}
	return n
}
