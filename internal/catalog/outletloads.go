package catalog

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// OutletLoad is a load of a table for one outlet alone that is not done yet.
type OutletLoad struct {
	Outlet, Source       int64
	OutletName, SourceOf string
	Table                string
	Condition            string // in the source's own SQL; empty for all rows
	Begun                bool   // capture has taken it on
}

// AskOutletLoad puts on record that tables are to be loaded for an outlet, each under the
// condition; what is on record already stays as it is.
func (c *Catalog) AskOutletLoad(ctx context.Context, outlet int64, tables []string, condition string) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.outlet_load (outlet_id, table_name, condition) SELECT $1, unnest($2::text[]), $3 ON CONFLICT DO NOTHING`, outlet, tables, condition)
	return err
}

// mostRowLoads is how many loads of rows by their keys wait for a table of an outlet; beyond
// it, all rows are read.
const mostRowLoads = 40

// AskOutletRows is [Catalog.AskOutletLoad] for rows that each of some conditions names. Where
// too many of them wait, one load of all rows comes in their place.
func (c *Catalog) AskOutletRows(ctx context.Context, outlet int64, table string, conditions []string) error {
	return pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		var waiting int
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM rillmark.outlet_load WHERE outlet_id = $1 AND table_name = $2 AND NOT begun", outlet, table).Scan(&waiting); err != nil {
			return err
		}
		if waiting+len(conditions) > mostRowLoads {
			if _, err := tx.Exec(ctx, "DELETE FROM rillmark.outlet_load WHERE outlet_id = $1 AND table_name = $2 AND NOT begun", outlet, table); err != nil {
				return err
			}
			conditions = []string{""}
		}
		// A load that has begun may have read the rows already: it is made once more.
		_, err := tx.Exec(ctx, `INSERT INTO rillmark.outlet_load (outlet_id, table_name, condition) SELECT $1, $2, unnest($3::text[])
			ON CONFLICT (outlet_id, table_name, md5(condition)) DO UPDATE SET again = outlet_load.begun`, outlet, table, conditions)
		return err
	})
}

// OutletLoads are those that are not done, oldest first.
func (c *Catalog) OutletLoads(ctx context.Context) ([]OutletLoad, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT l.outlet_id, o.source_id, o.name, s.name, l.table_name, l.condition, l.begun
		FROM rillmark.outlet_load l JOIN rillmark.outlet o ON o.id = l.outlet_id JOIN rillmark.source s ON s.id = o.source_id ORDER BY l.asked_at, l.outlet_id, l.table_name`)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[OutletLoad])
}

// OutletLoadBegun puts on record that capture has taken a load on.
func (c *Catalog) OutletLoadBegun(ctx context.Context, l *OutletLoad) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_load SET begun = true WHERE outlet_id = $1 AND table_name = $2 AND condition = $3", l.Outlet, l.Table, l.Condition)
	return err
}

// EndOutletLoad takes a load off the record, or has it begin again where it was asked for
// meanwhile.
func (c *Catalog) EndOutletLoad(ctx context.Context, l *OutletLoad) error {
	_, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.outlet_load WHERE outlet_id = $1 AND table_name = $2 AND condition = $3 AND NOT again", l.Outlet, l.Table, l.Condition)
	if err == nil {
		_, err = c.Pool.Exec(ctx, "UPDATE rillmark.outlet_load SET begun = false, again = false WHERE outlet_id = $1 AND table_name = $2 AND condition = $3 AND again", l.Outlet, l.Table, l.Condition)
	}
	if err == nil && l.Begun && l.Condition == "" {
		err = c.SetProven(ctx, l.Outlet, []string{l.Table}) // all of its rows come anew
	}
	return err
}

// AskedReload is a reload of a table that was asked of an instance that does not capture
// its source, or, where Dropped is an outlet's id, the end of the load for that outlet, which is
// no more.
type AskedReload struct {
	Source           int64
	SourceOf         string
	Table, Condition string
	Dropped          int64
	OutletName       string
}

// AskReload puts on record that the instance that captures a source is to reload a table.
func (c *Catalog) AskReload(ctx context.Context, source int64, table, condition string) error {
	_, err := c.Pool.Exec(ctx, "INSERT INTO rillmark.reload (source_id, table_name, condition) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", source, table, condition)
	return err
}

// AskDrop puts on record that the instance that captures a source is to end a load that is under
// way for an outlet that is no more.
func (c *Catalog) AskDrop(ctx context.Context, l *OutletLoad) error {
	_, err := c.Pool.Exec(ctx, "INSERT INTO rillmark.reload (source_id, table_name, condition, dropped_outlet, outlet_name) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING", l.Source, l.Table, l.Condition, l.Outlet, l.OutletName)
	return err
}

// AskedReloads are those that no instance has taken on yet, oldest first.
func (c *Catalog) AskedReloads(ctx context.Context) ([]AskedReload, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT r.source_id, s.name, r.table_name, r.condition, r.dropped_outlet, r.outlet_name
		FROM rillmark.reload r JOIN rillmark.source s ON s.id = r.source_id ORDER BY r.asked_at, r.table_name`)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[AskedReload])
}

// EndAskedReload takes one off the record.
func (c *Catalog) EndAskedReload(ctx context.Context, r *AskedReload) error {
	_, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.reload WHERE source_id = $1 AND table_name = $2 AND condition = $3 AND dropped_outlet = $4", r.Source, r.Table, r.Condition, r.Dropped)
	return err
}
