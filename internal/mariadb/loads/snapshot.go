package loads

import (
	"context"
	"fmt"
	"strconv"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// Snapshot is a snapshot of the server, as far as it is known what it sees. The variable
// that names its place is one for the whole server, and the place can be one that commits
// lie before which no query sees yet: that is why so much is asked.
type Snapshot struct {
	// begun is where the log ended before the snapshot, at the place that the server names
	// for it, ended where the log ended once the rows were read.
	begun, At, Ended stream.Place
	// doubtful are the distributed transactions that were prepared before it.
	doubtful map[binlog.XID]bool
	// locked is set where the table was locked against writers: at is then exact.
	locked bool
}

// Begin takes a snapshot on a session of its own.
func (s *Snapshot) Begin(ctx context.Context, conn *wire.Conn) (err error) {
	if err := conn.Exec(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return err
	}
	if s.begun, err = stream.LogEnd(ctx, conn); err != nil {
		return err
	}
	if s.doubtful, err = recoverable(ctx, conn); err != nil {
		return err
	}
	if err := conn.Exec(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT"); err != nil {
		return err
	}
	var last stream.Place
	for equal := 0; equal < 3; equal++ { // another session may ask at the same time
		rows, err := conn.All(ctx, 2, "SHOW STATUS LIKE 'binlog\\_snapshot\\_%'")
		if err != nil {
			return err
		}
		var file, offset string
		for _, row := range rows {
			switch row[0] {
			case "Binlog_snapshot_file":
				file = row[1]
			case "Binlog_snapshot_position":
				offset = row[1]
			}
		}
		now := stream.PlaceOf(file, offset)
		if now != last {
			last, equal = now, 0
		}
	}
	s.At = last
	return nil
}

// Lock locks a table against writers, whose commits are then visible. It waits so many
// seconds for those who write to it: others wait behind it meanwhile.
func (s *Snapshot) Lock(ctx context.Context, conn *wire.Conn, table string, seconds int) (err error) {
	if err := conn.Exec(ctx, fmt.Sprintf("LOCK TABLES %s READ WAIT %d", table, seconds)); err != nil {
		return err
	}
	s.locked = true
	s.begun, err = stream.LogEnd(ctx, conn)
	s.At = s.begun
	return err
}

// End gives the snapshot back.
func (s *Snapshot) End(ctx context.Context, conn *wire.Conn) error {
	var err error
	if s.Ended, err = stream.LogEnd(ctx, conn); err != nil {
		return err
	}
	if s.locked {
		return conn.Exec(ctx, "UNLOCK TABLES")
	}
	return conn.Exec(ctx, "COMMIT")
}

// recoverable are the distributed transactions that are prepared.
func recoverable(ctx context.Context, conn *wire.Conn) (map[binlog.XID]bool, error) {
	rows, err := conn.All(ctx, 4, "XA RECOVER")
	if err != nil {
		if session.IsDenied(err) {
			return nil, nil
		}
		return nil, err
	}
	all := make(map[binlog.XID]bool, len(rows))
	for _, row := range rows {
		format, _ := strconv.ParseUint(row[0], 10, 32) // the server's own numbers
		global, _ := strconv.Atoi(row[1])
		if global > len(row[3]) {
			continue
		}
		all[binlog.XID{Format: uint32(format), Global: row[3][:global], Qualifier: row[3][global:]}] = true
	}
	return all, nil
}

// XACommit is the commit of a distributed transaction that the log has brought.
type XACommit struct {
	Xid          binlog.XID
	At, Prepared stream.Place
}

// maxEnds bounds how many ends of groups are remembered, and commits of distributed
// transactions.
const maxEnds = 1 << 14

// History is what is remembered of the log while tables are loaded; the sink's lock guards
// it.
type History struct {
	ends    map[stream.Place]struct{}
	ring    []stream.Place
	next    int
	commits []XACommit
}

// Ended notes the end of a group.
func (h *History) Ended(at stream.Place) {
	if h.ends == nil {
		h.ends = make(map[stream.Place]struct{})
	}
	if len(h.ring) < maxEnds {
		h.ring = append(h.ring, at)
	} else {
		delete(h.ends, h.ring[h.next])
		h.ring[h.next] = at
		h.next = (h.next + 1) % maxEnds
	}
	h.ends[at] = struct{}{}
}

// Committed notes the commit of a distributed transaction.
func (h *History) Committed(c XACommit) {
	if len(h.commits) >= 1024 {
		h.commits = append(h.commits[:0], h.commits[512:]...)
	}
	h.commits = append(h.commits, c)
}

// Low is the place up to which a snapshot sees every commit; ok is false where none is
// known. sound is the newest place of an earlier snapshot that was one.
func (h *History) Low(s *Snapshot, sound stream.Place) (low stream.Place, ok bool) {
	low = s.At
	if _, isEnd := h.ends[s.At]; !isEnd && !s.locked {
		low = sound
	}
	if low == (stream.Place{}) {
		return low, false
	}
	for _, c := range h.commits { // logged before they are visible
		if s.At.Before(c.At) || !s.doubtful[c.Xid] && !s.begun.Before(c.Prepared) {
			continue
		}
		if before := (stream.Place{File: c.At.File, Offset: c.At.Offset - 1}); before.Before(low) {
			low = before
		}
	}
	return low, true
}
