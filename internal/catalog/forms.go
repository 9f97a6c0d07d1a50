package catalog

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/definition"
)

// Forms lists all shared forms by name.
func (c *Catalog) Forms(ctx context.Context) ([]*Form, error) {
	return list[definition.Form](ctx, c, forms)
}

// Form finds one by name.
func (c *Catalog) Form(ctx context.Context, name string) (*Form, error) {
	return get[definition.Form](ctx, c, forms, name)
}

// AddForm stores a shared form.
func (c *Catalog) AddForm(ctx context.Context, name string, d definition.Form) error {
	_, err := c.Pool.Exec(ctx, "INSERT INTO rillmark.form (name, definition) VALUES ($1, $2)", name, asJSON(d))
	return translate(err)
}

// EditForm stores a new definition where version is still the newest. The outlets that use the
// form get a new version with it, so that each instance goes on with the new form.
func (c *Catalog) EditForm(ctx context.Context, name string, version int64, d definition.Form) error {
	tag, err := c.Pool.Exec(ctx, `WITH edited AS (
			UPDATE rillmark.form SET definition = $3, version = version + 1, updated_at = now() WHERE name = $1 AND version = $2 RETURNING name
		), using_it AS (
			UPDATE rillmark.outlet SET version = version + 1, updated_at = now() FROM edited WHERE outlet.definition->'forms' ? edited.name
		) SELECT FROM edited`, name, version, asJSON(d))
	if err != nil || tag.RowsAffected() > 0 {
		return translate(err)
	}
	if _, err := c.Form(ctx, name); err != nil {
		return err
	}
	return ErrVersion
}

// RemoveForm forgets a form that no outlet uses.
func (c *Catalog) RemoveForm(ctx context.Context, name string) error {
	var used bool
	err := c.Pool.QueryRow(ctx, `WITH gone AS (
			DELETE FROM rillmark.form WHERE name = $1 AND NOT EXISTS (SELECT FROM rillmark.outlet WHERE definition->'forms' ? $1) RETURNING name
		) SELECT EXISTS (SELECT FROM rillmark.outlet WHERE definition->'forms' ? $1) FROM rillmark.form WHERE name = $1`, name).Scan(&used)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return ErrNotFound
	case err == nil && used:
		return ErrInUse
	}
	return err
}
