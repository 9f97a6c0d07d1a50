package catalog

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Lease is a run of an outlet's offsets that one reader has been handed.
type Lease struct {
	First, Last int64
	Token       string
	Reader      string
	Until       time.Time
	Done        bool
}

// Lend hands out the first offsets after the committed one that nobody has: read
// is asked for events from an offset on and not beyond another, and says up to
// which offset it has gone; below its first one there was nothing to read.
func (c *Catalog) Lend(ctx context.Context, outlet int64, reader string, lasts time.Duration, read func(from, most int64) (last int64, err error)) (*Lease, error) {
	var token [16]byte
	rand.Read(token[:]) //nolint:errcheck // never fails
	lease := &Lease{Token: hex.EncodeToString(token[:]), Reader: reader}
	err := pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		var committed int64
		if err := tx.QueryRow(ctx, "SELECT committed FROM rillmark.outlet_offset WHERE outlet_id = $1 FOR UPDATE", outlet).Scan(&committed); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM rillmark.lease WHERE outlet_id = $1 AND (NOT done AND until < now() OR last_offset <= $2)", outlet, committed); err != nil {
			return err
		}
		rows, _ := tx.Query(ctx, "SELECT first_offset, last_offset FROM rillmark.lease WHERE outlet_id = $1 ORDER BY first_offset", outlet)
		taken, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ First, Last int64 }])
		if err != nil {
			return err
		}
		from, most := committed+1, int64(1<<62)
		for _, t := range taken {
			if t.First > from {
				most = t.First - 1
				break
			}
			from = max(from, t.Last+1)
		}
		last, err := read(from, most)
		if err != nil || last < from {
			lease.First, lease.Last = from, from-1
			return err
		}
		lease.First, lease.Last = from, last
		return tx.QueryRow(ctx, `INSERT INTO rillmark.lease (outlet_id, first_offset, last_offset, token, reader, until)
			VALUES ($1, $2, $3, $4, $5, now() + $6::interval) RETURNING until`, outlet, from, last, lease.Token, reader, lasts).Scan(&lease.Until)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return lease, err
}

// EndLease says that a lease's events are dealt with, and moves the committed
// offset as far as all before it are, too.
func (c *Catalog) EndLease(ctx context.Context, outlet int64, token string, events int64) (committed int64, err error) {
	err = pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT committed FROM rillmark.outlet_offset WHERE outlet_id = $1 FOR UPDATE", outlet).Scan(&committed); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "UPDATE rillmark.lease SET done = true WHERE outlet_id = $1 AND token = $2 AND (done OR until >= now())", outlet, token)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrVersion
		}
		rows, _ := tx.Query(ctx, "SELECT first_offset, last_offset FROM rillmark.lease WHERE outlet_id = $1 AND done ORDER BY first_offset", outlet)
		done, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ First, Last int64 }])
		if err != nil {
			return err
		}
		for _, d := range done {
			if d.First > committed+1 {
				break
			}
			committed = max(committed, d.Last)
		}
		if _, err := tx.Exec(ctx, "DELETE FROM rillmark.lease WHERE outlet_id = $1 AND last_offset <= $2", outlet, committed); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE rillmark.outlet_offset SET committed = greatest(committed, $2), delivered = delivered + $3, committed_at = now() WHERE outlet_id = $1", outlet, committed, events)
		return err
	})
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return committed, err
}

// ExtendLease gives a reader more time.
func (c *Catalog) ExtendLease(ctx context.Context, outlet int64, token string, lasts time.Duration) (until time.Time, err error) {
	err = c.Pool.QueryRow(ctx, "UPDATE rillmark.lease SET until = now() + $3::interval WHERE outlet_id = $1 AND token = $2 AND NOT done AND until >= now() RETURNING until", outlet, token, lasts).Scan(&until)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrVersion
	}
	return until, err
}

// GiveBackLease lets others have a lease's events at once.
func (c *Catalog) GiveBackLease(ctx context.Context, outlet int64, token string) error {
	tag, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.lease WHERE outlet_id = $1 AND token = $2 AND NOT done", outlet, token)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrVersion
	}
	return err
}
