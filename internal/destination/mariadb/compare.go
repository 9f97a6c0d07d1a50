package mariadb

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/mariadb/compared"
	"rillmark/internal/verify"
)

var _ interface {
	destination.Comparer
	destination.Redefiner
} = (*Destination)(nil)

// CompareRows implements [destination.Comparer].
func (d *Destination) CompareRows(ctx context.Context, table string, source *change.Schema) (verify.Side, error) {
	kept, err := d.options.Kept()
	if err != nil {
		return nil, err
	}
	schema, name, err := d.options.Place(table, longestName)
	if err != nil {
		return nil, err
	}
	where := ""
	switch kept(table) {
	case sql.Flagged:
		where = "NOT " + sql.Deleted
	case sql.Versions:
		where = sql.Until + " = '" + infinity + "'"
	case sql.Current:
	}
	conn, err := d.connect(ctx, "rillmark verify")
	if err != nil {
		return nil, err
	}
	if err := conn.Exec(ctx, "SET character_set_results = NULL, sql_mode = ''"); err != nil {
		conn.Close()
		return nil, explained(err)
	}
	rows, err := compared.Open(ctx, conn, compared.Options{Table: change.TableName(schema, name), Rule: sql.RuleOf(source), Largest: 1 << 30, Where: where})
	if err != nil {
		return nil, sql.CannotCompare(table, err)
	}
	return rows, nil
}

// PlanRedefinition implements [destination.Redefiner].
func (d *Destination) PlanRedefinition(ctx context.Context, c destination.Redefinition) ([]string, error) {
	conn, err := d.connect(ctx, "rillmark impact")
	if err != nil {
		return nil, err
	}
	db := &database{Destination: d, conn: conn}
	if err := db.prepare(ctx); err != nil {
		db.Close() //nolint:errcheck // the first error is the one to report
		return nil, explained(err)
	}
	return sql.Plan(ctx, db, &d.options.Options, c)
}

// CheckTables implements [destination.TableChecker].
func (d *Destination) CheckTables(ctx context.Context, o destination.Outlet, versions []*change.Schema) []change.Check {
	conn, err := d.connect(ctx, "rillmark check")
	if err != nil {
		return nil // the check says it
	}
	db := &database{Destination: d, conn: conn, outlet: o}
	if err := db.prepare(ctx); err != nil {
		db.Close() //nolint:errcheck // it was only asked
		return nil
	}
	return sql.Inspect(ctx, db, &d.options.Options, o, versions)
}
