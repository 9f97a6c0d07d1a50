package catalog

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Delivery is one time that an event was delivered: each run of an outlet delivers it once.
type Delivery struct {
	Run int `json:"run" doc:"The outlet's run: it counts rewinds"`
	// After is when the outlet was known to be before the event; nil where that is not known.
	After *time.Time `json:"after,omitempty" doc:"When the outlet was known to be before the event"`
	By    time.Time  `json:"by" doc:"When the outlet was known to be past it"`
}

// NoteDelivered puts on record how far the outlets are that have moved since the last time.
func (c *Catalog) NoteDelivered(ctx context.Context) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.delivered (outlet_id, at, run, committed)
		SELECT o.outlet_id, o.committed_at, o.run, o.committed FROM rillmark.outlet_offset o
			LEFT JOIN LATERAL (SELECT d.run, d.committed FROM rillmark.delivered d WHERE d.outlet_id = o.outlet_id ORDER BY d.at DESC LIMIT 1) last ON true
		WHERE o.committed > 0 AND (last.run IS NULL OR last.run <> o.run OR last.committed <> o.committed)
		ON CONFLICT DO NOTHING`)
	return err
}

// ForgetDelivered forgets what is older.
func (c *Catalog) ForgetDelivered(ctx context.Context, age time.Duration) error {
	_, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.delivered WHERE at < now() - $1::interval", age)
	return err
}

// Deliveries are the times that an outlet has gone past an offset, as far as they are on record,
// the oldest first.
func (c *Catalog) Deliveries(ctx context.Context, outlet, offset int64) ([]Delivery, error) {
	rows, _ := c.Pool.Query(ctx, `SELECT run, earlier, at FROM (SELECT run, at, committed, lag(committed) OVER (PARTITION BY run ORDER BY at) AS was, lag(at) OVER (PARTITION BY run ORDER BY at) AS earlier
			FROM rillmark.delivered WHERE outlet_id = $1) d
		WHERE committed >= $2 AND (was < $2 OR was IS NULL) ORDER BY at`, outlet, offset)
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Delivery])
}
