package change

// Row is one event on its way into a journal, before it has an offset. Whoever
// takes it copies what it needs: the slices are good during the call only.
type Row struct {
	Operation     Operation
	Table         string
	Schema        *Schema // nil for a message
	Place         uint64  // in the source's log
	Before, After []Value
	// Rekeyed is the other half's key where a changed key makes two events.
	Rekeyed []Value
	Body    []byte
	// For is the only outlet that gets the event; 0: every reader gets it.
	For int64
}

// OpenTransaction is the transaction that the next rows belong to.
type OpenTransaction struct {
	ID         string
	CommitTime int64 // microseconds since 1970-01-01 UTC
	// Origin names the server that the transaction came from by replication;
	// empty for one that was made on the source itself.
	Origin string
	// Next is the index of the next event in the transaction; the journal's
	// builder counts it up.
	Next uint64
}
