package postgres

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/tables"
)

// publish brings the publications to what the rules choose and notes each
// table's state. The first time it is called before the goroutines run; later
// by keepPublishing. An administrator's publication is only looked at.
func (r *run) publish(ctx context.Context, conn *pgx.Conn, first bool) error {
	look := 0
	if err := r.sink.Locked(func() error {
		r.looks++
		look = r.looks
		return nil
	}); err != nil {
		return err
	}
	all, err := catalogue.List(ctx, conn)
	if err != nil {
		return fmt.Errorf("listing the source's tables: %w", err)
	}
	chosen := publication.Choose(r.config, all)
	if first && len(chosen) == 0 {
		return r.noTables(all)
	}
	did := new(publication.Alignment)
	switch {
	case r.config.Borrowed != nil: // it is looked through as it is
	case r.config.Publication == "":
		if err := publication.Prepare(ctx, r.config, conn, r.resumed || !first); err != nil {
			return err
		}
		members := make(map[string]*catalogue.Listed)
		for _, c := range chosen {
			for _, l := range c.Members {
				members[l.Name()] = l
			}
		}
		if did, err = publication.Align(ctx, r.config, conn, members, chosen); err != nil {
			return err
		}
	default:
		if err := publication.CheckNamed(ctx, r.config, conn); err != nil {
			return err
		}
	}
	published, err := publication.Tables(ctx, conn, r.config.Publications())
	if err != nil {
		return err
	}
	found := new(differences)
	err = r.sink.Locked(func() error {
		if r.moved == nil {
			r.moved = make(map[string]bool)
		}
		for name, moved := range did.Moved {
			r.moved[name] = r.moved[name] || moved
		}
		if err := r.noteTables(ctx, conn, chosen, published, did, look, first); err != nil || first {
			return err
		}
		if found = r.differences(chosen, all, look); len(found.fresh) == 0 {
			return nil
		}
		for _, l := range found.fresh {
			if err := r.waitForWriters(ctx, conn, l); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || first {
		return err
	}
	err = r.followCatalogue(ctx, conn, found)
	if session.MayNotWrite(err) {
		return nil // without marks a change shows at the table's next row
	}
	return err
}

// differences are what a look at the source has found to be otherwise than on record.
type differences struct {
	look      int
	listed    map[*tables.Table]*catalogue.Listed // one of the tables that hold the rows of those in changed
	changed   map[*tables.Table]uint32            // tables with other columns, or other tables of that name
	rewritten map[*tables.Table][]uint32          // those with members whose rows were written anew
	gone      []*tables.Table                     // those that are there no more
	members   map[*tables.Table]map[uint32]string // those with other partitions
	fresh     []*catalogue.Listed                 // partitions that have come
	attached  map[*tables.Table]map[uint32]string // how partitions have come, of the tables in members
	strays    map[*tables.Table]map[uint32]string // guests that are no partitions now
}

// differences finds what no row has brought; the lock is held. A table that the look has not
// listed is not gone where the stream has said since that it is there.
func (r *run) differences(chosen map[string]*publication.Captured, all []*catalogue.Listed, look int) *differences {
	found := &differences{look: look, listed: make(map[*tables.Table]*catalogue.Listed), changed: make(map[*tables.Table]uint32), rewritten: make(map[*tables.Table][]uint32), members: make(map[*tables.Table]map[uint32]string), attached: make(map[*tables.Table]map[uint32]string), strays: make(map[*tables.Table]map[uint32]string)}
	for name, c := range chosen {
		t := r.tables[name]
		if t == nil || t.State.State == engine.StateUnpublished || t.State.State == engine.StateNew {
			continue
		}
		l := c.Members[0]
		oid := l.OID
		if c.Mapped {
			oid = l.RootOID
			now := c.MemberIDs()
			found.strays[t] = maps.Clone(t.ID.Guests)
			maps.DeleteFunc(found.strays[t], func(oid uint32, _ string) bool { return now[oid] != "" })
			attached := make(map[uint32]string, len(now))
			for _, one := range c.Members {
				attached[one.OID] = one.Attached
			}
			switch {
			case t.ID.CameBack(attached) || !maps.Equal(now, t.ID.Members) || len(found.strays[t]) > 0:
				found.members[t], found.attached[t] = now, attached
				for _, one := range c.Members {
					if t.ID.Members[one.OID] == "" {
						found.fresh = append(found.fresh, one)
					}
				}
			case !maps.Equal(attached, t.ID.Attached):
				t.ID.Attached = attached
				r.sink.Table(t.Record())
			}
		}
		if t.State.Schema == nil {
			continue
		}
		for _, l := range c.Members {
			now := l.Storage(c.Rule)
			if t.ID.Storages[l.OID].Rewritten(now) {
				found.rewritten[t] = append(found.rewritten[t], l.OID)
			} else if _, moved := t.ID.Store(l.OID, now); moved {
				r.sink.Table(t.Record())
			}
		}
		other := t.ID.OID != 0 && t.ID.OID != oid
		rekeyed := len(t.State.Schema.Key()) > 0 && len(c.Key()) == 0
		renumbered := catalogue.Known(t.ID.Newest()) && !catalogue.SameSet(l.Numbered(c.Mapped), t.ID.Newest()) || t.ID.Latest != nil
		if other || renumbered || rekeyed || found.rewritten[t] != nil || c.Rule.Image != rules.ImageKey && columnsDiffer(l.Columns, t.State.Schema) {
			found.changed[t], found.listed[t] = oid, l
		}
	}
	there := make(map[string]bool, len(all))
	for _, l := range all {
		there[l.Root] = true
		if own, _ := r.config.Rules.Target(l.Name(), l.Root); own == l.Name() { // a partition may be captured under its root's name now
			there[own] = true
		}
	}
	for name, t := range r.tables {
		if chosen[name] == nil && !there[name] && t.Told < look && !engine.Away(t.State.State) && (t.State.Schema != nil || t.State.State != engine.StateNew) {
			found.gone = append(found.gone, t)
		}
	}
	return found
}

func (r *run) noTables(all []*catalogue.Listed) error {
	rules := make([]string, len(r.config.Rules))
	for i, rule := range r.config.Rules {
		rules[i] = rule.Match.String()
	}
	names := make([]string, 0, 6)
	for _, l := range all {
		if names = append(names, l.Name()); len(names) == 6 {
			break
		}
	}
	have := "it has no tables yet"
	if len(names) > 0 {
		have = "it has " + strings.Join(names, ", ")
		if len(all) > len(names) {
			have += fmt.Sprintf(" and %d more", len(all)-len(names))
		}
	}
	return &engine.Fault{Code: "unknown-table", Message: fmt.Sprintf("the table rules (%s) choose no table of database %s: %s",
		strings.Join(rules, ", "), r.config.Connection.Database, have), Fix: "correct the rules; `rillmark source tables` lists what is there"}
}

// keepPublishing looks for new tables that the rules choose.
func (r *run) keepPublishing(ctx context.Context) error {
	conn, err := r.markSession(ctx, "publisher")
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	ticker := time.NewTicker(r.config.RefreshEvery)
	defer ticker.Stop()
	for {
		if err := r.publish(ctx, conn, false); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		}
	}
}

// columnsDiffer compares the columns that the catalogue lists with those of a
// version, whatever its rule does to them.
func columnsDiffer(listed []engine.TableColumn, known *change.Schema) bool {
	kinds := make(map[string]string, len(listed))
	labels := make(map[string][]string)
	for _, c := range listed {
		kinds[c.Name] = c.Type
		labels[c.Name] = c.Labels
	}
	for _, c := range known.Columns {
		if kinds[c.Name] != c.Type || (c.Rule == change.RuleEnum || c.Rule == change.RuleArray) && labels[c.Name] != nil && !slices.Equal(labels[c.Name], c.Labels) {
			return true
		}
		delete(kinds, c.Name)
	}
	for _, name := range known.LeftOut {
		delete(kinds, name)
	}
	return len(kinds) > 0
}
