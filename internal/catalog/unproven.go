package catalog

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Unproven is a table in a database that an earlier version may have left wrong.
type Unproven struct {
	Table, Why string
}

// AllUnproven are those that nothing has proved or mended yet, by the outlets' numbers. They are
// found once, when the state database is carried over from such a version.
func (c *Catalog) AllUnproven(ctx context.Context) (map[int64][]Unproven, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT outlet_id, table_name, why FROM rillmark.unproven ORDER BY outlet_id, table_name")
	all := make(map[int64][]Unproven)
	var outlet int64
	var u Unproven
	_, err := pgx.ForEachRow(rows, []any{&outlet, &u.Table, &u.Why}, func() error {
		all[outlet] = append(all[outlet], u)
		return nil
	})
	return all, err
}

// SetProven takes tables of an outlet off the record of those: they are equal, or all of their rows
// come anew.
func (c *Catalog) SetProven(ctx context.Context, outlet int64, tables []string) error {
	_, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.unproven WHERE outlet_id = $1 AND table_name = ANY ($2)", outlet, tables)
	return err
}
