package catalog

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Offset is how far an outlet is.
type Offset struct {
	// Committed is the newest offset that was delivered; 0 before the first.
	Committed int64
	// Run counts the outlet's rewinds, from 1.
	Run         int
	Delivered   int64 // events that went out, repeats included
	CommittedAt time.Time
	// Until is where an outlet ends that runs once; 0 for one that goes on.
	Until int64
}

// Offset reads how far an outlet is.
func (c *Catalog) Offset(ctx context.Context, outlet int64) (Offset, error) {
	var o Offset
	err := c.Pool.QueryRow(ctx, "SELECT committed, run, delivered, committed_at, coalesce(until, 0) FROM rillmark.outlet_offset WHERE outlet_id = $1", outlet).
		Scan(&o.Committed, &o.Run, &o.Delivered, &o.CommittedAt, &o.Until)
	if errors.Is(err, pgx.ErrNoRows) {
		return o, ErrNotFound
	}
	return o, err
}

const commitSQL = `UPDATE rillmark.outlet_offset SET committed = greatest(committed, $3), delivered = delivered + $4, committed_at = now()
	WHERE outlet_id = $1 AND run = $2`

// Commit moves an outlet's committed offset forward within its run, and counts
// what was delivered. An offset at or below the committed one changes nothing
// but the count; a run that is over is [ErrVersion].
func (c *Catalog) Commit(ctx context.Context, outlet int64, run int, committed, delivered int64) error {
	tag, err := c.Pool.Exec(ctx, commitSQL, outlet, run, committed, delivered)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrVersion
	}
	return err
}

// Rewind sets an outlet's committed offset, back or forward, and begins a new run.
func (c *Catalog) Rewind(ctx context.Context, outlet, committed int64) error {
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET committed = $2, run = run + 1, committed_at = now() WHERE outlet_id = $1", outlet, committed)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SetUntil says where an outlet ends that runs once; 0 lets it go on.
func (c *Catalog) SetUntil(ctx context.Context, outlet, until int64) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark.outlet_offset SET until = nullif($2, 0) WHERE outlet_id = $1", outlet, until)
	return err
}

// Hold is the right to deliver an outlet, which one instance has at a time: a
// lock of the session that also commits the outlet's offsets, so that whoever
// has lost the lock can commit nothing.
type Hold struct {
	conn   *pgx.Conn
	outlet int64
}

// holdClass keeps outlets' advisory locks apart from those of journals.
const holdClass = 0x6f75746c

// ErrHeld says that another instance delivers an outlet.
var ErrHeld = errors.New("another instance delivers this outlet")

// HoldOutlet takes the right to deliver an outlet; [ErrHeld] where another
// instance has it.
func (c *Catalog) HoldOutlet(ctx context.Context, outlet int64) (*Hold, error) {
	config := c.Pool.Config().ConnConfig.Copy()
	config.RuntimeParams["application_name"] = "rillmark outlet"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	h := &Hold{conn, outlet}
	var held bool
	err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1, $2)", holdClass, int32(outlet)).Scan(&held)
	if err == nil && !held {
		err = ErrHeld
	}
	if err != nil {
		h.Release()
		return nil, err
	}
	return h, nil
}

// Commit moves the outlet's committed offset; see [Catalog.Commit].
func (h *Hold) Commit(ctx context.Context, run int, committed, delivered int64) error {
	tag, err := h.conn.Exec(ctx, commitSQL, h.outlet, run, committed, delivered)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrVersion
	}
	return err
}

// Release lets another instance deliver the outlet.
func (h *Hold) Release() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	h.conn.Close(ctx) //nolint:errcheck // the server ends the session all the same
}
