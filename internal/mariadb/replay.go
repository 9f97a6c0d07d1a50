package mariadb

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"slices"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
)

// replay reads a group once more, over a connection of its own, and takes it as it comes:
// one that was too large to hold and whose end is known by now, or one that a distributed
// transaction prepared. before is how far the log had been taken before that group, outcome
// says which of its rows have survived.
func (r *run) replay(ctx context.Context, before string, which binlog.GTID, outcome *group) error {
	from, err := stream.ParseGTIDs(before)
	if err != nil {
		return fmt.Errorf("reading the position before a group: %w", err)
	}
	s, err := stream.Open(ctx, r.config, stream.Options{ID: r.readerID() + 1, Name: r.readerName(), From: from, Statements: r.config.Statements})
	if err != nil {
		return err
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, s.Interrupt)
	defer stop()
	inside, number := false, 0
	for {
		e, err := s.Next()
		if err != nil && session.IsLogGone(err) {
			return &engine.Fault{Code: "log-gone", Final: true, Cause: err, Message: fmt.Sprintf("the group %s, whose rows were still needed, has been purged from the log of %s", which, r.config.Where()), Fix: session.Anew}
		}
		if err != nil {
			return err
		}
		if e.Type == binlog.TypeGTID {
			if inside {
				return nil
			}
			head, err := binlog.DecodeGTID(e.Body, e.Server)
			if err != nil {
				return s.CannotDecode(err)
			}
			inside = head.GTID == which
			continue
		}
		if !inside {
			continue
		}
		if e.Type == binlog.TypeXid || e.Type == binlog.TypeXAPrepare {
			return nil
		}
		if err := r.sink.Locked(func() error { return r.event(ctx, s, outcome, e, number) }); err != nil {
			return err
		}
		if counts(e.Type) {
			if number++; number >= outcome.numbered {
				return nil
			}
		}
	}
}

// prepare puts a distributed transaction on the list of those that wait for their end.
func (r *run) prepare(x binlog.XID, before string) error {
	g := &r.group
	return r.sink.Locked(func() error {
		if len(r.at.Prepared) >= maxPrepared {
			return &engine.Fault{Code: "too-many-prepared", Final: true, Message: fmt.Sprintf("more than %d distributed transactions are prepared at once", maxPrepared), Fix: "commit or roll back those that XA RECOVER lists, then resume the source"}
		}
		r.keepPrepared(x, g)
		r.at.prepare(prepared{XID: x, Group: g.head.String(), Before: before, Undone: slices.Clone(g.undone), place: r.tx.end})
		r.sink.Touch()
		return nil
	})
}

// maxKept bounds what is kept in memory of prepared transactions, in bytes, so that those
// that end soon need not be read again.
const maxKept = 8 << 20

// keepPrepared keeps the events of a group that is prepared, where there is room; the lock
// is held.
func (r *run) keepPrepared(x binlog.XID, g *group) {
	if g.large || r.keptBytes+len(g.held.data) > maxKept {
		return
	}
	if r.kept == nil {
		r.kept = make(map[binlog.XID]*group)
	}
	r.keptBytes += len(g.held.data)
	r.kept[x] = &group{numbered: g.numbered, undone: slices.Clone(g.undone), held: held{data: bytes.Clone(g.held.data), heads: slices.Clone(g.held.heads), ends: slices.Clone(g.held.ends)}}
}

// giveKept takes a group out of memory again; nil where it was not kept. The lock is held.
func (r *run) giveKept(x binlog.XID) *group {
	g := r.kept[x]
	if g != nil {
		delete(r.kept, x)
		r.keptBytes -= len(g.held.data)
	}
	return g
}

// complete takes the end of a distributed transaction: at its commit, the rows that it had
// prepared.
func (r *run) complete(ctx context.Context, s *stream.Stream) error {
	g := &r.group
	var was *prepared
	var before *ended
	var kept *group
	r.under(func() {
		kept, was, before = r.giveKept(g.head.XID), r.at.waiting(g.head.XID), r.at.ending(g.head.XID)
	})
	if was == nil && before != nil && !before.Committed {
		was = &before.prepared // its rollback was logged, and not carried out
	}
	switch {
	case was == nil || g.rolled:
	case kept != nil:
		if err := r.sink.Locked(func() error { return r.takeHeld(ctx, s, kept) }); err != nil {
			return err
		}
	default:
		which, err := binlog.ParseGTID(was.Group)
		if err != nil {
			return fmt.Errorf("reading the list of prepared transactions: %w", err)
		}
		if err := r.replay(ctx, was.Before, which, &group{numbered: math.MaxInt, undone: was.Undone}); err != nil {
			return err
		}
	}
	return r.sink.Locked(func() error {
		switch {
		case was != nil:
			r.at.end(*was, !g.rolled)
			r.past.Committed(loads.XACommit{Xid: g.head.XID, At: r.tx.end, Prepared: was.place})
			return nil
		case before != nil && g.rolled:
			r.at.end(before.prepared, false)
			return r.mayHaveChanged(fmt.Sprintf("the rollback of the distributed transaction %q, whose commit was logged before a crash", g.head.XID.Global), nil, 0)
		case before != nil:
			return r.mayHaveChanged(fmt.Sprintf("the second commit of the distributed transaction %q, whose first was logged before a crash", g.head.XID.Global), nil, 0)
		case g.rolled:
			return nil
		}
		return r.mayHaveChanged(fmt.Sprintf("the commit of the distributed transaction %q, whose rows are not in the log that was followed: it was prepared before that log began, or a crash has lost them", g.head.XID.Global), nil, 0)
	})
}
