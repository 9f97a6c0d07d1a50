package catalog

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// maxSessions bounds the console's sessions; the ones that end first go.
const maxSessions = 1000

// OpenSession keeps a console's session under the hash of its cookie.
func (c *Catalog) OpenSession(ctx context.Context, id []byte, until time.Time) error {
	_, err := c.Pool.Exec(ctx, `WITH ended AS (
			DELETE FROM rillmark.session WHERE until < now() OR id IN (SELECT id FROM rillmark.session ORDER BY until DESC OFFSET $3))
		INSERT INTO rillmark.session VALUES ($1, $2)`, id, until, maxSessions-1)
	if err != nil {
		return fmt.Errorf("keep a session: %w", err)
	}
	return nil
}

// SessionUntil is when a session ends; [ErrNotFound] for one that has ended.
func (c *Catalog) SessionUntil(ctx context.Context, id []byte) (until time.Time, err error) {
	err = c.Pool.QueryRow(ctx, "SELECT until FROM rillmark.session WHERE id = $1 AND until > now()", id).Scan(&until)
	if errors.Is(err, pgx.ErrNoRows) {
		return until, ErrNotFound
	}
	if err != nil {
		err = fmt.Errorf("look for a session: %w", err)
	}
	return until, err
}

// EndSession forgets a session.
func (c *Catalog) EndSession(ctx context.Context, id []byte) error {
	if _, err := c.Pool.Exec(ctx, "DELETE FROM rillmark.session WHERE id = $1", id); err != nil {
		return fmt.Errorf("end a session: %w", err)
	}
	return nil
}
