// Package postgres is the engine for PostgreSQL sources: it reads the logical
// replication stream of the pgoutput plugin and loads tables beside it.
//
//   - [Config] is one source and implements [engine.Engine].
//   - run.go is one run: the stream's messages in their order; rows.go what a
//     row's message becomes; stream.go the connection they come over (package wire).
//   - position.go and slot.go decide where a run goes on, and when it must not.
//     binaryform.go is what only comes in binary.
//   - load.go says how the rows that exist already are read, exactly, beside the
//     stream; loading.go hands the work out, chunk.go reads, fullload.go reads tables
//     without a key.
//   - layout.go is a table's columns under its rule (package capture/rules);
//     publish.go keeps the publications to the rules.
//   - statement.go follows schema changes that no row brings.
//   - try.go is a trial, which leaves nothing behind.
//   - catalogue.go looks tables and types up; package canonical makes the server's text
//     canonical.
//   - check.go says what a source lacks; faults.go puts errors into words.
//
// The wire format itself is package pgoutput's.
package postgres

import (
	"rillmark/internal/change"
	"rillmark/internal/engine"
)

var _ interface {
	engine.Engine
	engine.Scripter
	engine.Trier
	engine.ConditionChecker
	engine.LogRetainer
} = (*Config)(nil)

// Name implements [engine.Engine].
func (c *Config) Name() change.Engine { return change.PostgreSQL }
