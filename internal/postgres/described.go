package postgres

import (
	"context"
	"maps"

	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/pgoutput"
	"rillmark/internal/postgres/session"
)

// described is what the catalogue says of a table whose Relation message is at hand:
// looked up at or after the message's place in the log, so that it has all that led to
// the message. Tables that the stream has not announced yet are looked up with it, so
// that a thousand of them do not cost a thousand questions; the lock is held.
func (r *run) described(ctx context.Context, m *pgoutput.Relation) (*catalogue.Described, error) {
	if d := r.lookups[m.OID]; d != nil && d.At >= session.LSN(r.tx.FinalLSN) && catalogue.Fits(d.Numbered(false), m.Columns, false) {
		return d, nil
	}
	oids := []uint32{m.OID}
	for _, t := range r.tables {
		if t.Captured == nil {
			continue
		}
		for _, l := range t.Captured.Members {
			if r.relations[l.OID] == nil && l.OID != m.OID && len(oids) <= lookAhead {
				oids = append(oids, l.OID)
			}
		}
	}
	// Before the look: what is committed in between may be in it, and is not relied on.
	var text string
	if err := r.control.QueryRow(ctx, "SELECT (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_insert_lsn() END)::text").Scan(&text); err != nil {
		return nil, err
	}
	at, err := session.ParseLSN(text)
	if err != nil {
		return nil, err
	}
	found, err := catalogue.Describe(ctx, r.control, oids)
	if err != nil {
		return nil, err
	}
	for _, d := range found {
		d.At = at
	}
	if r.lookups == nil || len(r.lookups) > 100_000 {
		r.lookups = make(map[uint32]*catalogue.Described)
	}
	maps.Copy(r.lookups, found)
	return found[m.OID], nil
}

// forget drops what was looked up of tables that a statement has changed.
func (r *run) forget(oid uint32) { delete(r.lookups, oid) }

// lookAhead is how many tables are asked about at a time besides the one at hand.
const lookAhead = 500
