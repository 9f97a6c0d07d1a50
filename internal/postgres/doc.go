// Package postgres is the engine for PostgreSQL sources: it reads the logical
// replication stream of the pgoutput plugin and loads tables beside it.
//
//   - [Engine] is one source and implements [engine.Engine]; [Kind] is how people choose
//     and define one.
//   - run.go is one run: the stream's messages in their order; rows.go what a
//     row's message becomes. position.go and slot.go decide where a run goes on, and when
//     it must not. binaryform.go is what only comes in binary.
//   - publishing.go and tablestates.go follow what the catalogue says of tables,
//     statement.go schema changes that no row brings.
//   - try.go is a trial, which leaves nothing behind.
//
// Below it, each with a comment of its own: session (the connection, names, errors),
// stream, catalogue, publication, check, script, tables; loading with chunk and loads; pgoutput and wire are the
// protocol, canonical the server's text made canonical.
package postgres
