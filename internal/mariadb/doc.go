// Package mariadb captures a MariaDB server's changes from its binary log.
//
// A run is three kinds of goroutines: one reads the log (run.go) group by group (group.go),
// one looks for new tables and sees to their states (states.go), some load tables (package
// loading, to which host.go is the run). What they share is guarded by the sink's lock.
//
//   - group.go holds a group to its last event, since only that says which of its rows have
//     survived; a group too large to hold is read twice (replay.go), and so is one that a
//     distributed transaction prepared and a later one commits.
//   - rows.go makes events of rows, schema.go of statements.
//   - position.go is what is stored: how far the log has been taken.
//
// Below: wire (the server's protocol), binlog (the events), stream (one reading of the
// log), values and charset (columns), statement (what statements do), catalogue (what the
// server says of tables), loads (what is known of tables and their loads), session (how it is
// reached), check and script.
package mariadb
