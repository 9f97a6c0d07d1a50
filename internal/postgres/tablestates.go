package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/load"
	"rillmark/internal/capture/states"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/loads"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// noteTables puts the tables' states on record; the lock is held.
func (r *run) noteTables(ctx context.Context, conn *pgx.Conn, chosen map[string]*publication.Captured, published map[string]publication.Place, did *publication.Alignment, look int, first bool) error {
	for name, c := range chosen {
		t := r.tables[name]
		if t == nil {
			t = r.newTable(name)
		}
		if t.Told >= look && engine.Away(t.State.State) {
			continue // it has gone since it was listed, or come back: the next look knows
		}
		before := t.State
		t.Captured = c
		s := &t.State
		if rows := c.Estimate(); rows > 0 && t.Load == nil {
			s.RowsEstimate = rows
		}
		unpublished := slices.IndexFunc(c.Members, func(l *catalogue.Listed) bool { return published[l.Name()].Place == "" })
		switch {
		case unpublished >= 0:
			l := c.Members[unpublished]
			t.Load = nil // of what comes until it is published again nothing is known
			why := change.Reason{Cause: change.CauseUnpublished, Text: did.Faults[l.Name()]}
			if why.Text == "" {
				why.Text = "the publication " + r.config.Publication + " does not have " + l.Name() + ": ALTER PUBLICATION " + session.Quoted(r.config.Publication) + " ADD TABLE " + l.Sanitized()
			}
			s.Standing = why.For(engine.StateUnpublished)
		case s.State == engine.StateNew || s.State == engine.StateUnpublished || engine.Away(s.State) || s.State == engine.StateLoaded || hasNewKey(t, c):
			if r.config.Load {
				r.loads.WantFull(t)
			} else {
				t.Load = nil
			}
			s.Rule, s.Members = c.Rule.Digest(), c.MemberNames()
			s.Published = "" // where it was before does not matter any more
			r.consistsOf(t, c.MemberIDs())
			t.ID.OID, t.ID.Columns, t.ID.Latest = 0, nil, nil
			if first && r.resumed {
				// keepPublishing goes on with it, without holding up the rest. Where the stream
				// tells of the table before and has it read, it has not waited for writers.
				for _, l := range c.Members {
					s.Published += l.Name() + "=" + nowhere + "\n"
				}
				continue
			}
			// A row written by a transaction that was open before the table was
			// published is in no stream: wait for those that hold it. A slot
			// that is only being made waits for them by itself.
			if !first {
				for _, l := range c.Members {
					if err := r.waitForWriters(ctx, conn, l); err != nil {
						return err
					}
				}
			}
			s.Standing = change.Standing{State: engine.StateFollowing}
			t.ID.Keyless = isKeyless(c) // else it would be loaded for its new key at each look
			if t.Load != nil {
				s.State = engine.StateToLoad
				r.loads.ReleaseLoad(t)
			}
		case s.State == engine.StateToLoad || s.State == engine.StateLoading:
			r.loads.WantLoad(t)
			if s.Rule != c.Rule.Digest() && t.Load.Progress.Began {
				// What was read so far follows the old rule.
				if err := r.waitForRefiltered(ctx, conn, c, did); err != nil {
					return err
				}
				r.loads.Rewritten(t, states.RuleChanged)
			}
			r.loads.ReleaseLoad(t)
			s.Rule = c.Rule.Digest()
		}
		if !first && unpublished < 0 {
			known := slices.Contains([]string{engine.StateToLoad, engine.StateLoading, engine.StateFollowing, engine.StateStale, engine.StateNotLoaded}, before.State)
			if err := r.notePlaces(ctx, conn, t, published, known); err != nil {
				return err
			}
		}
		if t.Load == nil && s.Progress != nil && (s.State == engine.StateFollowing || s.State == engine.StateStale) {
			r.loads.WantLoad(t) // of rows that entered the filter before this run
			r.loads.ReleaseLoad(t)
		}
		if t.ID.Members == nil && (first && !r.resumed || !c.Mapped || len(c.Members) == len(s.Members)) {
			r.consistsOf(t, c.MemberIDs())
		}
		if s.Rule != c.Rule.Digest() && (s.State == engine.StateFollowing || s.State == engine.StateStale) {
			s.Rule = c.Rule.Digest()
			if err := r.waitForRefiltered(ctx, conn, c, did); err != nil {
				return err
			}
			r.loads.Rewritten(t, states.RuleChanged)
		}
		if s.State == engine.StateStale && s.Cause == change.CauseKeyLost && c.All((*catalogue.Listed).Updatable) {
			// What it missed meanwhile only a load brings.
			if r.config.Load {
				r.loads.WantFull(t)
				r.loads.ReleaseLoad(t)
				s.Standing, s.RowsDone = change.Reason{Cause: change.CauseNewKey, Text: "it has a key again, and what happened meanwhile is in no event"}.For(engine.StateToLoad), 0
				t.ID.Keyless = isKeyless(c) // this load is the one for its new key
			} else {
				s.Standing.Note = "it has a key again; updates and deletes of the time between are in no event: " + reloadByHand
			}
		}
		// What was listed before the stream told of the table may lack a key that it has by now.
		listed := t.Told < look
		if lost := listed && s.State == engine.StateFollowing && s.Schema != nil && len(s.Schema.Key()) > 0 && !c.All((*catalogue.Listed).Updatable); lost && t.Load == nil {
			why := insertsOnlyOf(c)
			s.Standing = change.Reason{Cause: change.CauseKeyLost, Text: "its key is gone: " + why.Text + ", and updates and deletes are in no event from here on. Give it a key again, or ALTER TABLE … REPLICA IDENTITY FULL; then it is loaded again"}.For(engine.StateStale)
		}
		if s.State == engine.StateFollowing && listed {
			s.Standing = change.Standing{State: engine.StateFollowing}
			t.ID.Keyless = isKeyless(c)
			switch {
			case !c.All((*catalogue.Listed).Updatable):
				s.Standing = insertsOnlyOf(c).For(engine.StateFollowing)
			case len(c.Key()) == 0:
				s.Standing = states.NoKey.For(engine.StateFollowing)
			}
		}
		if before.Standing != s.Standing || before.Rule != s.Rule || before.Published != s.Published || before.RowsEstimate != s.RowsEstimate {
			r.sink.Table(t.Record())
			r.sink.Touch()
			if !first && before.State != s.State {
				level := "info"
				if s.State == engine.StateStale {
					level = "warn"
				}
				r.sink.Report(engine.Report{Level: level, Event: "table-" + s.State, Message: name + " " + s.Note})
			}
		}
	}
	for name, t := range r.tables {
		// One that is chosen and not there any more is put on record at a mark.
		leftOut := r.config.Rules.For(name) == nil
		if chosen[name] == nil && (first && !r.resumed || leftOut) && !engine.Away(t.State.State) && t.State.State != engine.StateNew {
			if leftOut {
				r.loads.LeaveOut(t, states.NotChosen)
			} else {
				r.loads.LeaveOut(t, states.Gone)
			}
		}
	}
	r.loads.Wake()
	return nil
}

// nowhere is the place of a table that is published, and not yet waited for.
const nowhere = "nowhere"

// notePlaces finds a table that was taken out of its publication and put back, by
// whomever, between two looks, or while nobody looked, and one that was made again and was
// not published at first: what changed in between is in no stream. known is false for a table that is taken up just now anyway. The lock is
// held, and released while writers are waited for.
func (r *run) notePlaces(ctx context.Context, conn *pgx.Conn, t *tables.Table, published map[string]publication.Place, known bool) error {
	s := &t.State
	before := make(map[string]string)
	for _, line := range strings.Split(s.Published, "\n") {
		if at := strings.LastIndexByte(line, '='); at >= 0 { // a name may hold one too
			before[line[:at]] = line[at+1:]
		}
	}
	var lines []string
	var back []*catalogue.Listed
	for _, l := range t.Captured.Members {
		place := published[l.Name()].Place
		if published[l.Name()].Root != l.RootOID && before[l.Name()] != "" {
			place = before[l.Name()] // attached or detached between two queries: the next one shows it
		}
		lines = append(lines, l.Name()+"="+place)
		if was := before[l.Name()]; was != "" && !publication.Extends(was, place) && (was == nowhere || !r.moved[l.Name()]) {
			back = append(back, l)
		}
		delete(r.moved, l.Name())
	}
	s.Published = strings.Join(lines, "\n")
	if len(back) == 0 || !known {
		return nil
	}
	for _, l := range back {
		if err := r.waitForWriters(ctx, conn, l); err != nil {
			return err
		}
	}
	why := change.Reason{Cause: change.CauseRepublished, Text: "its place in the publication is another one than on record (it was made again, or taken out and put back, the publication was changed, or Rillmark was stopped while it changed that itself), and what changed in between may be in no event"}
	if !r.config.Load {
		r.loads.Rewritten(t, why)
		return nil
	}
	r.loads.WantFull(t)
	r.loads.ReleaseLoad(t)
	s.Standing, s.RowsDone = why.For(engine.StateToLoad), 0
	r.sink.Report(engine.Report{Level: "warn", Event: "table-" + s.State, Message: s.Table + ": " + why.Text})
	return nil
}

// readPartition has the rows read that came with a partition; the lock is held, and
// nobody writes to it any more who began before it was published.
func (r *run) readPartition(t *tables.Table, name string) {
	s := &t.State
	switch {
	case t.Load != nil && t.Load.Progress.Leaves != nil:
		t.Load.Progress.Leaves = append(t.Load.Progress.Leaves, name)
	case t.Load != nil && t.Load.Progress.Kind != load.Refetch:
		if t.Load.Progress.Apart() {
			t.Load.Progress = loads.Progress{} // every reader gets the new rows, which no part has
		}
		t.Load.Restart() // its order may have passed the new rows already
	case r.config.Load:
		unread := t.Load != nil
		r.sink.Report(engine.Report{Level: "info", Event: "partition", Message: s.Table + ": the rows of its new partition " + name + " are read"})
		t.Load = &loads.TableLoad{Ready: true, Progress: loads.Progress{Task: load.Task{Kind: load.Part, Leaves: []string{name}}}}
		t.Load.Progress.EndsAs(s.Standing)
		if unread {
			t.Load.Progress.EndsAs(states.ByHand(refetchFailed).For(engine.StateStale))
		}
		s.State = engine.StateLoading
	}
	r.loads.Wake()
}

const reloadByHand = "reload the table with `rillmark source reload`"

// insertsOnlyOf is why only a part of a table's changes is captured.
func insertsOnlyOf(c *publication.Captured) change.Reason {
	why := "no key"
	for _, l := range c.Members {
		if !l.Updatable() && len(l.Generated) > 0 {
			why = l.LacksKey()
		}
	}
	return change.Reason{Cause: change.CauseInsertsOnly, Text: why + ": only inserts and truncates are captured"}
}

// hasNewKey reports whether a table that was loaded without a key has been given
// one: consumers then want its rows by that key.
func hasNewKey(t *tables.Table, c *publication.Captured) bool {
	return t.State.State == engine.StateFollowing && t.ID.Keyless && !isKeyless(c)
}

// isKeyless reports whether a table has nothing that tells its rows apart.
func isKeyless(c *publication.Captured) bool {
	return !c.All((*catalogue.Listed).Updatable) || len(c.Key()) == 0
}

// waitForRefiltered waits for the writers of tables that have another row filter
// than before, or whose filter may have been set by a run that was killed before
// it put that on record. The lock of the sink is released meanwhile.
func (r *run) waitForRefiltered(ctx context.Context, conn *pgx.Conn, c *publication.Captured, did *publication.Alignment) error {
	for _, l := range c.Members {
		if filter, _ := publication.RowFilter(r.config, l); filter == "" && !did.Refiltered[l.Name()] {
			continue
		}
		if err := r.waitForWriters(ctx, conn, l); err != nil {
			return err
		}
	}
	return nil
}

// waitForWriters waits until every transaction that holds a write lock on a
// table now has ended. The lock of the sink is released meanwhile.
func (r *run) waitForWriters(ctx context.Context, conn *pgx.Conn, l *catalogue.Listed) error {
	return r.sink.Unlocked(func() error {
		rows, _ := conn.Query(ctx, `SELECT virtualtransaction FROM pg_locks WHERE relation = $1
		AND database = (SELECT oid FROM pg_database WHERE datname = current_database())
		AND mode IN ('RowExclusiveLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock') AND granted`, l.OID)
		holders, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		for tick := 0; ; tick++ {
			var left int
			if err := conn.QueryRow(ctx, "SELECT count(DISTINCT virtualtransaction) FROM pg_locks WHERE virtualtransaction = ANY($1) AND relation = $2", holders, l.OID).Scan(&left); err != nil || left == 0 {
				return err
			}
			if tick == 20 {
				r.sink.Report(engine.Report{Level: "info", Event: "waiting-for-writers", Message: fmt.Sprintf("%s: %d transactions were writing to it before it was published as it is now: waiting for their end", l.Name(), left)})
			}
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(100 * time.Millisecond):
			}
		}
	})
}
