package check

import (
	"context"
	"fmt"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/wire"
)

// tables looks at those that the rules choose.
func tables(ctx context.Context, c *session.Config, conn *wire.Conn) ([]change.Check, error) {
	reader, err := catalogue.NewReader(ctx, conn)
	if err != nil {
		return nil, err
	}
	all, err := reader.List(ctx, "", "")
	if err != nil {
		return nil, err
	}
	var names []string
	for name := range all {
		if c.Rules.For(name) != nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	if len(names) == 0 {
		return []change.Check{{Name: "tables", Verdict: change.Missing, Found: fmt.Sprintf("the rules choose none of the %d tables that user %q may read", len(all), c.User), Why: "nothing would be captured",
			Fix: "GRANT SELECT on the tables to the user, or correct the rules; `rillmark source tables` lists what the login sees"}}, nil
	}
	checks := []change.Check{{Name: "tables", Verdict: change.Good, Found: fmt.Sprintf("the rules choose %d of the %d tables that user %q may read", len(names), len(all), c.User)}}
	for _, name := range names {
		checks = append(checks, table(c, all[name])...)
	}
	cascades, err := reader.Cascades(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range cascades {
		if c.Rules.For(one.Child) == nil {
			continue
		}
		checks = append(checks, change.Check{Name: "table " + one.Child, Verdict: change.Note, Found: fmt.Sprintf("its foreign key %s to %s changes or deletes its rows with the other's (%s)", one.Name, one.Parent, one.Words()),
			Why: "the server does not log such changes: when it may have made some, the table is shown as stale, or loaded anew where its rule says so",
			Fix: "set after_rewrite: reload in the table's rule; or ALTER TABLE " + quoted(one.Child) + " DROP FOREIGN KEY " + wire.Name(one.Name) + ", and have the application delete the rows"})
	}
	return checks, nil
}

func quoted(table string) string {
	database, name, _ := change.SplitTable(table)
	return wire.Name(database) + "." + wire.Name(name)
}

func table(c *session.Config, t *catalogue.Table) []change.Check {
	name := "table " + t.Name()
	var checks []change.Check
	if t.Unfit != "" {
		checks = append(checks, change.Check{Name: name, Verdict: change.Missing, Found: t.Unfit, Why: "its rows cannot be read", Fix: "leave the table out by a rule"})
	}
	if t.ByTransaction {
		checks = append(checks, change.Check{Name: name, Verdict: change.Missing, Found: "it keeps its history by transaction numbers", Why: "the server logs changes of such tables as statements, which do not say which rows they changed", Fix: "leave the table out by a rule, or have it keep its history by time"})
	}
	rule := c.Rules.For(t.Name())
	if len(t.Key()) == 0 && len(rule.Key) == 0 {
		checks = append(checks, change.Check{Name: name, Verdict: change.Note, Found: "it has no key", Why: "consumers cannot tell two equal rows apart, and while it is loaded the log is not read", Fix: "ALTER TABLE " + quoted(t.Name()) + " ADD PRIMARY KEY (...), or name columns as its key in the source's rules"})
	}
	if t.Engine == "MRG_MyISAM" {
		return append(checks, change.Check{Name: name, Verdict: change.Note, Found: "it is a union of other tables (MERGE)", Why: "what is written through it stands in the log as its own rows: MyISAM tables are then shown as stale, since each may be among those that it consists of",
			Fix: "leave it out by a rule, and have applications write to its tables"})
	}
	if !t.Transactional() {
		checks = append(checks, change.Check{Name: name, Verdict: change.Note, Found: "its storage engine is " + t.Engine, Why: "it is loaded under a read lock for each chunk, so that writers wait meanwhile; a failed statement on it may leave rows behind", Fix: "ALTER TABLE " + quoted(t.Name()) + " ENGINE = InnoDB"})
	}
	return checks
}
