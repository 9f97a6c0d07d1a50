// Package wire is a client of MariaDB's client/server protocol, as far as a reader of a
// server's log needs it: it logs in, sends statements, reads their rows as they come, and
// hands out the packets of a replication stream.
//
//   - packet.go is the framing: packets, and those of 16 MiB and more in several frames.
//   - connect.go is the handshake, TLS and logging in, auth.go the ways to log in.
//   - query.go sends statements and reads their rows in text form.
//   - dump.go asks for the log.
//
// The sections named in comments are those of the server's manual, "Client/Server
// Protocol".
package wire
