// Package publication keeps a source's publications to its rules: which tables are
// captured under which name, which of the two publications each belongs in, and the row
// filters that the server can apply itself.
package publication

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/session"
)

// Captured is a table in events: one of the source's, or a partitioned one with
// those that hold its rows.
type Captured struct {
	name    string
	Rule    *rules.Table
	Members []*catalogue.Listed
	Mapped  bool // its rows carry the root's name
}

func (c *Captured) All(is func(*catalogue.Listed) bool) bool {
	for _, l := range c.Members {
		if !is(l) {
			return false
		}
	}
	return true
}

func (c *Captured) Estimate() (rows int64) {
	for _, l := range c.Members {
		rows += l.Estimate
	}
	return rows
}

// Key identifies the table's rows; empty without one.
func (c *Captured) Key() []string {
	if key := c.Members[0].Key; len(key) > 0 {
		return key
	}
	return c.Rule.Key
}

// MemberNames are the partitions of a table that is captured under its root's name.
func (c *Captured) MemberNames() []string {
	if !c.Mapped {
		return nil
	}
	names := make([]string, len(c.Members))
	for i, l := range c.Members {
		names[i] = l.Name()
	}
	return names
}

// Choose is what the rules capture of the listed tables.
func Choose(c *session.Config, all []*catalogue.Listed) map[string]*Captured {
	chosen := make(map[string]*Captured)
	for _, l := range all {
		name, rule := c.Rules.Target(l.Name(), l.Root)
		if rule == nil || l.Persistence != "p" || l.Foreign {
			continue
		}
		if chosen[name] == nil {
			chosen[name] = &Captured{name: name, Rule: rule, Mapped: name != l.Name()}
		}
		chosen[name].Members = append(chosen[name].Members, l)
	}
	return chosen
}

// MemberIDs are the tables that hold a captured table's rows, by OID.
func (c *Captured) MemberIDs() map[uint32]string {
	ids := make(map[uint32]string, len(c.Members))
	for _, l := range c.Members {
		ids[l.OID] = l.Name()
	}
	return ids
}

// Prepare makes the publications that are ours, where they may still be
// made: one that is made after the slot is of no use to it.
func Prepare(ctx context.Context, c *session.Config, conn *pgx.Conn, slotIsThere bool) error {
	kinds := []string{AllChanges, "insert, truncate"}
	for i, name := range c.Publications() {
		exists, err := Exists(ctx, conn, name, kinds[i])
		if err != nil {
			return err
		}
		if exists {
			continue
		}
		if slotIsThere {
			return session.PublicationGone(name, nil)
		}
		if _, err := conn.Exec(ctx, "CREATE PUBLICATION "+session.Quoted(name)+" WITH (publish = '"+kinds[i]+"')"); err != nil {
			return publicationFault(c, err)
		}
	}
	return nil
}

// CheckNamed looks for an administrator's publication.
func CheckNamed(ctx context.Context, c *session.Config, conn *pgx.Conn) error {
	exists, err := Exists(ctx, conn, c.Publication, AllChanges)
	if err == nil && !exists {
		return &engine.Fault{Code: "no-publication", Message: fmt.Sprintf("the publication %q, which the definition names, is not there", c.Publication),
			Fix: "CREATE PUBLICATION " + session.Quoted(c.Publication) + " FOR TABLE …, or leave the publication out of the definition"}
	}
	return err
}

// AllChanges is what a publication of tables that have a key publishes.
const AllChanges = "insert, update, delete, truncate"

// Exists looks for a publication, and holds that it publishes changes of
// all these kinds.
func Exists(ctx context.Context, conn *pgx.Conn, name, kinds string) (exists bool, err error) {
	has := make([]bool, 4)
	var generated bool // an option of version 18
	err = conn.QueryRow(ctx, "SELECT pubinsert, pubupdate, pubdelete, pubtruncate, coalesce(to_jsonb(p)->>'pubgencols', 'n') <> 'n' FROM pg_publication p WHERE pubname = $1", name).Scan(&has[0], &has[1], &has[2], &has[3], &generated)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	var missing []string
	for i, kind := range strings.Split(AllChanges, ", ") {
		if !has[i] && strings.Contains(kinds, kind) {
			missing = append(missing, kind)
		}
	}
	if generated {
		return true, &engine.Fault{Code: "publication-generated",
			Message: fmt.Sprintf("the publication %q publishes stored generated columns, which loads do not have: rows of a load and of the log would have other columns", name),
			Fix:     "ALTER PUBLICATION " + session.Quoted(name) + " SET (publish_generated_columns = none)"}
	}
	if len(missing) > 0 {
		return true, &engine.Fault{Code: "publication-partial",
			Message: fmt.Sprintf("the publication %q leaves out changes of the kind %s: what happens to rows that way is in no event", name, strings.Join(missing, " and ")),
			Fix:     "ALTER PUBLICATION " + session.Quoted(name) + " SET (publish = '" + kinds + "'); its tables are then loaded again"}
	}
	return true, nil
}

// Alignment is what alignPublications did and could not do, by table.
type Alignment struct {
	Faults map[string]string // why one could not be published
	// Refiltered tables have another row filter than before: a transaction that was
	// open may yet end whose rows went through the former one.
	Refiltered map[string]bool
	// Moved tables were in one of the publications before, and we have put them into the
	// other, or anew into the same, without a moment in none.
	Moved map[string]bool
}

// Align makes what is missing, table by table, so that one that may
// not be published leaves the others alone.
func Align(ctx context.Context, c *session.Config, conn *pgx.Conn, chosen map[string]*catalogue.Listed, captures map[string]*Captured) (*Alignment, error) {
	names := c.Publications()
	members := make([]map[string]membership, len(names))
	for i, name := range names {
		var err error
		if members[i], err = membersOf(ctx, conn, name); err != nil {
			return nil, err
		}
	}
	did := &Alignment{Faults: make(map[string]string), Refiltered: make(map[string]bool), Moved: make(map[string]bool)}
	order := make([]string, 0, len(chosen))
	for name := range chosen {
		order = append(order, name)
	}
	sort.Strings(order)
	together, err := addTogether(ctx, c, conn, order, chosen, members)
	if err != nil {
		return nil, err
	}
	for _, name := range order {
		l := chosen[name]
		if together[name] {
			continue
		}
		in, out := l.Publication()
		filter, mark := RowFilter(c, l)
		is, isIn := members[in][name]
		keeps := isIn && (mark == "" && is.filter == "" || mark != "" && strings.Contains(is.filter, session.Literal(mark)))
		_, isOut := members[out][name]
		var steps []string
		// Out of the other first: an application's update must never find the
		// table published with updates and without an identity.
		if isOut {
			steps = append(steps, "ALTER PUBLICATION "+session.Quoted(names[out])+" DROP TABLE "+l.Sanitized())
		}
		if isIn && !keeps {
			steps = append(steps, "ALTER PUBLICATION "+session.Quoted(names[in])+" DROP TABLE "+l.Sanitized())
		}
		if !keeps {
			add := "ALTER PUBLICATION " + session.Quoted(names[in]) + " ADD TABLE ONLY " + l.Sanitized()
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
		if session.IsDenied(err) && (!isIn || isOut) {
			// The administrator may have left a function for it.
			if may, asked := MayUseFunction(ctx, c, conn); asked == nil && may {
				_, err = conn.Exec(ctx, "SELECT "+c.PublishFunction()+"("+session.Literal(l.Sanitized())+"::regclass)")
			}
		}
		switch {
		case session.IsDenied(err) && isIn && !isOut && is.filter == "":
			// It stays published whole, and the filter is ours to ask.
		case session.IsDenied(err):
			did.Faults[name] = "the login may not publish this table; its owner or a superuser can: " + strings.Join(slices.DeleteFunc(steps, func(s string) bool { return strings.HasPrefix(s, "SET LOCAL") }), "; ")
		case session.IsGone(err):
			// Dropped since it was listed: the next look does not find it.
		case session.IsLocked(err):
			did.Faults[name] = "somebody holds the table for themselves, as ALTER TABLE does: it is published and loaded once they let go"
		case err != nil:
			return nil, fmt.Errorf("publishing %s: %w", name, err)
		default:
			did.Moved[name], did.Refiltered[name] = isIn || isOut, isIn && !keeps
		}
	}
	roots := rootsOf(c, captures)
	for root := range roots {
		if _, isIn := members[0][root]; !isIn {
			// With its root published, a partition's rows come from its first one on. The
			// rows carry the partition's name anyway, and so does a truncate.
			_, err := conn.Exec(ctx, "ALTER PUBLICATION "+session.Quoted(names[0])+" ADD TABLE "+session.SanitizedName(root))
			if session.IsDenied(err) {
				if may, asked := MayUseFunction(ctx, c, conn); asked == nil && may {
					_, err = conn.Exec(ctx, "SELECT "+c.PublishFunction()+"("+session.Literal(session.SanitizedName(root))+"::regclass)")
				}
			}
			if err != nil && !session.IsDenied(err) && !session.IsGone(err) {
				return nil, fmt.Errorf("publishing %s: %w", root, err)
			}
		}
	}
	for i, name := range names {
		for table := range members[i] {
			if chosen[table] == nil && !(i == 0 && roots[table]) {
				// A table that went meanwhile is out of the publication already.
				conn.Exec(ctx, "ALTER PUBLICATION "+session.Quoted(name)+" DROP TABLE "+session.SanitizedName(table)) //nolint:errcheck // the next look tries again
			}
		}
	}
	return did, nil
}

// rootsOf are the partitioned tables that are published with their partitions, so that rows of a
// new one come from its first on: those that the rules choose, whole, and of which a partition
// that comes has what its updates need.
func rootsOf(c *session.Config, captures map[string]*Captured) map[string]bool {
	roots := make(map[string]bool)
	for _, one := range captures {
		for _, l := range one.Members {
			if l.Root == "" {
				continue
			}
			rule := c.Rules.For(l.Root)
			fit := rule != nil && rule.Filter == nil && one.Rule.Filter == nil && l.RootKeyed && l.Updatable()
			if known, is := roots[l.Root]; !is || known {
				roots[l.Root] = fit
			}
		}
	}
	maps.DeleteFunc(roots, func(_ string, fit bool) bool { return !fit })
	return roots
}

// addedTogether bounds how many tables are locked for one statement.
const addedTogether = 100

// addTogether publishes tables that are in no publication yet, many in one statement,
// and returns which. Where one of them may not be published, none of its statement is.
func addTogether(ctx context.Context, c *session.Config, conn *pgx.Conn, order []string, chosen map[string]*catalogue.Listed, members []map[string]membership) (map[string]bool, error) {
	added := make(map[string]bool)
	for in, name := range c.Publications() {
		var missing []string
		for _, table := range order {
			_, first := members[0][table]
			_, second := members[1][table]
			if to, _ := chosen[table].Publication(); to == in && !first && !second {
				missing = append(missing, table)
			}
		}
		for some := range slices.Chunk(missing, addedTogether) {
			if len(some) == 1 {
				continue
			}
			parts := make([]string, len(some))
			for i, table := range some {
				parts[i] = "ONLY " + chosen[table].Sanitized()
				if filter, _ := RowFilter(c, chosen[table]); filter != "" {
					parts[i] += " WHERE (" + filter + ")"
				}
			}
			err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
				// One that is being altered may not hold up the others, which are locked too.
				if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '50ms'"); err != nil {
					return err
				}
				_, err := tx.Exec(ctx, "ALTER PUBLICATION "+session.Quoted(name)+" ADD TABLE "+strings.Join(parts, ", "))
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

func publicationFault(c *session.Config, err error) error {
	var server *pgconn.PgError
	if errors.As(err, &server) && server.Code == "42501" {
		return &engine.Fault{Code: "no-publication-right", Cause: errors.New(server.Message),
			Message: fmt.Sprintf("user %q may not make a publication in database %s", c.Connection.User, c.Connection.Database),
			Fix:     fmt.Sprintf("GRANT CREATE ON DATABASE %s TO %s, or have one made and name it in the source's definition", session.Quoted(c.Connection.Database), session.Quoted(c.Connection.User))}
	}
	return err
}

// Place is a table's place in the publications: empty for one that is in none.
// root is the table that it was a partition of then.
type Place struct {
	Place string
	Root  uint32
}

// Extends reports whether a table that was at a place is there still, and published by more than
// before: nothing of what happened in between is missing.
func Extends(was, now string) bool {
	before, after := strings.Fields(was), strings.Fields(now)
	if len(before) != len(after) {
		return false
	}
	for i := range before {
		at, to := strings.LastIndexByte(before[i], '.'), strings.LastIndexByte(after[i], '.')
		if at < 0 || to < 0 || before[i][:at] != after[i][:to] {
			return false
		}
		by := strings.Split(after[i][to+1:], "+")
		if slices.ContainsFunc(strings.Split(before[i][at+1:], "+"), func(one string) bool { return !slices.Contains(by, one) }) {
			return false
		}
	}
	return true
}

// Tables lists what is published, each table with the catalogue's numbers
// of the publication, of who changed that last, and of its place in it: something
// is new when it was taken out and put back, or when some kinds of changes were.
func Tables(ctx context.Context, q session.Querier, publications []string) (map[string]Place, error) {
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
	set := make(map[string]Place)
	var schema, table string
	var one Place
	_, err := pgx.ForEachRow(rows, []any{&schema, &table, &one.Place, &one.Root}, func() error {
		set[change.TableName(schema, table)] = one
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("listing what is published: %w", err)
	}
	return set, nil
}
