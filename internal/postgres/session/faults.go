package session

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
	"rillmark/internal/netguard"
)

// Stage is what was being done when the source said no: it distinguishes errors of one
// SQLSTATE apart, whose texts come in the server's own language.
type Stage int

const (
	Querying   Stage = iota // an ordinary statement
	Connecting              // an ordinary session
	Opening                 // a session for replication
	MakingSlot
	Starting  // START_REPLICATION
	Streaming // behind it
)

// Explain turns an error of the driver at an ordinary statement into one that says
// what is wrong with the source and what to do. A fault passes unchanged.
func (c *Config) Explain(err error) error { return c.ExplainAt(Querying, err) }

// ExplainAt is explain for what was being done.
func (c *Config) ExplainAt(at Stage, err error) error {
	var fault *engine.Fault
	if err == nil || errors.As(err, &fault) || errors.Is(err, context.Canceled) {
		return err
	}
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return c.serverFault(at, server)
	}
	if fault := Cleartext(err); fault != nil {
		return fault
	}
	return c.networkFault(err)
}

// serverFault is what an SQLSTATE (the manual, appendix A) means at a stage.
func (c *Config) serverFault(at Stage, server *pgconn.PgError) error {
	where := fmt.Sprintf("%s:%d", c.Connection.Host, c.Connection.Port)
	user, database := c.Connection.User, c.Connection.Database
	cause := errors.New(server.Message) // the driver's text would repeat the parameters
	lost := &engine.Fault{Code: "slot-lost", Final: true, Cause: cause, Message: fmt.Sprintf("the source at %s has removed log that the replication slot %q still needed", where, c.SlotName()),
		Fix: "raise max_slot_wal_keep_size; then, " + Anew}
	switch code := server.Code; {
	case code == "28P01": // invalid_password, also of a user who is not there
		return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s refuses user %q with this password", where, user),
			Fix: "correct user and password in the source's connection"}
	case code == "28000": // invalid_authorization_specification
		return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s does not let user %q in", where, user),
			Fix: fmt.Sprintf("see that the role is there and may log in (ALTER ROLE %s LOGIN), and that the server's pg_hba.conf has a line for this user, database and address", Quoted(user))}
	case code == "3D000": // invalid_catalog_name
		return &engine.Fault{Code: "unknown-database", Cause: cause, Message: fmt.Sprintf("the source at %s has no database %q", where, database),
			Fix: "correct the database in the source's connection"}
	case code == "42501" && (at == Opening || at == MakingSlot || at == Starting): // insufficient_privilege
		return &engine.Fault{Code: "no-replication-right", Cause: cause, Message: fmt.Sprintf("user %q may not replicate from %s", user, where),
			Fix: fmt.Sprintf("ALTER ROLE %s REPLICATION", Quoted(user))}
	case code == "42501":
		return &engine.Fault{Code: "no-right", Cause: cause, Message: fmt.Sprintf("user %q lacks a right on the source at %s", user, where),
			Fix: "grant it, as `rillmark source check` shows"}
	case code == "55006": // object_in_use
		return &engine.Fault{Code: "slot-in-use", Cause: cause, Message: fmt.Sprintf("the replication slot %q on %s is in use by another reader", c.SlotName(), where),
			Fix: "stop the other reader, or give this source another name or slot; after a crash the server lets go of the slot by itself within its wal_sender_timeout"}
	case code == "53400" && at == MakingSlot: // configuration_limit_exceeded
		return &engine.Fault{Code: "no-free-slot", Cause: cause, Message: fmt.Sprintf("the source at %s has no free replication slot", where),
			Fix: "drop a slot that nobody uses (SELECT slot_name, active FROM pg_replication_slots), or raise max_replication_slots and restart the server"}
	case code == "53300": // too_many_connections
		return &engine.Fault{Code: "no-free-connection", Cause: cause, Message: fmt.Sprintf("the source at %s has no free connection or WAL sender", where),
			Fix: "close some, or raise max_connections or max_wal_senders"}
	case code == "42704" && at == Starting: // undefined_object: publications are looked for later
		return &engine.Fault{Code: "slot-gone", Final: true, Cause: cause, Message: fmt.Sprintf("the replication slot %q on %s is gone", c.SlotName(), where), Fix: Anew}
	case code == "42704" && at == Streaming:
		name := strings.Join(c.Publications(), " or ")
		for _, one := range c.Publications() {
			if strings.Contains(server.Message, `"`+one+`"`) {
				name = one
			}
		}
		return PublicationGone(name, cause)
	case (code == "58P01" || code == "55000") && (at == Starting || at == Streaming): // undefined_file, object_not_in_prerequisite_state
		return lost
	case code == "54000", code == "XX000" && strings.HasPrefix(server.Message, "invalid memory alloc request size"): // an internal error, which the server never translates
		return &engine.Fault{Code: "row-too-large", Cause: cause, Message: fmt.Sprintf("the source at %s cannot send a row, so large is it", where)}
	case code == "55000" && at == MakingSlot:
		return WalLevelFault(where, cause)
	case strings.HasPrefix(code, "57P"): // the server stops, starts, or has ended the session
		return &engine.Fault{Code: "source-away", Cause: cause, Message: fmt.Sprintf("the source at %s is stopping, starting or has ended the session", where)}
	}
	return &engine.Fault{Code: "source-error", Cause: fmt.Errorf("%s (SQLSTATE %s)", server.Message, server.Code), Message: "the source at " + where + " reports an error"}
}

func (c *Config) networkFault(err error) error {
	at := fmt.Sprintf("%s:%d", c.Connection.Host, c.Connection.Port)
	if refused := netguard.IsRefused(err); refused != nil {
		return &engine.Fault{Code: "address-refused", Message: "the source's address may not be reached", Cause: refused}
	}
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return &engine.Fault{Code: "unknown-host", Message: fmt.Sprintf("the source's host %q cannot be found", c.Connection.Host),
			Fix: "correct the host in the source's connection"}
	case errors.Is(err, context.DeadlineExceeded):
		return &engine.Fault{Code: "source-away", Message: "the source at " + at + " does not answer in time", Fix: "see whether the server runs and a firewall lets the connection through"}
	}
	var network net.Error
	var op *net.OpError
	if errors.As(err, &op) {
		return &engine.Fault{Code: "source-away", Cause: op.Err, Message: "the source at " + at + " cannot be reached", Fix: "see whether the server runs and listens there"}
	}
	if errors.As(err, &network) && network.Timeout() {
		return &engine.Fault{Code: "source-away", Message: "the source at " + at + " does not answer in time", Fix: "see whether the server runs and a firewall lets the connection through"}
	}
	return &engine.Fault{Code: "source-away", Cause: err, Message: "the connection to the source at " + at + " failed"}
}

func WalLevelFault(at string, cause error) *engine.Fault {
	return &engine.Fault{Code: "wal-level", Cause: cause, Message: "the source at " + at + " does not write its log in the detail that capture needs (wal_level is not logical)",
		Fix: "ALTER SYSTEM SET wal_level = 'logical', then restart the server"}
}

func PublicationGone(name string, cause error) error {
	return &engine.Fault{Code: "publication-gone", Final: true, Cause: cause,
		Message: fmt.Sprintf("the publication %q was dropped: what was written since cannot be read any more, not even when it is made again", name), Fix: Anew}
}

// IsGone reports whether a table does not exist any more.
func IsGone(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && (server.Code == "42P01" || server.Code == "3F000")
}

// IsLocked reports whether a lock could not be taken in time.
func IsLocked(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "55P03"
}

func IsDenied(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "42501"
}

// Anew is what a person does where the stream cannot go on.
const Anew = "make sure that this is the state of the source that counts; `rillmark source reset` then loads it anew, with the old events kept, in a new generation"

// MayNotWrite reports whether the login lacks the right, or the server is a standby.
func MayNotWrite(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && (server.Code == "42501" || server.Code == "25006")
}

// Cleartext is the fault of a server that asks for the password itself where it must not have it; nil
// for any other error.
func Cleartext(err error) error {
	if err == nil || !strings.Contains(err.Error(), "require_auth check failed") {
		return nil
	}
	return &engine.Fault{Code: "cleartext-password", Message: "the server asks for the password in clear text, over a connection that may not be encrypted", Cause: err,
		Fix: "have the server ask by scram-sha-256, or set tls to verify-full; cleartext_password: allow sends the password without encryption"}
}
