// Package pgoutput decodes and encodes the messages of PostgreSQL's logical
// replication protocol, version 1, as the plugin of that name sends them, and
// the three messages of streaming replication that wrap and answer them. Each
// message is one type in one file, named as in the PostgreSQL documentation,
// chapters "Logical Replication Message Formats" and "Streaming Replication
// Protocol".
//
// Decode never copies: byte slices in a decoded message point into the buffer
// it was given. A message value may be decoded into again and again; it then
// reuses its own slices. Nothing here knows tables, types or events.
package pgoutput
