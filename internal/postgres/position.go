package postgres

import (
	"encoding/json"
	"fmt"

	"rillmark/internal/postgres/session"
)

// The kinds of a position. A message outside of any transaction may carry the
// LSN of the commit that follows it, so it comes first.
const (
	kindMessage     = 0
	kindTransaction = 1
)

// rowEnd is the row LSN of a position at a transaction's end.
const rowEnd = session.LSN(1<<64 - 1)

// position is a place between two units of the log, in the order of the stream:
// by commit, kind, the row's own LSN, and the ordinal among the messages that
// share it (the rows of one COPY do).
type position struct {
	Commit  session.LSN `json:"commit"`
	Kind    int         `json:"kind"`
	Row     session.LSN `json:"row"`
	Ordinal uint32      `json:"ordinal"`
}

// after reports whether p lies behind q.
func (p position) after(q position) bool {
	if p.Commit != q.Commit {
		return p.Commit > q.Commit
	}
	if p.Kind != q.Kind {
		return p.Kind > q.Kind
	}
	if p.Row != q.Row {
		return p.Row > q.Row
	}
	return p.Ordinal > q.Ordinal
}

// checkpoint is what goes into the journal's head.
type checkpoint struct {
	System   string   `json:"system"`
	Timeline int32    `json:"timeline"`
	Position position `json:"position"`
	// Index is the next event's index in a transaction that Position cuts.
	Index uint64 `json:"index,omitempty"`
	// XID and CommittedAt are the last transaction's.
	XID         uint32 `json:"xid,omitempty"`
	CommittedAt int64  `json:"committed_at,omitempty"`
	// Nonce is our newest heartbeat's and NonceCommit its commit: the slot is
	// confirmed up to there and no further, so that the heartbeat comes again
	// when we resume and shows that this is the log we know.
	Nonce       string      `json:"nonce,omitempty"`
	NonceCommit session.LSN `json:"nonce_commit,omitempty"`
	// Binary is set while a transaction has to be read in binary form; BinaryUntil
	// is its commit, once that is known.
	Binary      bool        `json:"binary,omitempty"`
	BinaryUntil session.LSN `json:"binary_until,omitempty"`
	// Making is set while the slot is being made: one that is found then was
	// never read and may be made again.
	Making bool `json:"making,omitempty"`
	// Unseen are transactions from before our newest heartbeat that a query may
	// not see yet, by table; see [notYetVisible].
	Unseen map[string][]uint32 `json:"unseen,omitempty"`
}

func parseCheckpoint(data []byte) (*checkpoint, error) {
	if data == nil {
		return nil, nil
	}
	c := new(checkpoint)
	if err := json.Unmarshal(data, c); err != nil {
		return nil, fmt.Errorf("reading the source's position: %w", err)
	}
	return c, nil
}

func (c *checkpoint) encode() []byte {
	data, err := json.Marshal(c)
	if err != nil {
		panic(err) // numbers and strings always marshal
	}
	return data
}
