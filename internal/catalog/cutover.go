package catalog

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// The states of a cut over.
const (
	CutoverRunning = "running"
	CutoverAborted = "aborted"
	CutoverDone    = "done"
)

// Cutover is what is on record of an outlet's last cut over.
type Cutover struct {
	State string `json:"state" enum:"running,aborted,done" doc:"running: it is under way, or was cut off"`
	// Stopped says that the source's writers are kept out by it, or were about to be.
	Stopped bool       `json:"stopped" doc:"Whether the source's writers are kept out by it"`
	Offset  int64      `json:"offset,omitempty" doc:"The offset at which both sides were equal"`
	BeganAt time.Time  `json:"began_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Cutover reads an outlet's last cut over; nil without one.
func (c *Catalog) Cutover(ctx context.Context, outlet int64) (*Cutover, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT state, stopped, at_offset, began_at, ended_at FROM rillmark.cutover WHERE outlet_id = $1", outlet)
	one, err := pgx.CollectExactlyOneRow(rows, pgx.RowToAddrOfStructByPos[Cutover])
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return one, err
}

// SetCutover puts on record how an outlet's cut over stands.
func (c *Catalog) SetCutover(ctx context.Context, outlet int64, state string, stopped bool, offset int64) error {
	_, err := c.Pool.Exec(ctx, `INSERT INTO rillmark.cutover (outlet_id, state, stopped, at_offset) VALUES ($1, $2, $3, $4)
		ON CONFLICT (outlet_id) DO UPDATE SET state = $2, stopped = $3, at_offset = $4,
			began_at = CASE WHEN $2 = 'running' AND cutover.state <> 'running' THEN now() ELSE cutover.began_at END,
			ended_at = CASE WHEN $2 = 'running' THEN NULL ELSE now() END`, outlet, state, stopped, offset)
	return err
}
