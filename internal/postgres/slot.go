package postgres

import (
	"context"
	"fmt"
	"time"

	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/stream"
)

// settle decides where the run goes on: behind what the journal has, or, the
// first time, where a new slot begins. It refuses wherever going on could leave
// something out.
func (r *run) settle(ctx context.Context, stored *checkpoint, s *stream.Stream) error {
	var level string
	if err := r.control.QueryRow(ctx, "SHOW wal_level").Scan(&level); err != nil {
		return err
	}
	if level != "logical" {
		return session.WalLevelFault(fmt.Sprintf("%s:%d", r.config.Connection.Host, r.config.Connection.Port), nil)
	}
	name := r.config.SlotName()
	slot, err := stream.ReadSlot(ctx, r.control, name)
	if err != nil {
		return err
	}
	if slot.Exists && (slot.Plugin != "pgoutput" || slot.Database != r.config.Connection.Database) {
		return &engine.Fault{Code: "wrong-slot", Final: true, Fix: "name another slot in the source's definition, or none",
			Message: fmt.Sprintf("the replication slot %q is for plugin %q of database %q, not for pgoutput of %q", name, slot.Plugin, slot.Database, r.config.Connection.Database)}
	}
	if stored == nil || stored.Making {
		return r.beginFirst(ctx, stored, s, slot)
	}
	r.at = *stored
	r.resume = stored.Position
	r.resumeIndex = stored.Index
	r.known = stored.Nonce == ""
	for name, xids := range stored.Unseen {
		if t := r.tables[name]; t != nil {
			for _, xid := range xids {
				r.notYetVisible.Note(xid, t.Number)
			}
		}
	}
	r.notYetVisible.Heartbeat()
	var end string
	if err := r.control.QueryRow(ctx, "SELECT (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END)::text").Scan(&end); err != nil {
		return err
	}
	ends, err := session.ParseLSN(end)
	if err != nil {
		return err
	}
	switch {
	case stored.System != s.System:
		return &engine.Fault{Code: "other-server", Final: true, Message: fmt.Sprintf("the source is another database cluster (system identifier %s) than the one that was followed (%s)", s.System, stored.System),
			Fix: "correct the connection; or, " + session.Anew}
	case stored.Timeline != s.Timeline:
		return &engine.Fault{Code: "other-timeline", Final: true, Message: fmt.Sprintf("the source is on timeline %d, it was followed on timeline %d: it has failed over or was restored", s.Timeline, stored.Timeline), Fix: session.Anew}
	case ends < stored.Position.Commit:
		return &engine.Fault{Code: "other-log", Final: true, Message: fmt.Sprintf("the source's log ends at %s, before %s, up to where it was followed: it was restored from a backup", ends, stored.Position.Commit), Fix: session.Anew}
	case !slot.Exists:
		return &engine.Fault{Code: "slot-gone", Final: true, Message: fmt.Sprintf("the replication slot %q is gone: what the source wrote since %s cannot be read any more", name, stored.Position.Commit), Fix: session.Anew}
	case slot.Status == "lost":
		return &engine.Fault{Code: "slot-lost", Final: true, Message: fmt.Sprintf("the source has removed log that the replication slot %q still needed (wal_status is lost)", name),
			Fix: "raise max_slot_wal_keep_size; then, " + session.Anew}
	case slot.Confirmed > max(stored.NonceCommit, releaseWithoutNonce(stored)):
		return &engine.Fault{Code: "slot-advanced", Final: true, Message: fmt.Sprintf("the replication slot %q was advanced to %s, beyond what the journal has (%s): somebody else moved it, or the state database was restored from a backup", name, slot.Confirmed, stored.Position.Commit), Fix: session.Anew}
	}
	return nil
}

func releaseWithoutNonce(c *checkpoint) session.LSN {
	if c.Nonce == "" {
		return c.Position.Commit
	}
	return 0
}

// beginFirst makes the slot of a source that has no position yet. That it is
// being made is put on record first, so that a slot left by a process that died
// in between is known to be ours, unread, and can be made again.
func (r *run) beginFirst(ctx context.Context, stored *checkpoint, s *stream.Stream, slot stream.SlotState) error {
	name := r.config.SlotName()
	r.at = checkpoint{System: s.System, Timeline: s.Timeline, Making: true}
	r.known = true
	if r.config.Slot != "" {
		if !slot.Exists {
			return &engine.Fault{Code: "slot-gone", Message: fmt.Sprintf("the replication slot %q that the definition names is not there", name),
				Fix: fmt.Sprintf("SELECT pg_create_logical_replication_slot('%s', 'pgoutput'), or leave the slot out of the definition", name)}
		}
		if from := r.config.From; from != 0 && slot.Confirmed > from {
			return &engine.Fault{Code: "position-gone", Final: true, Message: fmt.Sprintf("the slot %q holds the log from %s on, and the source is to be followed from %s, before that", name, slot.Confirmed, from),
				Fix: "load anew, from a position that the slot holds"}
		}
		return r.begin(ctx, max(slot.Confirmed, r.config.From))
	}
	if slot.Exists && stored == nil {
		return &engine.Fault{Code: "slot-exists", Message: fmt.Sprintf("the source has a replication slot %q already, which this source did not make", name),
			Fix: fmt.Sprintf("if nobody needs it, SELECT pg_drop_replication_slot('%s'); to go on with it, name it as `slot` in the source's definition; else give the source another name", name)}
	}
	err := r.sink.Locked(func() error {
		r.sink.Checkpoint(func() engine.Checkpoint { return engine.Checkpoint{State: r.at.encode()} })
		return r.sink.Store(ctx)
	})
	if err != nil {
		return err
	}
	if slot.Exists {
		if _, err := r.control.Exec(ctx, "SELECT pg_drop_replication_slot($1)", name); err != nil {
			return err
		}
	}
	done := make(chan struct{})
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		guard.Run(func() error { //nolint:errcheck // it only reports
			r.tellWhoIsWaitedFor(ctx, done)
			return nil
		})
	}()
	at, err := s.MakeSlot(ctx, name, false)
	close(done)
	<-finished
	if err != nil {
		return err
	}
	r.sink.Report(engine.Report{Level: "info", Event: "slot-made", Message: fmt.Sprintf("replication slot %s made at %s", name, at)})
	return r.begin(ctx, at)
}

// begin puts the first position on record.
func (r *run) begin(ctx context.Context, at session.LSN) error {
	r.at.Making = false
	r.at.Position = position{Commit: at, Kind: kindMessage}
	r.resume = r.at.Position
	return r.sink.Locked(func() error {
		r.sink.Checkpoint(r.checkpoint)
		return r.sink.Store(ctx)
	})
}

// tellWhoIsWaitedFor says, while a slot is being made, which transactions hold
// that up: every one that has written and is still open.
func (r *run) tellWhoIsWaitedFor(ctx context.Context, done <-chan struct{}) {
	ticker := time.NewTicker(2 * time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-done:
			return
		case <-ctx.Done():
			return
		case <-ticker.C:
			var pid int
			var user, since string
			err := r.control.QueryRow(ctx, `SELECT pid, coalesce(usename::text, ''), coalesce(to_char(xact_start, 'YYYY-MM-DD HH24:MI:SS'), '')
				FROM pg_stat_activity WHERE backend_xid IS NOT NULL ORDER BY xact_start LIMIT 1`).Scan(&pid, &user, &since)
			if err == nil {
				r.sink.Report(engine.Report{Preparing: true, Doing: fmt.Sprintf("making the replication slot: waiting for the transaction of user %s (process %d), open since %s UTC", user, pid, since)})
			}
		}
	}
}
