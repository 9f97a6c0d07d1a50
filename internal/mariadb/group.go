package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/charset"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/stream"
)

// group is the group of events that the log is in. It is held to its last event: only that
// says whether its rows have survived.
type group struct {
	open bool
	head binlog.Group
	time uint32
	held held
	// numbered is how many events have been counted (see [transaction.ordinal]), large is
	// set once the events are too many to hold.
	numbered int
	large    bool
	// undone are the ranges of those that a ROLLBACK TO took back, savepoints where they
	// were set.
	undone     [][2]int
	savepoints []savepoint
	rolled     bool // it ends in a ROLLBACK
	scratch    []byte
}

type savepoint struct {
	name string
	at   int
}

// held are events one after the other.
type held struct {
	data  []byte
	heads []binlog.Header
	ends  []int
}

// maxHeld is the most that is held of a group, in bytes; a larger one is read again.
const maxHeld = 4 << 20

func (h *held) add(e stream.Event) {
	h.data = append(h.data, e.Body...)
	h.heads, h.ends = append(h.heads, e.Header), append(h.ends, len(h.data))
}

func (h *held) reset() {
	if cap(h.data) > maxHeld/2 {
		h.data = nil // a large group's room is given back
	}
	h.data, h.heads, h.ends = h.data[:0], h.heads[:0], h.ends[:0]
}

// counts reports whether events of a type are numbered in a group.
func counts(t binlog.Type) bool {
	return t.IsRows() || t == binlog.TypeQuery || t == binlog.TypeQueryCompressed
}

// take handles one event of the log; the lock is not held.
func (r *run) take(ctx context.Context, s *stream.Stream, e stream.Event) error {
	g := &r.group
	switch e.Type {
	case binlog.TypeGTID:
		if g.open {
			return s.CannotDecode(errors.New("a group begins before the one before it has ended"))
		}
		head, err := binlog.DecodeGTID(e.Body, e.Server)
		if err != nil {
			return s.CannotDecode(err)
		}
		g.begin(head, e.Time)
		return nil
	case binlog.TypeGTIDList:
		if s.Rotated() && e.Flags&binlog.FlagArtificial == 0 {
			if err := r.sameHistory(s, e.Body); err != nil {
				return err
			}
		}
	case binlog.TypeIncident:
		return r.incident(s, e.Body)
	case binlog.TypeHeartbeat:
		r.idle(s, e)
		return nil
	default:
	}
	if !g.open {
		if e.Type == binlog.TypeQuery || e.Type.IsRows() || e.Type == binlog.TypeXid {
			return s.CannotDecode(errors.New("an event of a group comes outside of any"))
		}
		r.under(func() { r.reached(s.Place(), s.File()) })
		return nil
	}
	if err := r.known(s, e.Header); err != nil {
		return err
	}
	if !g.large {
		g.held.add(e)
		if len(g.held.data) > maxHeld {
			g.large = true
			g.held.reset()
		}
	}
	ended, err := r.follow(s, e)
	if err != nil || !ended {
		return err
	}
	g.open = false
	if err := r.end(ctx, s, e); err != nil {
		return err
	}
	g.held.reset()
	return nil
}

func (g *group) begin(head binlog.Group, time uint32) {
	g.open, g.head, g.time, g.large, g.rolled = true, head, time, false, false
	g.numbered, g.undone, g.savepoints = 0, g.undone[:0], g.savepoints[:0]
	g.held.reset()
}

// idle takes a heartbeat: the server has sent all of its log up to there.
func (r *run) idle(s *stream.Stream, e stream.Event) {
	at := stream.Place{File: stream.FileNumber(string(e.Body)), Offset: offsetOf(e.End, s.Place().Offset)}
	r.under(func() {
		if !r.group.open && r.resumed == nil && r.at.place.Before(at) && string(e.Body) == s.File() {
			r.reached(at, s.File())
		}
	})
}

// offsetOf is the offset that the low half of one stands for which is not before another: an
// event's header has no room for more.
func offsetOf(low uint32, since uint64) uint64 {
	offset := since&^(1<<32-1) | uint64(low)
	if offset < since {
		offset += 1 << 32
	}
	return offset
}

// known refuses an event that may not be passed over and that this version does not know.
func (r *run) known(s *stream.Stream, h binlog.Header) error {
	switch h.Type {
	case binlog.TypeQuery, binlog.TypeQueryCompressed, binlog.TypeTableMap, binlog.TypeXid, binlog.TypeXAPrepare, binlog.TypeAnnotateRows, binlog.TypeIntvar, binlog.TypeRand, binlog.TypeUserVar,
		binlog.TypeBeginLoadQuery, binlog.TypeExecuteLoadQuery, binlog.TypeStop, binlog.TypeCheckpoint, binlog.TypeFormatDescription, binlog.TypeGTIDList, binlog.TypeStartEncryption, binlog.TypeIgnorable:
		return nil
	default:
	}
	if h.Type.IsRows() || h.Flags&binlog.FlagIgnorable != 0 {
		return nil
	}
	return s.CannotDecode(fmt.Errorf("its type %d is not known, and it does not say that it may be passed over", h.Type))
}

// follow notes what an event means for the group, and reports whether it is the last.
func (r *run) follow(s *stream.Stream, e stream.Event) (ended bool, err error) {
	g := &r.group
	at := g.numbered
	if counts(e.Type) {
		g.numbered++
	}
	switch e.Type {
	case binlog.TypeXid, binlog.TypeXAPrepare:
		return true, nil
	case binlog.TypeExecuteLoadQuery:
		return g.head.Flags&binlog.GroupStandalone != 0, nil
	case binlog.TypeQuery, binlog.TypeQueryCompressed:
	default:
		return false, nil
	}
	text, q, err := r.statementOf(e)
	if err != nil {
		return false, s.CannotDecode(err)
	}
	for _, effect := range r.effects(text, q) {
		switch effect.Kind {
		case statement.Commit:
			return true, nil
		case statement.Rollback:
			g.rolled = true
			return true, nil
		case statement.XACommit, statement.XARollback:
			g.rolled = effect.Kind == statement.XARollback
			return true, nil
		case statement.Savepoint:
			if len(g.savepoints) < 10_000 {
				g.savepoints = append(g.savepoints, savepoint{effect.Savepoint, at})
			}
		case statement.RollbackTo:
			for i := len(g.savepoints) - 1; i >= 0; i-- {
				if g.savepoints[i].name == effect.Savepoint {
					g.undone = append(g.undone, [2]int{g.savepoints[i].at, at})
					g.savepoints = g.savepoints[:i+1]
					break
				}
			}
		default: // it is not about the group
		}
	}
	return g.head.Flags&binlog.GroupStandalone != 0, nil
}

// survives reports whether what has a number in a group was not taken back.
func (g *group) survives(number int) bool {
	for _, u := range g.undone {
		if number >= u[0] && number < u[1] {
			return false
		}
	}
	return true
}

// statementOf is a statement's text in UTF-8.
func (r *run) statementOf(e stream.Event) (string, binlog.Query, error) {
	q, err := binlog.DecodeQuery(e.Body, e.Type == binlog.TypeQueryCompressed, r.group.scratch)
	if err != nil {
		return "", q, err
	}
	if e.Type == binlog.TypeQueryCompressed && cap(q.Text) <= maxHeld {
		r.group.scratch = q.Text[:0]
	}
	if q.Client == 0 {
		return string(q.Text), q, nil
	}
	if name := r.reader.Sets[q.Client].Name; name != "" && name != "binary" {
		decode, err := charset.For(name)
		if err == nil && decode != nil {
			text, _ := decode(nil, q.Text)
			return string(text), q, nil
		}
	}
	return string(q.Text), q, nil
}

// sameHistory compares what a file says of the groups before it with what has been read:
// they differ where the server was reset while we were connected.
func (r *run) sameHistory(s *stream.Stream, body []byte) error {
	list, err := binlog.DecodeGTIDList(body)
	if err != nil {
		return s.CannotDecode(err)
	}
	if r.resumed != nil {
		return nil
	}
	theirs := stream.Last(list)
	for domain, ours := range r.at.gtids {
		if theirs[domain] != ours {
			return &engine.Fault{Code: "other-log", Final: true, Message: fmt.Sprintf("the log of %s has another history than the one that was followed: before file %s it lists %s, and %s was read (the server was reset, or its log truncated)", r.config.Where(), s.File(), theirs, r.at.gtids),
				Fix: session.Anew}
		}
	}
	return nil
}

func (r *run) incident(s *stream.Stream, body []byte) error {
	i, err := binlog.DecodeIncident(body)
	if err != nil {
		return s.CannotDecode(err)
	}
	return &engine.Fault{Code: "log-incident", Final: true, Message: fmt.Sprintf("the source's log says at %s:%d that changes may be missing from it: %s", s.File(), s.Place().Offset, i.Message), Fix: session.Anew}
}

// end takes a whole group. last is its last event; the lock is not held.
func (r *run) end(ctx context.Context, s *stream.Stream, last stream.Event) error {
	g := &r.group
	if r.resumed != nil && r.contained(g.head.GTID) {
		return r.again(s)
	}
	if r.resumed != nil && r.lastDomain() == g.head.Domain {
		return r.otherLog()
	}
	r.writing.Lock()
	defer r.writing.Unlock()
	x := binlog.XAPrepare{OnePhase: true}
	if last.Type == binlog.TypeXAPrepare {
		var err error
		if x, err = binlog.DecodeXAPrepare(last.Body); err != nil {
			return s.CannotDecode(err)
		}
	}
	var aside func(before string) error // how far the log had been taken
	switch {
	case !x.OnePhase:
		aside = func(before string) error { return r.prepare(x.XID, before) }
	case g.head.Flags&binlog.GroupXACompleted != 0:
		aside = func(string) error { return r.complete(ctx, s) }
	case g.large:
		aside = func(before string) error { return r.replay(ctx, before, g.head.GTID, g) }
	}
	if aside == nil { // most groups are held: one turn with the lock takes them
		return r.sink.Locked(func() error {
			r.opens(s)
			if err := r.takeHeld(ctx, s, g); err != nil {
				return err
			}
			r.closes(s)
			return nil
		})
	}
	before := ""
	r.under(func() {
		r.opens(s)
		before = r.at.state()
	})
	if err := aside(before); err != nil {
		return err
	}
	r.under(func() { r.closes(s) })
	return nil
}

// opens begins to take the group whose end has come; the lock is held.
func (r *run) opens(s *stream.Stream) {
	g := &r.group
	tx := &r.tx
	tx.open, tx.begun, tx.id, tx.origin = true, false, g.head.String(), ""
	tx.time, tx.ordinal, tx.digest, tx.statement = int64(g.time)*1e6, 0, 0, ""
	clear(tx.announced)
	tx.end = s.Place()
	tx.place = tx.end.Number()
	if g.head.Server != r.server {
		tx.origin = strconv.FormatUint(uint64(g.head.Server), 10)
	}
	tx.leftOut = r.config.LeaveOut.LeaveOut(tx.origin)
	if r.at.Open != tx.id {
		r.skip, r.skipIndex = 0, 0
	}
}

// closes ends the group that has been taken; the lock is held.
func (r *run) closes(s *stream.Stream) {
	if r.tx.begun {
		r.sink.Commit()
	}
	r.tx.open, r.tx.begun, r.skip = false, false, 0
	r.at.taken(r.group.head.GTID, r.tx.digest)
	if r.cut {
		r.cut = false
		close(r.whole)
	}
	if r.states.Reading() {
		r.past.Ended(s.Place())
	}
	r.reached(s.Place(), s.File())
}

// takeHeld takes the events of a group that was held; the lock is held.
func (r *run) takeHeld(ctx context.Context, s *stream.Stream, g *group) error {
	start, number := 0, 0
	for i, end := range g.held.ends {
		e := stream.Event{Header: g.held.heads[i], Body: g.held.data[start:end:end]}
		start = end
		if err := r.event(ctx, s, g, e, number); err != nil {
			return err
		}
		if counts(e.Type) {
			number++
		}
	}
	return nil
}

// event takes one event of a group whose end is known; the lock is held.
func (r *run) event(ctx context.Context, s *stream.Stream, g *group, e stream.Event, number int) error {
	switch {
	case e.Type == binlog.TypeTableMap:
		return r.bind(ctx, s, e.Body)
	case e.Type.IsRows() && g.survives(number):
		return r.rows(s, g, e, number)
	case e.Type.IsRows():
		r.tx.statement = "" // taken back with its rows
	case e.Type == binlog.TypeQuery || e.Type == binlog.TypeQueryCompressed:
		return r.statement(ctx, s, e, number)
	case e.Type == binlog.TypeAnnotateRows:
		r.tx.statement = r.annotated(e.Body)
	case e.Type == binlog.TypeExecuteLoadQuery:
		return r.mayHaveChanged("LOAD DATA in statement format", nil, number)
	}
	return nil
}

// contained reports whether a group was taken by an earlier run.
func (r *run) contained(g binlog.GTID) bool {
	have, is := r.at.gtids[g.Domain]
	return is && g.Sequence <= have.Sequence
}

func (r *run) lastDomain() uint32 {
	last, _ := binlog.ParseGTID(r.resumed.Last) // we wrote it
	return last.Domain
}

// again takes a group that has been taken before: the newest one has to be what it was.
func (r *run) again(s *stream.Stream) error {
	g := &r.group
	if g.head.String() != r.resumed.Last {
		return nil
	}
	if g.large {
		return r.verified(s) // its rows are not held: its name alone says that it is the same
	}
	digest := uint32(0)
	start, number := 0, 0
	names := make(map[uint64]string)
	for i, end := range g.held.ends {
		e := stream.Event{Header: g.held.heads[i], Body: g.held.data[start:end:end]}
		start = end
		if e.Type == binlog.TypeTableMap {
			m, err := binlog.DecodeTableMap(e.Body)
			if err != nil {
				return s.CannotDecode(err)
			}
			names[m.ID] = m.Database + "." + m.Table
		}
		if e.Type.IsRows() && g.survives(number) && !g.rolled {
			rows, err := binlog.DecodeRows(e.Type, e.Body, g.scratch)
			if err != nil {
				return s.CannotDecode(err)
			}
			digest = digestOf(digest, names[rows.Table], rows.Data)
		}
		if counts(e.Type) {
			number++
		}
	}
	if g.head.Flags&(binlog.GroupXACompleted|binlog.GroupXAPrepare) == 0 && digest != r.resumed.Digest {
		return r.otherLog()
	}
	return r.verified(s)
}

// verified goes on behind the newest group of an earlier run.
func (r *run) verified(s *stream.Stream) error {
	r.under(func() {
		r.resumed = nil
		r.reached(s.Place(), s.File())
	})
	return nil
}

func (r *run) otherLog() error {
	return &engine.Fault{Code: "other-log", Final: true, Message: fmt.Sprintf("the log of %s is not the one that was followed before: the group %s, which was read last, is not in it, or has other rows (the server was reset, restored from a backup, or replaced by one with another history)", r.config.Where(), r.resumed.Last),
		Fix: session.Anew}
}
