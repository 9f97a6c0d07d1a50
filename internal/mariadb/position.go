package mariadb

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/stream"
)

// checkpoint is what goes into the journal's head.
type checkpoint struct {
	// GTIDs is how far the log has been taken: whole groups.
	GTIDs string `json:"gtids"`
	// Before is how far it had been taken before the newest group, Last that group's name
	// and Digest the digest of its rows: it is read again when a run is resumed, which
	// shows whether this is the log that we know.
	Before string `json:"before,omitempty"`
	Last   string `json:"last,omitempty"`
	Digest uint32 `json:"digest,omitempty"`
	// Open is a group of which Rows rows have been taken, Index the next event's index in
	// its transaction.
	Open  string `json:"open,omitempty"`
	Rows  uint64 `json:"rows,omitempty"`
	Index uint64 `json:"index,omitempty"`
	// File and Offset are where the newest whole group ended, for people and for the check.
	File   string `json:"file,omitempty"`
	Offset uint64 `json:"offset,omitempty"`
	// Reader is by what the server lists us, so that we know our own dead sessions.
	Reader string `json:"reader"`
	// Server is the number of the server that the log was read from last.
	Server uint32 `json:"server,omitempty"`
	// Prepared are the distributed transactions that wait for their end, oldest first.
	Prepared []prepared `json:"prepared,omitempty"`
	// Ended are the distributed transactions that have ended last. The server logs an end
	// before its engine carries it out: after a crash in between, the transaction is prepared
	// still, and can be ended once more, in another way.
	Ended []ended `json:"ended,omitempty"`
}

// ended is a distributed transaction whose end is in the log.
type ended struct {
	prepared
	Committed bool `json:"committed,omitempty"`
}

// maxEnded is about how many sessions may end a distributed transaction at the same time.
const maxEnded = 16

// prepared is a distributed transaction whose rows are in the log and whose end is not.
type prepared struct {
	XID    binlog.XID `json:"xid"`
	Group  string     `json:"group"`
	Before string     `json:"before"` // how far the log had been taken before it
	// Undone are the ranges of its events that a ROLLBACK TO took back.
	Undone [][2]int `json:"undone,omitempty"`
	// place is where it was prepared, of those that this run has seen.
	place stream.Place
}

// maxPrepared bounds what is kept of distributed transactions.
const maxPrepared = 10_000

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

// position is the checkpoint while the run goes on, with its parts as they are compared.
type position struct {
	checkpoint
	gtids stream.GTIDs
	// text is gtids as text, where no group has come since.
	text string
	// last and digest are those of the checkpoint; previous is what last's domain had before
	// it, zero where it had nothing, and before how far the log had been taken then, in the
	// words of an earlier run.
	last, previous binlog.GTID
	before         string
	digest         uint32
	place          stream.Place
	file           string
}

// encoded is the position as it is stored.
func (p *position) encoded() []byte {
	c := p.checkpoint
	c.GTIDs, c.Before, c.Digest = p.state(), p.before, p.digest
	if p.last.Sequence > 0 {
		before := maps.Clone(p.gtids)
		if before[p.last.Domain] = p.previous; p.previous.Sequence == 0 {
			delete(before, p.last.Domain)
		}
		c.Last, c.Before = p.last.String(), before.String()
	}
	c.File, c.Offset = p.file, p.place.Offset
	return c.encode()
}

// state is how far the log has been taken, as text.
func (p *position) state() string {
	if p.text == "" {
		p.text = p.gtids.String()
	}
	return p.text
}

// taken moves behind a whole group.
func (p *position) taken(g binlog.GTID, digest uint32) {
	p.previous = p.gtids[g.Domain]
	p.gtids[g.Domain] = g
	p.text, p.last, p.digest = "", g, digest
	p.Open, p.Rows, p.Index = "", 0, 0
}

// waiting is a distributed transaction that waits for its end; nil where none is known.
func (p *position) waiting(x binlog.XID) *prepared {
	for i := range p.Prepared {
		if p.Prepared[i].XID == x {
			return &p.Prepared[i]
		}
	}
	return nil
}

// ending is how a distributed transaction has ended; nil where that is not known.
func (p *position) ending(x binlog.XID) *ended {
	for i := range p.Ended {
		if p.Ended[i].XID == x {
			return &p.Ended[i]
		}
	}
	return nil
}

// prepare puts a distributed transaction on the list of those that wait for their end.
func (p *position) prepare(one prepared) {
	p.Ended = slices.DeleteFunc(slices.Clone(p.Ended), func(e ended) bool { return e.XID == one.XID })
	p.Prepared = append(p.Prepared, one)
}

// end takes a distributed transaction off the list.
func (p *position) end(one prepared, committed bool) {
	p.Prepared = slices.DeleteFunc(slices.Clone(p.Prepared), func(waits prepared) bool { return waits.XID == one.XID })
	rest := slices.DeleteFunc(slices.Clone(p.Ended), func(e ended) bool { return e.XID == one.XID })
	p.Ended = append(rest[max(0, len(rest)-maxEnded+1):], ended{one, committed})
}
