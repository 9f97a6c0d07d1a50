package check

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
)

func checkPublication(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	var may, exists, messages, schemas, anyTable bool
	var emits string
	err := conn.QueryRow(ctx, `SELECT has_database_privilege(current_database(), 'CREATE'),
		EXISTS (SELECT FROM pg_publication WHERE pubname = $1),
		has_function_privilege(`+session.EmitsSQL+`, 'EXECUTE'), `+session.EmitsSQL+`::regprocedure::text,
		EXISTS (SELECT FROM pg_publication p WHERE pubname = $1 AND (puballtables OR EXISTS (SELECT FROM pg_publication_namespace WHERE pnpubid = p.oid))),
		(SELECT rolsuper FROM pg_roles WHERE rolname = current_user)`, c.Publications()[0]).
		Scan(&may, &exists, &messages, &emits, &schemas, &anyTable)
	if err != nil {
		return nil, err
	}
	check := change.Check{Name: "publication", Verdict: change.Good, Found: c.Publications()[0] + " will be made", Why: "it says which tables the server sends"}
	_, err = publication.Exists(ctx, conn, c.Publications()[0], publication.AllChanges)
	var partial *engine.Fault
	if err != nil && !errors.As(err, &partial) {
		return nil, err
	}
	switch {
	case partial != nil:
		check.Verdict, check.Found, check.Fix = change.Missing, partial.Message, partial.Fix
	case exists:
		check.Found = c.Publications()[0] + " is there"
	case c.Publication != "":
		check.Verdict, check.Found = change.Missing, "the publication "+c.Publication+", which the definition names, is not there"
		check.Fix = "CREATE PUBLICATION " + session.Quoted(c.Publication) + " FOR TABLE …"
	case !may:
		check.Verdict, check.Found = change.Missing, "user "+c.Connection.User+" may not make publications in this database"
		check.Fix = "GRANT CREATE ON DATABASE " + session.Quoted(c.Connection.Database) + " TO " + session.Quoted(c.Connection.User)
	}
	// One who may make publications adds tables that are its own; a superuser, or who
	// has the administrator's function, any that the rules choose.
	owns := true
	if !anyTable {
		all, err := catalogue.List(ctx, conn)
		if err != nil {
			return nil, err
		}
		for _, chosen := range publication.Choose(c, all) {
			owns = owns && chosen.All(func(l *catalogue.Listed) bool { return l.Mine })
		}
		if anyTable, err = publication.MayUseFunction(ctx, c, conn); err != nil {
			return nil, err
		}
	}
	later := change.Check{Name: "tables made later", Verdict: change.Good, Found: "a new table that the rules choose is added within " + c.RefreshEvery.String() + ", and then loaded",
		Why: "its rows from before that come as existing ones, not as inserts"}
	switch {
	case schemas:
		later.Found, later.Why = "the publication covers whole schemas: a new table comes through from its first row", "nobody has to add it"
	case c.Publication == "" && !anyTable && owns:
		later.Found = "a new table that the rules choose is added within " + c.RefreshEvery.String() + ", if it belongs to user " + c.Connection.User + " as today's do, or to a role of its; it is then loaded"
	case c.Publication == "" && !anyTable:
		later.Verdict, later.Found = change.Note, "a new table is added only if user "+c.Connection.User+" owns it, or belongs to the role that does"
		later.Fix = "have an administrator run what `rillmark source setup-sql` prints: its function lets the login publish what the rules choose"
	case c.Publication != "":
		later.Verdict, later.Found = change.Note, "an administrator has to add a new table to "+c.Publication+"; then it is loaded"
		later.Fix = "or, as a superuser, CREATE PUBLICATION … FOR TABLES IN SCHEMA …, where every table has a key"
	}
	message := change.Check{Name: "log messages", Verdict: change.Good, Found: "the login may write messages into the log",
		Why: "heartbeats and the marks of a load are such messages; they need no table"}
	if !messages {
		message.Verdict, message.Found = change.Missing, "the login may not write messages into the log"
		message.Fix = "GRANT EXECUTE ON FUNCTION " + emits + " TO " + session.Quoted(c.Connection.User)
	}
	return []change.Check{check, later, message}, nil
}

// maxTableChecks bounds the lines on single tables.
const maxTableChecks = 200

func checkTables(ctx context.Context, c *session.Config, conn *pgx.Conn) ([]change.Check, error) {
	all, err := catalogue.List(ctx, conn)
	if err != nil {
		return nil, err
	}
	published, err := publication.Tables(ctx, conn, c.Publications())
	if err != nil {
		return nil, err
	}
	helped, err := publication.MayUseFunction(ctx, c, conn)
	if err != nil {
		return nil, err
	}
	current, err := publication.FunctionIsOf(ctx, c, conn)
	if err != nil {
		return nil, err
	}
	outdated := helped && !current && c.Publication == ""
	helped = helped && current
	var checks []change.Check
	chosen, good := 0, 0
	for _, l := range all {
		if _, rule := c.Rules.Target(l.Name(), l.Root); rule == nil {
			continue
		}
		chosen++
		lines, err := checkTable(ctx, c, conn, l, published[l.Name()].Place != "", helped && c.Publication == "")
		if err != nil {
			return nil, err
		}
		if len(lines) == 0 {
			good++
		}
		for _, one := range lines {
			if outdated && one.Verdict == change.Missing {
				one.Fix = "have an administrator run what `rillmark source setup-sql` prints again: the function that it made is of other rules"
			}
			if len(checks) < maxTableChecks {
				checks = append(checks, one)
			}
		}
	}
	summary := change.Check{Name: "tables", Verdict: change.Good, Found: fmt.Sprintf("%d of %d tables chosen, %d of them with a key and nothing to mend", chosen, len(all), good)}
	if chosen == 0 {
		rules := make([]string, len(c.Rules))
		for i, rule := range c.Rules {
			rules[i] = rule.Match.String()
		}
		summary.Verdict, summary.Found = change.Missing, fmt.Sprintf("the table rules (%s) choose none of the %d tables", strings.Join(rules, ", "), len(all))
		summary.Fix = "correct the rules; `rillmark source tables` lists what is there"
	}
	return append([]change.Check{summary}, checks...), nil
}

// checkTable is what is to be said of one table that the rules choose. helped
// says that the administrator's function publishes and grants what is missing.
func checkTable(ctx context.Context, c *session.Config, conn *pgx.Conn, l *catalogue.Listed, published, helped bool) ([]change.Check, error) {
	t := l.Describe(c)
	name, rule := c.Rules.Target(l.Name(), l.Root)
	title := "table " + l.Name()
	line := func(verdict change.Verdict, found, why, fix string) []change.Check {
		return []change.Check{{Name: title, Verdict: verdict, Found: found, Why: why, Fix: fix}}
	}
	user := session.Quoted(c.Connection.User)
	switch {
	case l.Foreign:
		return line(change.Note, "a foreign table cannot be captured", t.CannotPublish, ""), nil
	case l.Persistence == "u":
		return line(change.Note, "an unlogged table cannot be captured", "its changes are not in the log", "ALTER TABLE "+l.Sanitized()+" SET LOGGED"), nil
	case !l.Readable && c.Load && !helped:
		return line(change.Missing, "user "+c.Connection.User+" may not read it", "the load reads its rows", "GRANT SELECT ON "+l.Sanitized()+" TO "+user), nil
	case !l.Mine && !published && !helped:
		return line(change.Missing, "not published, and user "+c.Connection.User+" may not publish it", "only a table's owner may add it to a publication",
			"as its owner or a superuser, CREATE PUBLICATION or ALTER PUBLICATION … ADD TABLE "+l.Sanitized()+", and name the publication in the source's definition"), nil
	}
	var lines []change.Check
	layout, err := catalogue.Current(ctx, c, conn, l.OID, name, rule)
	var fault *engine.Fault
	switch {
	case errors.As(err, &fault):
		return line(change.Missing, fault.Message, "capture would stop at its first row", "edit the rule"), nil
	case err != nil:
		return nil, err
	}
	if l.Hides && c.Load {
		lines = append(lines, line(change.Missing, "row-level security hides rows from user "+c.Connection.User, "the load would miss them; the log is not affected", "ALTER ROLE "+user+" BYPASSRLS")...)
	}
	full := "ALTER TABLE " + l.Sanitized() + " REPLICA IDENTITY FULL"
	switch {
	case t.InsertsOnly && len(l.Generated) > 0:
		lines = append(lines, line(change.Note, l.LacksKey()+": updates and deletes will not be captured", "their events could not say which row they are about", full)...)
	case t.InsertsOnly:
		lines = append(lines, line(change.Note, "no key: updates and deletes will not be captured", "the server would refuse the application's updates and deletes on a published table without one",
			"ALTER TABLE "+l.Sanitized()+" ADD PRIMARY KEY (…), or "+full)...)
	case len(layout.Schema.Key()) == 0:
		lines = append(lines, line(change.Note, "no key", "consumers cannot tell two equal rows apart", "ALTER TABLE "+l.Sanitized()+" ADD PRIMARY KEY (…), or name columns as `key` in its rule")...)
	}
	if fault := unseenByLog(rule, l, layout); fault != "" {
		lines = append(lines, line(change.Note, fault, "the log carries the old row's key alone", full)...)
	}
	for _, one := range rule.Columns {
		if one.Treat != rules.Keep && !strings.ContainsAny(one.Match.String(), "*?") && !strings.ContainsAny(rule.Match.String(), "*?") &&
			!slices.ContainsFunc(layout.Raw, func(r catalogue.RawColumn) bool { return r.Name == one.Match.String() }) {
			lines = append(lines, line(change.Missing, fmt.Sprintf("its rule names column %q, which it does not have", one.Match), "a private column of another name would be captured as it is", "correct the name in the rule")...)
		}
	}
	return lines, nil
}

// unseenByLog says what of a rule needs more of the old row than the log carries;
// empty where nothing does.
func unseenByLog(r *rules.Table, l *catalogue.Listed, layout *catalogue.Layout) string {
	if l.Identity == 'f' {
		return ""
	}
	if layout.Filter != nil {
		for _, i := range layout.Filter.Uses() {
			if layout.Raw[i].Key == 0 {
				return fmt.Sprintf("its filter looks at %s, which the log does not carry of old rows: an update of a row that was outside, and stays there, comes as a delete of its key, which is nothing to consumers, and a large value that an update does not touch is read again", layout.Raw[i].Name)
			}
		}
	}
	if r.SkipUntouched {
		return "updates that touch no captured column come through anyway"
	}
	return ""
}
