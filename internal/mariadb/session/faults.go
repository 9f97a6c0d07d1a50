package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/wire"
	"rillmark/internal/netguard"
)

// Anew is what a person does where the log cannot be followed any further.
const Anew = "make sure that this is the state of the source that counts; `rillmark source reset` then loads it anew, with the old events kept, in a new generation"

// The numbers of the server's errors (the manual, "MariaDB Error Codes").
const (
	codeDenied        = 1045
	codeDatabase      = 1049
	codeNoTable       = 1146
	codeNoRight       = 1227
	codeTableRight    = 1142
	codeColumnRight   = 1143
	codeDatabaseRight = 1044
	codeRoutineRight  = 1370
	codeLog           = 1236
	codeShutdown      = 1053
	codeKilled        = 1927
	codeFull          = 1040
	codeUserFull      = 1226
	codeHostBlocked   = 1129
	codeHostDenied    = 1130
	codeLogOff        = 1381
	codeTaken         = 4052
	codeLockTimeout   = 1205
	codeTableChanged  = 1412
	codeDeadlock      = 1213
)

// Explain turns an error at a session into one that says what is wrong with the source and
// what to do. A fault passes unchanged.
func (c *Config) Explain(err error) error {
	var fault *engine.Fault
	if err == nil || errors.As(err, &fault) || errors.Is(err, context.Canceled) {
		return err
	}
	var server *wire.Error
	if errors.As(err, &server) {
		return c.serverFault(server)
	}
	return c.networkFault(err)
}

func (c *Config) serverFault(server *wire.Error) error {
	where := c.Where()
	cause := fmt.Errorf("%s (error %d)", server.Message, server.Code)
	switch server.Code {
	case codeDenied:
		return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s refuses user %q with this password, or without encryption", where, c.User),
			Fix: "correct user, password and tls in the source's connection, and see for which hosts the user may log in (SELECT user, host FROM mysql.user)"}
	case codeHostDenied, codeHostBlocked:
		return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s does not let this machine in", where),
			Fix: "see for which hosts the user may log in; after many failures FLUSH HOSTS lets a host in again"}
	case codeNoRight, codeTableRight, codeColumnRight, codeDatabaseRight, codeRoutineRight:
		return &engine.Fault{Code: "no-right", Cause: cause, Message: fmt.Sprintf("user %q lacks a right on the source at %s", c.User, where),
			Fix: "grant it, as `rillmark source check` shows"}
	case codeTaken:
		return &engine.Fault{Code: "reader-id-in-use", Cause: cause, Message: "another reader of the log of " + where + " has come with the same number, and the server threw this one out", Final: true,
			Fix: "give this source a reader_id of its own in its connection, or stop the other reader"}
	case codeLogOff:
		return &engine.Fault{Code: "log-off", Cause: cause, Message: "the source at " + where + " writes no binary log", Fix: "set log_bin, server_id and binlog_format = ROW in the server's configuration, and restart it"}
	case codeLog:
		return &engine.Fault{Code: "log-gone", Final: true, Cause: cause, Message: "the source at " + where + " cannot send its log from the position that was reached: it was purged, or the server was reset, restored or replaced by one with another history",
			Fix: Anew}
	case codeFull, codeUserFull:
		return &engine.Fault{Code: "no-free-connection", Cause: cause, Message: "the source at " + where + " has no free connection", Fix: "close some, or raise max_connections or the user's limit"}
	case codeShutdown, codeKilled:
		return &engine.Fault{Code: "source-away", Cause: cause, Message: "the source at " + where + " is stopping or has ended the session"}
	}
	return &engine.Fault{Code: "source-error", Cause: cause, Message: "the source at " + where + " reports an error"}
}

func (c *Config) networkFault(err error) error {
	at := c.Where()
	if refused := netguard.IsRefused(err); refused != nil {
		return &engine.Fault{Code: "address-refused", Message: "the source's address may not be reached", Cause: refused}
	}
	var dns *net.DNSError
	var op *net.OpError
	var network net.Error
	switch {
	case errors.Is(err, wire.ErrNoTLS):
		return &engine.Fault{Code: "no-tls", Cause: err, Message: "the source at " + at + " does not encrypt connections", Fix: "set ssl_cert and ssl_key on the server, or tls: disable in the source's connection"}
	case errors.As(err, &dns):
		return &engine.Fault{Code: "unknown-host", Message: fmt.Sprintf("the source's host %q cannot be found", c.Host), Fix: "correct the host in the source's connection"}
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &network) && network.Timeout():
		return &engine.Fault{Code: "source-away", Message: "the source at " + at + " does not answer in time", Fix: "see whether the server runs and a firewall lets the connection through"}
	case errors.As(err, &op):
		return &engine.Fault{Code: "source-away", Cause: op.Err, Message: "the source at " + at + " cannot be reached", Fix: "see whether the server runs and listens there"}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return &engine.Fault{Code: "source-away", Message: "the source at " + at + " has closed the connection"}
	}
	return &engine.Fault{Code: "source-away", Cause: err, Message: "the connection to the source at " + at + " failed"}
}

// IsLogGone reports whether the server cannot send its log from where it was asked to.
func IsLogGone(err error) bool { return wire.Code(err) == codeLog }

// IsDenied reports whether a right is missing.
func IsDenied(err error) bool {
	switch wire.Code(err) {
	case codeNoRight, codeTableRight, codeColumnRight, codeDatabaseRight, codeRoutineRight:
		return true
	}
	return false
}

// IsNoTable reports whether a table or its database is not there.
func IsNoTable(err error) bool {
	code := wire.Code(err)
	return code == codeNoTable || code == codeDatabase
}

// IsPassing reports whether trying again can help: a lock, a deadlock, a table whose
// definition changed under a snapshot.
func IsPassing(err error) bool {
	code := wire.Code(err)
	return code == codeLockTimeout || code == codeDeadlock || code == codeTableChanged
}
