package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
)

// captured is a table in events: one of the source's, or a partitioned one with
// those that hold its rows.
type captured struct {
	name    string
	rule    *rules.Table
	members []*listed
	mapped  bool // its rows carry the root's name
}

func (c *captured) all(is func(*listed) bool) bool {
	for _, l := range c.members {
		if !is(l) {
			return false
		}
	}
	return true
}

func (c *captured) estimate() (rows int64) {
	for _, l := range c.members {
		rows += l.estimate
	}
	return rows
}

// key is what tells the table's rows apart; empty where nothing does.
func (c *captured) key() []string {
	if key := c.members[0].key; len(key) > 0 {
		return key
	}
	return c.rule.Key
}

// memberNames are the partitions of a table that is captured under its root's name.
func (c *captured) memberNames() []string {
	if !c.mapped {
		return nil
	}
	names := make([]string, len(c.members))
	for i, l := range c.members {
		names[i] = l.name()
	}
	return names
}

// choose is what the rules capture of the listed tables.
func (c *Config) choose(all []*listed) map[string]*captured {
	chosen := make(map[string]*captured)
	for _, l := range all {
		name, rule := c.Rules.Target(l.name(), l.root)
		if rule == nil || l.persistence != "p" || l.foreign {
			continue
		}
		if chosen[name] == nil {
			chosen[name] = &captured{name: name, rule: rule, mapped: name != l.name()}
		}
		chosen[name].members = append(chosen[name].members, l)
	}
	return chosen
}

// publish brings the publications to what the rules choose and notes each
// table's state. The first time it is called before the goroutines run; later
// by keepPublishing. An administrator's publication is only looked at.
func (r *run) publish(ctx context.Context, conn *pgx.Conn, first bool) error {
	all, err := list(ctx, conn)
	if err != nil {
		return fmt.Errorf("listing the source's tables: %w", err)
	}
	chosen := r.config.choose(all)
	if first && len(chosen) == 0 {
		return r.noTables(all)
	}
	did := new(alignment)
	switch {
	case r.config.borrowed != nil: // it is looked through as it is
	case r.config.Publication == "":
		if err := r.config.havePublications(ctx, conn, r.resumed || !first); err != nil {
			return err
		}
		members := make(map[string]*listed)
		for _, c := range chosen {
			for _, l := range c.members {
				members[l.name()] = l
			}
		}
		if did, err = r.config.alignPublications(ctx, conn, members, chosen); err != nil {
			return err
		}
	default:
		if err := r.config.haveNamed(ctx, conn); err != nil {
			return err
		}
	}
	published, err := publishedTables(ctx, conn, r.config.publications())
	if err != nil {
		return err
	}
	found := new(differences)
	err = r.sink.Locked(func() error {
		if r.placed == nil {
			r.placed = make(map[string]bool)
		}
		for name := range did.placed {
			r.placed[name] = true
		}
		if err := r.noteTables(ctx, conn, chosen, published, did, first); err != nil || first {
			return err
		}
		if found = r.differences(chosen, all); len(found.fresh) == 0 {
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
	if mayNotWrite(err) {
		return nil // without marks a change shows at the table's next row
	}
	return err
}

// differences are what a look at the source has found to be otherwise than on record.
type differences struct {
	changed map[*table]uint32            // tables with other columns, or other tables of that name
	gone    []*table                     // those that are there no more
	members map[*table]map[uint32]string // those with other partitions
	fresh   []*listed                    // partitions that have come
	strays  map[*table]map[uint32]string // guests that are no partitions now
}

// differences finds what no row has brought; the lock is held.
func (r *run) differences(chosen map[string]*captured, all []*listed) *differences {
	found := &differences{changed: make(map[*table]uint32), members: make(map[*table]map[uint32]string), strays: make(map[*table]map[uint32]string)}
	for name, c := range chosen {
		t := r.tables[name]
		if t == nil || t.state.State == engine.StateUnpublished || t.state.State == engine.StateNew {
			continue
		}
		l := c.members[0]
		oid := l.oid
		if c.mapped {
			oid = l.rootOID
			now := c.memberIDs()
			found.strays[t] = maps.Clone(t.id.Guests)
			maps.DeleteFunc(found.strays[t], func(oid uint32, _ string) bool { return now[oid] != "" })
			if !maps.Equal(now, t.id.Members) || len(found.strays[t]) > 0 {
				found.members[t] = now
				for _, one := range c.members {
					if t.id.Members[one.oid] == "" {
						found.fresh = append(found.fresh, one)
					}
				}
			}
		}
		if t.state.Schema == nil {
			continue
		}
		other := t.id.OID != 0 && t.id.OID != oid
		renumbered := known(t.id.newest()) && !sameSet(l.numbered(c.mapped), t.id.newest()) || t.id.Latest != nil
		if other || renumbered || c.rule.Image != rules.ImageKey && columnsDiffer(l.columns, t.state.Schema) {
			found.changed[t] = oid
		}
	}
	there := make(map[string]bool, len(all))
	for _, l := range all {
		there[l.root] = true
		if own, _ := r.config.Rules.Target(l.name(), l.root); own == l.name() { // a partition may be captured under its root's name now
			there[own] = true
		}
	}
	for name, t := range r.tables {
		if chosen[name] == nil && !there[name] && !engine.Away(t.state.State) && (t.state.Schema != nil || t.state.State != engine.StateNew) {
			found.gone = append(found.gone, t)
		}
	}
	return found
}

// memberIDs are the tables that hold a captured table's rows, by OID.
func (c *captured) memberIDs() map[uint32]string {
	ids := make(map[uint32]string, len(c.members))
	for _, l := range c.members {
		ids[l.oid] = l.name()
	}
	return ids
}

// sameSet reports whether both have the same numbers under the same names.
func sameSet(a, b []column) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(c column) bool {
		return !slices.ContainsFunc(b, func(d column) bool { return c.Number == d.Number && c.Name == d.Name })
	})
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
		if kinds[c.Name] != c.Type || c.Rule == change.RuleEnum && labels[c.Name] != nil && !slices.Equal(labels[c.Name], c.Labels) {
			return true
		}
		delete(kinds, c.Name)
	}
	for _, name := range known.LeftOut {
		delete(kinds, name)
	}
	return len(kinds) > 0
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

// havePublications makes the publications that are ours, where they may still be
// made: one that is made after the slot is of no use to it.
func (c *Config) havePublications(ctx context.Context, conn *pgx.Conn, slotIsThere bool) error {
	kinds := []string{allChanges, "insert, truncate"}
	for i, name := range c.publications() {
		exists, err := havePublication(ctx, conn, name, kinds[i])
		if err != nil {
			return err
		}
		if exists {
			continue
		}
		if slotIsThere {
			return publicationGone(name, nil)
		}
		if _, err := conn.Exec(ctx, "CREATE PUBLICATION "+quoted(name)+" WITH (publish = '"+kinds[i]+"')"); err != nil {
			return c.publicationFault(err)
		}
	}
	return nil
}

// haveNamed looks for an administrator's publication.
func (c *Config) haveNamed(ctx context.Context, conn *pgx.Conn) error {
	exists, err := havePublication(ctx, conn, c.Publication, allChanges)
	if err == nil && !exists {
		return &engine.Fault{Code: "no-publication", Message: fmt.Sprintf("the publication %q, which the definition names, is not there", c.Publication),
			Fix: "CREATE PUBLICATION " + quoted(c.Publication) + " FOR TABLE …, or leave the publication out of the definition"}
	}
	return err
}

// allChanges is what a publication of tables that have a key publishes.
const allChanges = "insert, update, delete, truncate"

// havePublication looks for a publication, and holds that it publishes changes of
// all these kinds.
func havePublication(ctx context.Context, conn *pgx.Conn, name, kinds string) (exists bool, err error) {
	has := make([]bool, 4)
	err = conn.QueryRow(ctx, "SELECT pubinsert, pubupdate, pubdelete, pubtruncate FROM pg_publication WHERE pubname = $1", name).Scan(&has[0], &has[1], &has[2], &has[3])
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var missing []string
	for i, kind := range strings.Split(allChanges, ", ") {
		if !has[i] && strings.Contains(kinds, kind) {
			missing = append(missing, kind)
		}
	}
	if len(missing) > 0 {
		return true, &engine.Fault{Code: "publication-partial",
			Message: fmt.Sprintf("the publication %q leaves out changes of the kind %s: what happens to rows that way is in no event", name, strings.Join(missing, " and ")),
			Fix:     "ALTER PUBLICATION " + quoted(name) + " SET (publish = '" + kinds + "'); its tables are then loaded again"}
	}
	return true, nil
}

func publicationGone(name string, cause error) error {
	return &engine.Fault{Code: "publication-gone", Final: true, Cause: cause,
		Message: fmt.Sprintf("the publication %q was dropped: what was written since cannot be read any more, not even when it is made again", name), Fix: anew}
}

// alignment is what alignPublications did and could not do, by table.
type alignment struct {
	faults map[string]string // why one could not be published
	// refiltered tables have another row filter than before: a transaction that was
	// open may yet end whose rows went through the former one.
	refiltered map[string]bool
	// placed tables were put into a publication, or into it anew, by us.
	placed map[string]bool
}

// alignPublications makes what is missing, table by table, so that one that may
// not be published leaves the others alone.
func (c *Config) alignPublications(ctx context.Context, conn *pgx.Conn, chosen map[string]*listed, captures map[string]*captured) (*alignment, error) {
	names := c.publications()
	members := make([]map[string]membership, len(names))
	for i, name := range names {
		var err error
		if members[i], err = membersOf(ctx, conn, name); err != nil {
			return nil, err
		}
	}
	did := &alignment{faults: make(map[string]string), refiltered: make(map[string]bool), placed: make(map[string]bool)}
	order := make([]string, 0, len(chosen))
	for name := range chosen {
		order = append(order, name)
	}
	sort.Strings(order)
	together, err := c.addTogether(ctx, conn, order, chosen, members)
	if err != nil {
		return nil, err
	}
	for _, name := range order {
		l := chosen[name]
		if together[name] {
			did.placed[name] = true
			continue
		}
		in, out := l.publication()
		filter, mark := c.rowFilter(l)
		is, isIn := members[in][name]
		keeps := isIn && (mark == "" && is.filter == "" || mark != "" && strings.Contains(is.filter, literal(mark)))
		_, isOut := members[out][name]
		var steps []string
		// Out of the other first: an application's update must never find the
		// table published with updates and without an identity.
		if isOut {
			steps = append(steps, "ALTER PUBLICATION "+quoted(names[out])+" DROP TABLE "+l.sanitized())
		}
		if isIn && !keeps {
			steps = append(steps, "ALTER PUBLICATION "+quoted(names[in])+" DROP TABLE "+l.sanitized())
		}
		if !keeps {
			add := "ALTER PUBLICATION " + quoted(names[in]) + " ADD TABLE ONLY " + l.sanitized()
			if filter != "" {
				add += " WHERE (" + filter + ")"
			}
			steps = append(steps, add)
		}
		if len(steps) == 0 {
			continue
		}
		if !isIn && !isOut {
			// One that somebody holds alone is new to us, and may come later than the rest.
			steps = append([]string{"SET LOCAL lock_timeout = '1s'"}, steps...)
		}
		err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
			for _, step := range steps {
				if _, err := tx.Exec(ctx, step); err != nil {
					return err
				}
			}
			return nil
		})
		if isDenied(err) && (!isIn || isOut) {
			// The administrator may have left a function for it.
			if may, asked := c.mayUseFunction(ctx, conn); asked == nil && may {
				_, err = conn.Exec(ctx, "SELECT "+c.publishFunction()+"("+literal(l.sanitized())+"::regclass)")
			}
		}
		switch {
		case isDenied(err) && isIn && !isOut && is.filter == "":
			// It stays published whole, and the filter is ours to ask.
		case isDenied(err):
			did.faults[name] = "the login may not publish this table; its owner or a superuser can: " + strings.Join(slices.DeleteFunc(steps, func(s string) bool { return strings.HasPrefix(s, "SET LOCAL") }), "; ")
		case isGone(err):
			// Dropped since it was listed: the next look does not find it.
		case isLocked(err):
			did.faults[name] = "somebody holds the table for themselves, as ALTER TABLE does: it is published and loaded once they let go"
		case err != nil:
			return nil, fmt.Errorf("publishing %s: %w", name, err)
		default:
			did.placed[name], did.refiltered[name] = true, isIn && !keeps
		}
	}
	roots := make(map[string]bool)
	for root, one := range captures {
		if !one.mapped || one.rule.Filter != nil || !one.all((*listed).updatable) {
			continue
		}
		roots[root] = true
		if _, isIn := members[0][root]; !isIn {
			// With its root published, a partition's rows come from its first one on. The
			// rows carry the partition's name anyway, and so does a truncate.
			_, err := conn.Exec(ctx, "ALTER PUBLICATION "+quoted(names[0])+" ADD TABLE "+sanitizedName(root))
			if err != nil && !isDenied(err) && !isGone(err) {
				return nil, fmt.Errorf("publishing %s: %w", root, err)
			}
		}
	}
	for i, name := range names {
		for table := range members[i] {
			if chosen[table] == nil && !(i == 0 && roots[table]) {
				// A table that went meanwhile is out of the publication already.
				conn.Exec(ctx, "ALTER PUBLICATION "+quoted(name)+" DROP TABLE "+sanitizedName(table)) //nolint:errcheck // the next look tries again
			}
		}
	}
	return did, nil
}

// publication is which of the two a table belongs in, by place.
func (l *listed) publication() (in, out int) {
	if !l.updatable() {
		return 1, 0
	}
	return 0, 1
}

// addedTogether bounds how many tables are locked for one statement.
const addedTogether = 100

// addTogether publishes tables that are in no publication yet, many in one statement,
// and returns which. Where one of them may not be published, none of its statement is.
func (c *Config) addTogether(ctx context.Context, conn *pgx.Conn, order []string, chosen map[string]*listed, members []map[string]membership) (map[string]bool, error) {
	added := make(map[string]bool)
	for in, name := range c.publications() {
		var missing []string
		for _, table := range order {
			_, first := members[0][table]
			_, second := members[1][table]
			if to, _ := chosen[table].publication(); to == in && !first && !second {
				missing = append(missing, table)
			}
		}
		for some := range slices.Chunk(missing, addedTogether) {
			if len(some) == 1 {
				continue
			}
			parts := make([]string, len(some))
			for i, table := range some {
				parts[i] = "ONLY " + chosen[table].sanitized()
				if filter, _ := c.rowFilter(chosen[table]); filter != "" {
					parts[i] += " WHERE (" + filter + ")"
				}
			}
			err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
				// One that is being altered may not hold up the others, which are locked too.
				if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '50ms'"); err != nil {
					return err
				}
				_, err := tx.Exec(ctx, "ALTER PUBLICATION "+quoted(name)+" ADD TABLE "+strings.Join(parts, ", "))
				return err
			})
			var server *pgconn.PgError
			if errors.As(err, &server) {
				continue // each by itself shows which it is
			}
			if err != nil {
				return nil, err
			}
			for _, table := range some {
				added[table] = true
			}
		}
	}
	return added, nil
}

// isGone tells that a table is not there any more.
func isGone(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && (server.Code == "42P01" || server.Code == "3F000")
}

// isLocked tells that a lock was not to be had in time.
func isLocked(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "55P03"
}

func isDenied(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "42501"
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

// publishedTable is a table's place in the publications: empty for one that is in none.
// root is the table that it was a partition of then.
type publishedTable struct {
	place string
	root  uint32
}

// publishedTables lists what is published, each table with the catalogue's numbers
// of the publication, of who changed that last, and of its place in it: something
// is new when it was taken out and put back, or when some kinds of changes were.
func publishedTables(ctx context.Context, q querier, publications []string) (map[string]publishedTable, error) {
	// Its place is its own, its root's, or its schema's.
	rows, _ := q.Query(ctx, `SELECT t.schemaname, t.tablename, string_agg(p.oid || '.' || p.xmin || '.' || coalesce(place.oids, '0'), ' ' ORDER BY p.oid),
			max(CASE WHEN relation.relispartition THEN coalesce(pg_partition_root(relation.oid)::oid::bigint, 0) ELSE 0 END) -- null for one that was just dropped
		FROM pg_publication_tables t JOIN pg_publication p ON p.pubname = t.pubname
		JOIN pg_namespace schema ON schema.nspname = t.schemaname JOIN pg_class relation ON relation.relnamespace = schema.oid AND relation.relname = t.tablename
		CROSS JOIN LATERAL (SELECT string_agg(r.oid::text, '+' ORDER BY r.oid) AS oids
			FROM (SELECT relation.oid AS id UNION SELECT pg_partition_ancestors(relation.oid)) AS self
			CROSS JOIN LATERAL (SELECT oid FROM pg_publication_rel WHERE prpubid = p.oid AND prrelid = self.id
				UNION ALL SELECT n.oid FROM pg_publication_namespace n JOIN pg_class c ON c.relnamespace = n.pnnspid WHERE n.pnpubid = p.oid AND c.oid = self.id) AS r) AS place
		WHERE t.pubname = ANY($1) GROUP BY 1, 2`, publications)
	set := make(map[string]publishedTable)
	var schema, table string
	var one publishedTable
	_, err := pgx.ForEachRow(rows, []any{&schema, &table, &one.place, &one.root}, func() error {
		set[change.TableName(schema, table)] = one
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("listing what is published: %w", err)
	}
	return set, nil
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
