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

// Free is the first offset after the committed one that no reader has, and the last
// one before the next that somebody has.
func (c *Catalog) Free(ctx context.Context, outlet int64) (from, most int64, err error) {
	err = pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		from, most, err = free(ctx, tx, outlet)
		return err
	})
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return from, most, err
}

func free(ctx context.Context, tx pgx.Tx, outlet int64) (from, most int64, err error) {
	var committed int64
	if err := tx.QueryRow(ctx, "SELECT committed FROM rillmark.outlet_offset WHERE outlet_id = $1 FOR UPDATE", outlet).Scan(&committed); err != nil {
		return 0, 0, err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM rillmark.lease WHERE outlet_id = $1 AND (NOT done AND until < now() OR last_offset <= $2)", outlet, committed); err != nil {
		return 0, 0, err
	}
	rows, _ := tx.Query(ctx, "SELECT first_offset, last_offset FROM rillmark.lease WHERE outlet_id = $1 ORDER BY first_offset", outlet)
	taken, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ First, Last int64 }])
	if err != nil {
		return 0, 0, err
	}
	from, most = committed+1, int64(1<<62)
	for _, t := range taken {
		if t.First > from {
			return from, t.First - 1, nil
		}
		from = max(from, t.Last+1)
	}
	return from, most, nil
}

// Lend hands out the offsets from one that [Catalog.Free] gave to last; nil where
// somebody else has them since. The events are read before, so that no session of
// the state database is held while another one is waited for.
func (c *Catalog) Lend(ctx context.Context, outlet int64, reader string, lasts time.Duration, first, last int64) (*Lease, error) {
	var token [16]byte
	rand.Read(token[:]) // never fails
	lease := &Lease{First: first, Last: last, Token: hex.EncodeToString(token[:]), Reader: reader}
	lent := false
	err := pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		from, most, err := free(ctx, tx, outlet)
		if err != nil || from != first || last > most {
			return err
		}
		lent = true
		return tx.QueryRow(ctx, `INSERT INTO rillmark.lease (outlet_id, first_offset, last_offset, token, reader, until)
			VALUES ($1, $2, $3, $4, $5, now() + $6::interval) RETURNING until`, outlet, first, last, lease.Token, reader, lasts).Scan(&lease.Until)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil || !lent {
		return nil, err
	}
	return lease, nil
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
