package postgres

import (
	"encoding/json"
	"fmt"
	"strconv"

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

// encode is the checkpoint as JSON. It is made for each block: by reflection, that took a
// thirtieth of a quiet service's work. Fields that are seldom set are left to reflection.
func (c *checkpoint) encode() []byte {
	if c.Binary || c.BinaryUntil != 0 || c.Making || len(c.Unseen) > 0 || !plain(c.System) || !plain(c.Nonce) {
		data, err := json.Marshal(c)
		if err != nil {
			panic(err) // numbers and strings always marshal
		}
		return data
	}
	place := func(dst []byte, at session.LSN) []byte {
		dst = append(dst, '"')
		dst, _ = at.AppendText(dst) // it has no error
		return append(dst, '"')
	}
	dst := append(make([]byte, 0, 320), `{"system":"`...)
	dst = append(append(dst, c.System...), `","timeline":`...)
	dst = append(strconv.AppendInt(dst, int64(c.Timeline), 10), `,"position":{"commit":`...)
	dst = append(place(dst, c.Position.Commit), `,"kind":`...)
	dst = append(strconv.AppendInt(dst, int64(c.Position.Kind), 10), `,"row":`...)
	dst = append(place(dst, c.Position.Row), `,"ordinal":`...)
	dst = append(strconv.AppendUint(dst, uint64(c.Position.Ordinal), 10), '}')
	if c.Index != 0 {
		dst = strconv.AppendUint(append(dst, `,"index":`...), c.Index, 10)
	}
	if c.XID != 0 {
		dst = strconv.AppendUint(append(dst, `,"xid":`...), uint64(c.XID), 10)
	}
	if c.CommittedAt != 0 {
		dst = strconv.AppendInt(append(dst, `,"committed_at":`...), c.CommittedAt, 10)
	}
	if c.Nonce != "" {
		dst = append(append(append(dst, `,"nonce":"`...), c.Nonce...), '"')
	}
	if c.NonceCommit != 0 {
		dst = place(append(dst, `,"nonce_commit":`...), c.NonceCommit)
	}
	return append(dst, '}')
}

// plain reports whether a text stands in JSON as it is.
func plain(text string) bool {
	for i := range len(text) {
		if c := text[i]; !('0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c == '-') {
			return false
		}
	}
	return true
}
