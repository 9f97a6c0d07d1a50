package postgres

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/engine"
)

// publish brings the publications to what the rules choose and notes each
// table's state. The first time it is called before the goroutines run; later
// by keepPublishing. An administrator's publication is only looked at.
func (r *run) publish(ctx context.Context, conn *pgx.Conn, first bool) error {
	all, err := list(ctx, conn)
	if err != nil {
		return fmt.Errorf("listing the source's tables: %w", err)
	}
	chosen := make(map[string]*listed)
	for _, l := range all {
		if l.persistence == "p" && r.config.chooses(l.name()) {
			chosen[l.name()] = l
		}
	}
	if first && len(chosen) == 0 {
		return r.noTables(all)
	}
	var faults map[string]string
	if r.config.Publication == "" {
		if faults, err = r.config.alignPublications(ctx, conn, chosen); err != nil {
			return err
		}
	}
	published, err := publishedTables(ctx, conn, r.config.publications())
	if err != nil {
		return err
	}
	r.sink.Lock()
	defer r.sink.Unlock()
	return r.noteTables(ctx, conn, chosen, published, faults, first)
}

func (r *run) noTables(all []*listed) error {
	rules := make([]string, len(r.config.Rules))
	for i, rule := range r.config.Rules {
		rules[i] = rule.Match.String()
	}
	names := make([]string, 0, 6)
	for _, l := range all {
		if names = append(names, l.name()); len(names) == 6 {
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

// alignPublications makes what is missing, table by table, so that one that may
// not be published leaves the others alone. It returns why, by table.
func (c *Config) alignPublications(ctx context.Context, conn *pgx.Conn, chosen map[string]*listed) (map[string]string, error) {
	names := c.publications()
	kinds := []string{"insert, update, delete, truncate", "insert, truncate"}
	for i, name := range names {
		var exists bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_publication WHERE pubname = $1)", name).Scan(&exists); err != nil {
			return nil, err
		}
		if !exists {
			if _, err := conn.Exec(ctx, "CREATE PUBLICATION "+quoted(name)+" WITH (publish = '"+kinds[i]+"')"); err != nil {
				return nil, c.publicationFault(err)
			}
		}
	}
	members := make([]map[string]bool, len(names))
	for i, name := range names {
		var err error
		if members[i], err = publishedTables(ctx, conn, []string{name}); err != nil {
			return nil, err
		}
	}
	faults := make(map[string]string)
	order := make([]string, 0, len(chosen))
	for name := range chosen {
		order = append(order, name)
	}
	sort.Strings(order)
	for _, name := range order {
		l := chosen[name]
		in, out := 0, 1
		if !l.updatable() {
			in, out = 1, 0
		}
		var steps []string
		// Out of the other first: an application's update must never find the
		// table published with updates and without an identity.
		if members[out][name] {
			steps = append(steps, "ALTER PUBLICATION "+quoted(names[out])+" DROP TABLE "+l.sanitized())
		}
		if !members[in][name] {
			steps = append(steps, "ALTER PUBLICATION "+quoted(names[in])+" ADD TABLE ONLY "+l.sanitized())
		}
		if len(steps) == 0 {
			continue
		}
		err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
			for _, step := range steps {
				if _, err := tx.Exec(ctx, step); err != nil {
					return err
				}
			}
			return nil
		})
		var server *pgconn.PgError
		if errors.As(err, &server) && server.Code == "42501" {
			faults[name] = "the login may not publish this table; its owner or a superuser can: " + steps[len(steps)-1]
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("publishing %s: %w", name, err)
		}
	}
	for i, name := range names {
		for table := range members[i] {
			if chosen[table] == nil {
				schema, rest, _ := strings.Cut(table, ".")
				// A table that went meanwhile is out of the publication already.
				conn.Exec(ctx, "ALTER PUBLICATION "+quoted(name)+" DROP TABLE "+pgx.Identifier{schema, rest}.Sanitize()) //nolint:errcheck
			}
		}
	}
	return faults, nil
}

func (c *Config) publicationFault(err error) error {
	var server *pgconn.PgError
	if errors.As(err, &server) && server.Code == "42501" {
		return &engine.Fault{Code: "no-publication-right", Cause: errors.New(server.Message),
			Message: fmt.Sprintf("user %q may not make a publication in database %s", c.Connection.User, c.Connection.Database),
			Fix:     fmt.Sprintf("GRANT CREATE ON DATABASE %s TO %s, or have one made and name it in the source's definition", quoted(c.Connection.Database), quoted(c.Connection.User))}
	}
	return err
}

func publishedTables(ctx context.Context, q querier, publications []string) (map[string]bool, error) {
	rows, _ := q.Query(ctx, "SELECT schemaname || '.' || tablename FROM pg_publication_tables WHERE pubname = ANY($1)", publications)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("listing what is published: %w", err)
	}
	set := make(map[string]bool, len(names))
	for _, name := range names {
		set[name] = true
	}
	return set, nil
}

// noteTables puts the tables' states on record; the lock is held.
func (r *run) noteTables(ctx context.Context, conn *pgx.Conn, chosen map[string]*listed, published map[string]bool, faults map[string]string, first bool) error {
	for name, l := range chosen {
		t := r.tables[name]
		before := engine.TableState{}
		if t == nil {
			t = r.newTable(name)
		} else {
			before = t.state
		}
		s := &t.state
		switch {
		case !published[name]:
			s.State, s.Note = engine.StateUnpublished, faults[name]
			if s.Note == "" {
				s.Note = "the publication " + r.config.Publication + " does not have this table: ALTER PUBLICATION " + quoted(r.config.Publication) + " ADD TABLE " + l.sanitized()
			}
		case s.State == engine.StateNew || s.State == engine.StateUnpublished || s.State == engine.StateGone || hasNewKey(s, l):
			if r.config.Load && l.loadable() {
				r.wantLoad(t)
			} else {
				t.load = nil
			}
			if first && r.resumed {
				continue // keepPublishing goes on with it, without holding up the rest
			}
			// A row written by a transaction that was open before the table was
			// published is in no stream: wait for those that hold it. A slot
			// that is only being made waits for them by itself.
			if !first {
				if err := r.waitForWriters(ctx, conn, l); err != nil {
					return err
				}
			}
			s.State, s.Note = engine.StateFollowing, ""
			if t.load != nil {
				s.State = engine.StateToLoad
				r.releaseLoad(t)
			}
		case s.State == engine.StateToLoad || s.State == engine.StateLoading:
			r.wantLoad(t)
			r.releaseLoad(t)
		}
		s.RowsEstimate = l.estimate
		if s.State == engine.StateFollowing {
			s.Note = ""
			if !l.updatable() {
				s.Note = noKey + "only inserts and truncates are captured, and rows that exist already are not loaded"
			} else if len(l.key) == 0 {
				s.Note = noKey + "rows that exist already are not loaded"
			}
		}
		if before.State != s.State || before.Note != s.Note {
			r.sink.Table(*s)
			r.sink.Touch()
			if !first {
				r.sink.Report(engine.Report{Level: "info", Event: "table-" + s.State, Message: name + " " + s.Note})
			}
		}
	}
	for name, t := range r.tables {
		if chosen[name] == nil && t.state.State != engine.StateGone && t.state.State != engine.StateNew {
			t.state.State, t.state.Note, t.load = engine.StateGone, "dropped or renamed in the source, or no longer chosen by a rule", nil
			r.sink.Table(t.state)
			r.sink.Touch()
		}
	}
	return nil
}

// noKey begins the note of a table that is followed and not loaded.
const noKey = "no key: "

// hasNewKey reports whether a table that could not be loaded for want of a key
// has been given one.
func hasNewKey(s *engine.TableState, l *listed) bool {
	return s.State == engine.StateFollowing && strings.HasPrefix(s.Note, noKey) && l.loadable()
}

// waitForWriters waits until every transaction that holds a write lock on a
// table now has ended. The lock of the sink is released meanwhile.
func (r *run) waitForWriters(ctx context.Context, conn *pgx.Conn, l *listed) error {
	r.sink.Unlock()
	defer r.sink.Lock()
	rows, _ := conn.Query(ctx, `SELECT virtualtransaction FROM pg_locks WHERE relation = $1
		AND database = (SELECT oid FROM pg_database WHERE datname = current_database())
		AND mode IN ('RowExclusiveLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock') AND granted`, l.oid)
	holders, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for tick := 0; ; tick++ {
		var left int
		if err := conn.QueryRow(ctx, "SELECT count(DISTINCT virtualtransaction) FROM pg_locks WHERE virtualtransaction = ANY($1) AND relation = $2", holders, l.oid).Scan(&left); err != nil || left == 0 {
			return err
		}
		if tick == 20 {
			r.sink.Report(engine.Report{Level: "info", Event: "waiting-for-writers", Message: fmt.Sprintf("%s was added while %d transactions were writing to it: waiting for their end", l.name(), left)})
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// keepPublishing looks for new tables that the rules choose.
func (r *run) keepPublishing(ctx context.Context) error {
	conn, err := r.config.connect(ctx, "publisher")
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
