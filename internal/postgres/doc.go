// Package postgres is the engine for PostgreSQL sources: it reads the logical
// replication stream of the pgoutput plugin and loads tables beside it.
//
//   - [Config] is one source and implements [engine.Engine].
//   - run.go is one run: the stream's messages in their order; rows.go what a
//     row's message becomes; stream.go the connection they come over.
//   - position.go and slot.go decide where a run goes on, and when it must not.
//   - load.go reads the rows that exist already, exactly, beside the stream.
//   - publish.go keeps the publications to the table rules.
//   - catalogue.go looks tables and types up; values.go and arrays.go make the
//     server's text canonical.
//   - check.go says what a source lacks; faults.go puts errors into words.
//
// The wire format itself is package pgoutput's.
package postgres

import "rillmark/internal/engine"

var _ engine.Engine = (*Config)(nil)
