package postgresql

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/postgres/compared"
	"rillmark/internal/postgres/session"
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
		where = sql.Until + " = 'infinity'"
	case sql.Current:
	}
	conn, err := d.connect(ctx, "rillmark verify")
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, "SET extra_float_digits = 3; SET bytea_output = hex"); err != nil {
		conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // the first error is the one to tell
		return nil, explained(err)
	}
	c := &session.Config{}
	c.Defaults()
	c.LargestValue = 1 << 30
	rows, err := compared.Open(ctx, c, conn, change.TableName(schema, name), sql.RuleOf(source), where)
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
	return sql.Plan(ctx, &database{Destination: d, conn: conn}, &d.options.Options, c)
}

// CheckTables implements [destination.TableChecker].
func (d *Destination) CheckTables(ctx context.Context, o destination.Outlet, versions []*change.Schema) []change.Check {
	conn, err := d.connect(ctx, "rillmark check")
	if err != nil {
		return nil // the check says it
	}
	return sql.Inspect(ctx, &database{Destination: d, conn: conn, outlet: o}, &d.options.Options, o, versions)
}
