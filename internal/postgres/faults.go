package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
)

// explain turns an error of the driver into one that says what is wrong with
// the source and what to do. A fault passes unchanged.
func (c *Config) explain(err error) error {
	var fault *engine.Fault
	if err == nil || errors.As(err, &fault) || errors.Is(err, context.Canceled) {
		return err
	}
	at := fmt.Sprintf("%s:%d", c.Connection.Host, c.Connection.Port)
	user, database := c.Connection.User, c.Connection.Database
	var server *pgconn.PgError
	if errors.As(err, &server) {
		cause := errors.New(server.Message) // the driver's text would repeat the parameters
		switch {
		case server.Code == "28P01" || server.Code == "28000" && strings.Contains(server.Message, "password"):
			return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s refuses the password of user %q", at, user),
				Fix: "correct the password in the source's connection"}
		case server.Code == "28000" && strings.Contains(server.Message, "replication"):
			return &engine.Fault{Code: "no-replication-right", Cause: cause, Message: fmt.Sprintf("user %q may not replicate from %s", user, at),
				Fix: fmt.Sprintf("ALTER ROLE %s REPLICATION", quoted(user))}
		case server.Code == "28000" && strings.Contains(server.Message, "not permitted to log in"):
			return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s does not let user %q in", at, user),
				Fix: fmt.Sprintf("ALTER ROLE %s LOGIN", quoted(user))}
		case server.Code == "28000":
			return &engine.Fault{Code: "login-refused", Cause: cause, Message: fmt.Sprintf("the source at %s does not let user %q in", at, user),
				Fix: "have a line for this user and address added to the server's pg_hba.conf"}
		case server.Code == "3D000":
			return &engine.Fault{Code: "unknown-database", Cause: cause, Message: fmt.Sprintf("the source at %s has no database %q", at, database),
				Fix: "correct the database in the source's connection"}
		case server.Code == "42501" && strings.Contains(server.Message, "replication"):
			return &engine.Fault{Code: "no-replication-right", Cause: cause, Message: fmt.Sprintf("user %q may not replicate from %s", user, at),
				Fix: fmt.Sprintf("ALTER ROLE %s REPLICATION", quoted(user))}
		case server.Code == "42501":
			return &engine.Fault{Code: "no-right", Cause: cause, Message: fmt.Sprintf("user %q lacks a right on the source at %s", user, at),
				Fix: "grant it, as `rillmark source check` shows"}
		case server.Code == "55006":
			return &engine.Fault{Code: "slot-in-use", Cause: cause, Message: fmt.Sprintf("the replication slot %q on %s is in use by another reader", c.slotName(), at),
				Fix: "stop the other reader, or give this source another name or slot; after a crash the server lets go of the slot by itself within its wal_sender_timeout"}
		case server.Code == "53400" && strings.Contains(server.Message, "replication slots"):
			return &engine.Fault{Code: "no-free-slot", Cause: cause, Message: fmt.Sprintf("the source at %s has no free replication slot", at),
				Fix: "drop a slot that nobody uses (SELECT slot_name, active FROM pg_replication_slots), or raise max_replication_slots and restart the server"}
		case server.Code == "53300":
			return &engine.Fault{Code: "no-free-connection", Cause: cause, Message: fmt.Sprintf("the source at %s has no free connection or WAL sender", at),
				Fix: "close some, or raise max_connections or max_wal_senders"}
		case server.Code == "42704" && strings.HasPrefix(server.Message, "publication "):
			name, _, _ := strings.Cut(strings.TrimPrefix(server.Message, "publication "), " does not")
			return publicationGone(strings.Trim(name, `"`), cause)
		case server.Code == "58P01" && strings.Contains(server.Message, "requested WAL segment"),
			server.Code == "55000" && strings.Contains(server.Message, "can no longer get changes from replication slot"):
			return &engine.Fault{Code: "slot-lost", Final: true, Cause: cause, Message: fmt.Sprintf("the source at %s has removed log that the replication slot %q still needed", at, c.slotName()),
				Fix: "raise max_slot_wal_keep_size; then, " + anew}
		case server.Code == "42704" && strings.HasPrefix(server.Message, "replication slot "):
			return &engine.Fault{Code: "slot-gone", Final: true, Cause: cause, Message: fmt.Sprintf("the replication slot %q on %s is gone", c.slotName(), at), Fix: anew}
		case strings.HasPrefix(server.Message, "invalid memory alloc request size"), server.Code == "54000":
			return &engine.Fault{Code: "row-too-large", Cause: cause, Message: fmt.Sprintf("the source at %s cannot send a row, so large is it", at)}
		case server.Code == "55000" && strings.Contains(server.Message, "wal_level"):
			return walLevelFault(at, cause)
		case strings.HasPrefix(server.Code, "57P"):
			return &engine.Fault{Code: "source-away", Cause: cause, Message: fmt.Sprintf("the source at %s is stopping, starting or has ended the session", at)}
		default:
			return &engine.Fault{Code: "source-error", Cause: fmt.Errorf("%s (SQLSTATE %s)", server.Message, server.Code), Message: "the source at " + at + " reports an error"}
		}
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

func walLevelFault(at string, cause error) *engine.Fault {
	return &engine.Fault{Code: "wal-level", Cause: cause, Message: "the source at " + at + " does not write its log in the detail that capture needs (wal_level is not logical)",
		Fix: "ALTER SYSTEM SET wal_level = 'logical', then restart the server"}
}
