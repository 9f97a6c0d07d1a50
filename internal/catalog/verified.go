package catalog

import (
	"context"
	"errors"
	"time"

	"rillmark/internal/change"

	"github.com/jackc/pgx/v5"
)

// Verified is what the last comparison of an outlet's tables with the source's has found.
type Verified struct {
	At      time.Time `json:"at" doc:"When the comparison ended"`
	Equal   bool      `json:"equal" doc:"Whether every table was compared and nothing differed"`
	Rows    int64     `json:"rows" doc:"Rows that were compared"`
	Tables  int       `json:"tables"`
	Finding string    `json:"finding,omitempty" doc:"What differed, or why nothing could be compared"`
}

// SetVerified puts on record what a comparison has found.
func (c *Catalog) SetVerified(ctx context.Context, outlet int64, v Verified) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.verified (outlet_id, at, equal, compared_rows, tables, finding) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (outlet_id) DO UPDATE SET at = $2, equal = $3, compared_rows = $4, tables = $5, finding = $6`, outlet, v.At, v.Equal, v.Rows, v.Tables, change.Storable(v.Finding))
	return err
}

// AllVerified is what was found last, by the outlets' numbers.
func (c *Catalog) AllVerified(ctx context.Context) (map[int64]*Verified, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT outlet_id, at, equal, compared_rows, tables, finding FROM rillmark.verified")
	all := make(map[int64]*Verified)
	var outlet int64
	var v Verified
	_, err := pgx.ForEachRow(rows, []any{&outlet, &v.At, &v.Equal, &v.Rows, &v.Tables, &v.Finding}, func() error {
		one := v
		all[outlet] = &one
		return nil
	})
	return all, err
}

// SetComparison keeps how far a comparison of an outlet's tables has come, as the service
// writes it.
func (c *Catalog) SetComparison(ctx context.Context, outlet int64, document []byte) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.comparison (outlet_id, document) VALUES ($1, $2)
		ON CONFLICT (outlet_id) DO UPDATE SET document = $2, updated_at = now()`, outlet, document)
	return err
}

// Comparison is what was kept of a comparison that was not completed; [ErrNotFound] where there
// is none.
func (c *Catalog) Comparison(ctx context.Context, outlet int64) (document []byte, err error) {
	err = c.Pool.QueryRow(ctx, "SELECT document FROM rillmark.comparison WHERE outlet_id = $1", outlet).Scan(&document)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return document, err
}

// EndComparison forgets what was kept of a comparison.
func (c *Catalog) EndComparison(ctx context.Context, outlet int64) error {
	_, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.comparison WHERE outlet_id = $1", outlet)
	return err
}
