package postgresql

import (
	"context"
	"fmt"

	"rillmark/internal/destination/sql"
	"rillmark/internal/engine"
)

// fit refuses an existing table that would not keep rows as they are written: it would seem to
// work, and lose some without an error. Triggers and rules that somebody has set to act on an
// outlet's rows are only noted.
func (d *database) fit(ctx context.Context, t *sql.Table, oid uint32) error {
	var unlogged, parent, hides bool
	var acting string
	err := d.conn.QueryRow(ctx, `SELECT relpersistence = 'u' OR EXISTS (SELECT FROM pg_partition_tree(oid) p JOIN pg_class leaf ON leaf.oid = p.relid WHERE leaf.relpersistence = 'u'),
			relkind = 'r' AND EXISTS (SELECT FROM pg_inherits WHERE inhparent = c.oid), relrowsecurity AND row_security_active(oid),
			coalesce((SELECT string_agg(act, ', ' ORDER BY act) FROM (SELECT 'trigger ' || tgname AS act FROM pg_trigger WHERE tgrelid = c.oid AND NOT tgisinternal AND tgenabled IN ('A', 'R')
				UNION ALL SELECT 'rule ' || rulename FROM pg_rewrite WHERE ev_class = c.oid AND ev_enabled IN ('A', 'R')) acts), '')
		FROM pg_class c WHERE oid = $1`, oid).Scan(&unlogged, &parent, &hides, &acting)
	if err != nil {
		return err
	}
	resume := "; then `rillmark outlet resume " + d.outlet.Name + "`"
	switch {
	case unlogged:
		return &engine.Fault{Code: "unlogged", Final: true, Message: t.SQL + " is unlogged: the server empties it when it breaks down, and the outlet's offset stays", Fix: "ALTER TABLE " + t.SQL + " SET LOGGED" + resume}
	case parent:
		return &engine.Fault{Code: "has-children", Final: true, Message: "other tables inherit from " + t.SQL + ": what is written there would act on their rows, too", Fix: "give the outlet another name for " + t.Source + ", or take the inheritance away" + resume}
	case hides:
		return &engine.Fault{Code: "not-allowed", Final: true, Message: "row-level security hides rows of " + t.SQL + " from the user, or keeps it from writing some", Fix: fmt.Sprintf("as superuser: ALTER ROLE %s BYPASSRLS", d.quotedUser()) + resume}
	}
	if acting != "" {
		t.Notes = append(t.Notes, "what acts on each row acts on the outlet's, too ("+acting+"): rows may differ from the source's")
	}
	return nil
}
