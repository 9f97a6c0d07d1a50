package mariadb

import (
	"context"
	"fmt"
	"strconv"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/mariadb/wire"
)

// snapshot is a snapshot of the server, as far as it is known what it sees. The variable
// that names its place is one for the whole server, and the place can be one that commits
// lie before which no query sees yet: that is why so much is asked.
type snapshot struct {
	// begun is where the log ended before the snapshot, at the place that the server names
	// for it, ended where the log ended once the rows were read.
	begun, at, ended stream.Place
	// doubtful are the distributed transactions that were prepared before it.
	doubtful map[binlog.XID]bool
	// locked is set where the table was locked against writers: at is then exact.
	locked bool
}

// begin takes a snapshot on a session of its own.
func (s *snapshot) begin(ctx context.Context, conn *wire.Conn) (err error) {
	if err := conn.Exec(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return err
	}
	if s.begun, err = logEnd(ctx, conn); err != nil {
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
		rows, err := conn.All(ctx, "SHOW STATUS LIKE 'binlog\\_snapshot\\_%'")
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
	s.at = last
	return nil
}

// lock locks a table against writers, whose commits are then visible. It waits so many
// seconds for those who write to it: others wait behind it meanwhile.
func (s *snapshot) lock(ctx context.Context, conn *wire.Conn, table string, seconds int) (err error) {
	if err := conn.Exec(ctx, fmt.Sprintf("LOCK TABLES %s READ WAIT %d", table, seconds)); err != nil {
		return err
	}
	s.locked = true
	s.begun, err = logEnd(ctx, conn)
	s.at = s.begun
	return err
}

// end gives the snapshot back.
func (s *snapshot) end(ctx context.Context, conn *wire.Conn) error {
	var err error
	if s.ended, err = logEnd(ctx, conn); err != nil {
		return err
	}
	if s.locked {
		return conn.Exec(ctx, "UNLOCK TABLES")
	}
	return conn.Exec(ctx, "COMMIT")
}

// recoverable are the distributed transactions that are prepared.
func recoverable(ctx context.Context, conn *wire.Conn) (map[binlog.XID]bool, error) {
	rows, err := conn.All(ctx, "XA RECOVER")
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

// xaCommit is the commit of a distributed transaction that the log has brought.
type xaCommit struct {
	xid          binlog.XID
	at, prepared stream.Place
}

// maxEnds bounds how many ends of groups are remembered, and commits of distributed
// transactions.
const maxEnds = 1 << 14

// history is what is remembered of the log while tables are loaded; the sink's lock guards
// it.
type history struct {
	ends    map[stream.Place]struct{}
	ring    []stream.Place
	next    int
	commits []xaCommit
}

// ended notes the end of a group.
func (h *history) ended(at stream.Place) {
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

// committed notes the commit of a distributed transaction.
func (h *history) committed(c xaCommit) {
	if len(h.commits) >= 1024 {
		h.commits = append(h.commits[:0], h.commits[512:]...)
	}
	h.commits = append(h.commits, c)
}

// low is the place up to which a snapshot sees every commit; ok is false where none is
// known. sound is the newest place of an earlier snapshot that was one.
func (h *history) low(s *snapshot, sound stream.Place) (low stream.Place, ok bool) {
	low = s.at
	if _, isEnd := h.ends[s.at]; !isEnd && !s.locked {
		low = sound
	}
	if low == (stream.Place{}) {
		return low, false
	}
	for _, c := range h.commits { // logged before they are visible
		if s.at.Before(c.at) || !s.doubtful[c.xid] && !s.begun.Before(c.prepared) {
			continue
		}
		if before := (stream.Place{File: c.at.File, Offset: c.at.Offset - 1}); before.Before(low) {
			low = before
		}
	}
	return low, true
}
