// Package catalog keeps the records of one Rillmark in its state database:
// sources, destinations, outlets and their offsets, tables' states, schema
// versions, and the log of the run.
package catalog

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/settings"
)

// The errors that a caller answers in its own way.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("the name is taken")
	ErrVersion  = errors.New("somebody else has changed it meanwhile")
	ErrInUse    = errors.New("it is in use")
)

// Catalog is the state database's records. It is safe for several goroutines.
type Catalog struct {
	Pool    *pgxpool.Pool
	Keeper  *Keeper
	schemas schemaCache
}

// New keeps records in the database behind pool, which must be migrated.
func New(pool *pgxpool.Pool, keeper *Keeper) *Catalog {
	return &Catalog{Pool: pool, Keeper: keeper}
}

// Record is a definition with what is kept beside it.
type Record[D any] struct {
	ID         int64
	Name       string
	Definition D
	Version    int64
	// Running is what somebody asked for; Reason says why, in their words.
	Running bool
	Reason  string
	// Once is set while a source runs that ends when it has caught up; Ended once a
	// source has been paused by that, or by having loaded all.
	Once, Ended bool
	CreatedAt   time.Time
	UpdatedAt   time.Time
	// Broken is why the stored definition cannot be read; nil where it can.
	Broken error
}

// kind is one of the tables of records.
type kind string

const (
	sources      kind = "source"
	destinations kind = "destination"
	outlets      kind = "outlet"
	forms        kind = "form"
)

// Source, Destination, Outlet and Form are the records.
type (
	Source      = Record[definition.Source]
	Destination = Record[definition.Destination]
	Outlet      = Record[definition.Outlet]
	Form        = Record[definition.Form]
)

func columns(k kind) string {
	switch k {
	case destinations, forms:
		return "id, name, definition, version, false, '', false, false, created_at, updated_at"
	case sources:
		return "id, name, definition, version, running, reason, once, ended, created_at, updated_at"
	default:
		return "id, name, definition, version, running, reason, false, false, created_at, updated_at"
	}
}

func scan[D any](row pgx.CollectableRow) (*Record[D], error) {
	r := new(Record[D])
	var raw []byte
	if err := row.Scan(&r.ID, &r.Name, &raw, &r.Version, &r.Running, &r.Reason, &r.Once, &r.Ended, &r.CreatedAt, &r.UpdatedAt); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &r.Definition); err != nil {
		r.Broken = &engine.Fault{Code: "invalid-definition", Message: fmt.Sprintf("the stored definition of %s cannot be read", r.Name), Cause: err,
			Fix: "put another one in its place with edit, or remove it; a later version may have written it"}
	}
	return r, nil
}

func list[D any](ctx context.Context, c *Catalog, k kind) ([]*Record[D], error) {
	rows, _ := c.Pool.Query(ctx, "SELECT "+columns(k)+" FROM rillmark."+string(k)+" ORDER BY name")
	return pgx.CollectRows(rows, scan[D])
}

func get[D any](ctx context.Context, c *Catalog, k kind, name string) (*Record[D], error) {
	rows, _ := c.Pool.Query(ctx, "SELECT "+columns(k)+" FROM rillmark."+string(k)+" WHERE name = $1", name)
	r, err := pgx.CollectExactlyOneRow(rows, scan[D])
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, ErrNotFound
	}
	return r, err
}

// Sources lists all sources by name.
func (c *Catalog) Sources(ctx context.Context) ([]*Source, error) {
	return list[definition.Source](ctx, c, sources)
}

// Source finds one by name.
func (c *Catalog) Source(ctx context.Context, name string) (*Source, error) {
	return get[definition.Source](ctx, c, sources, name)
}

// Destinations lists all destinations by name.
func (c *Catalog) Destinations(ctx context.Context) ([]*Destination, error) {
	return list[definition.Destination](ctx, c, destinations)
}

// Destination finds one by name.
func (c *Catalog) Destination(ctx context.Context, name string) (*Destination, error) {
	return get[definition.Destination](ctx, c, destinations, name)
}

// Outlets lists all outlets by name.
func (c *Catalog) Outlets(ctx context.Context) ([]*Outlet, error) {
	return list[definition.Outlet](ctx, c, outlets)
}

// Outlet finds one by name.
func (c *Catalog) Outlet(ctx context.Context, name string) (*Outlet, error) {
	return get[definition.Outlet](ctx, c, outlets, name)
}

// AddSource stores a source, paused, with an empty journal of the name's next
// generation; its password is sealed on the way.
func (c *Catalog) AddSource(ctx context.Context, name string, d definition.Source) error {
	d = d.Clone()
	if err := c.sealNew("source/"+name, &d); err != nil {
		return err
	}
	_, err := c.Pool.Exec(ctx, `WITH one AS (
			INSERT INTO rillmark.source (name, definition, reason) VALUES ($1, $2, 'not started yet') RETURNING id
		), next AS (
			INSERT INTO rillmark.source_generation AS g (name, generation) VALUES ($1, 1)
			ON CONFLICT (name) DO UPDATE SET generation = g.generation + 1 RETURNING generation)
		INSERT INTO rillmark.journal_head (source_id, generation) SELECT one.id, next.generation FROM one, next`, name, asJSON(d))
	return translate(err)
}

// AddDestination stores a destination; its secrets are sealed on the way.
func (c *Catalog) AddDestination(ctx context.Context, name string, d definition.Destination) error {
	d = d.Clone()
	if err := c.sealNew("destination/"+name, &d); err != nil {
		return err
	}
	_, err := c.Pool.Exec(ctx, "INSERT INTO rillmark.destination (name, definition) VALUES ($1, $2)", name, asJSON(d))
	return translate(err)
}

// AddOutlet stores an outlet, running, that has delivered up to committed.
func (c *Catalog) AddOutlet(ctx context.Context, name string, d definition.Outlet, source int64, destination *int64, committed int64, running bool) error {
	_, err := c.Pool.Exec(ctx, `WITH one AS (
			INSERT INTO rillmark.outlet (name, source_id, destination_id, definition, running) VALUES ($1, $2, $3, $4, $6) RETURNING id)
		INSERT INTO rillmark.outlet_offset (outlet_id, committed) SELECT id, $5 FROM one`, name, source, destination, asJSON(d), committed, running)
	return translate(err)
}

// EditSource stores a new definition where version is still the newest. A
// password of [Sealed] leaves the old one.
func (c *Catalog) EditSource(ctx context.Context, name string, version int64, d definition.Source) error {
	d = d.Clone()
	if err := c.unsealSource(ctx, name, &d, false); err != nil {
		return err
	}
	c.sealRest("source/"+name, &d)
	return c.edit(ctx, sources, name, version, d)
}

// sealNew seals the secrets of an object that has none yet.
func (c *Catalog) sealNew(object string, d secretive) error {
	if err := given(d); err != nil {
		return err
	}
	var err error
	d.EachSecret(func(name, secret string) string {
		if secret == Sealed && err == nil {
			err = notKept(name)
		}
		return c.Keeper.seal(object+"/"+name, secret)
	})
	return err
}

// sealRest seals what is not yet: what is came from the record.
func (c *Catalog) sealRest(object string, d secretive) {
	d.EachSecret(func(name, secret string) string {
		if strings.HasPrefix(secret, anySealed) {
			return secret
		}
		return c.Keeper.seal(object+"/"+name, secret)
	})
}

// given refuses secrets that look like what is kept: nobody but the service makes those.
func given(d secretive) (err error) {
	d.EachSecret(func(name, secret string) string {
		if strings.HasPrefix(secret, anySealed) && err == nil {
			err = settings.Wrong(name, "a text that begins with %q is what the service keeps of a secret: give the secret itself, or %s to leave the stored one as it is", anySealed, Sealed)
		}
		return secret
	})
	return err
}

func notKept(name string) error {
	return settings.Wrong(name, "%s stands for a stored secret, and there is none here: give the secret itself, or a reference to it", Sealed)
}

// secretive is a definition with secrets.
type secretive interface {
	EachSecret(change func(name, secret string) string)
	Reaches() string
}

// unsealed puts the stored secrets of a definition in the places where d has [Sealed].
// Those that are shown to where the definition leads stay away from another place: for
// them moved is the error.
func unsealed(d, stored secretive, shown func(name string) bool, moved error) error {
	known := make(map[string]string)
	stored.EachSecret(func(name, secret string) string {
		known[name] = secret
		return secret
	})
	var err error
	d.EachSecret(func(name, secret string) string {
		if secret != Sealed {
			return secret
		}
		switch {
		case known[name] == "":
			err = notKept(name)
		case shown(name) && stored.Reaches() != d.Reaches():
			err = moved
		}
		return known[name]
	})
	return err
}

// hasSealed says whether one of the secrets is [Sealed].
func hasSealed(d secretive) bool {
	found := false
	d.EachSecret(func(_, secret string) string {
		found = found || secret == Sealed
		return secret
	})
	return found
}

// Unseal puts the stored secrets of a source in the places where d has [Sealed], to be used at once:
// none of them goes anywhere but where the stored definition leads.
func (c *Catalog) Unseal(ctx context.Context, name string, d *definition.Source) error {
	return c.unsealSource(ctx, name, d, true)
}

func (c *Catalog) unsealSource(ctx context.Context, name string, d *definition.Source, atOnce bool) error {
	if err := given(d); err != nil || !hasSealed(d) {
		return err
	}
	old, err := c.Source(ctx, name)
	if errors.Is(err, ErrNotFound) {
		return sealedNowhere(d)
	}
	if err != nil {
		return err
	}
	return unsealed(d, &old.Definition, func(secret string) bool { return atOnce || strings.HasPrefix(secret, "connection.") },
		settings.Wrong("connection.password", "host, port, user or TLS are others than before: give the secrets anew, so that the stored ones do not go where they were not meant for"))
}

// sealedNowhere is the error of a definition that stands for none that is stored.
func sealedNowhere(d secretive) (err error) {
	d.EachSecret(func(name, secret string) string {
		if secret == Sealed && err == nil {
			err = notKept(name)
		}
		return secret
	})
	return err
}

// EditDestination stores a new definition where version is still the newest. A
// secret of [Sealed] leaves the old one.
func (c *Catalog) EditDestination(ctx context.Context, name string, version int64, d definition.Destination) error {
	d = d.Clone()
	if err := c.UnsealDestination(ctx, name, &d); err != nil {
		return err
	}
	c.sealRest("destination/"+name, &d)
	return c.edit(ctx, destinations, name, version, d)
}

// UnsealDestination puts the stored secrets of a destination in the places where
// d has [Sealed].
func (c *Catalog) UnsealDestination(ctx context.Context, name string, d *definition.Destination) error {
	if err := given(d); err != nil || !hasSealed(d) {
		return err
	}
	old, err := c.Destination(ctx, name)
	if errors.Is(err, ErrNotFound) {
		return sealedNowhere(d)
	}
	if err != nil {
		return err
	}
	return unsealed(d, &old.Definition, func(string) bool { return true },
		settings.Wrong(d.Kind, "address, user or TLS are others than before: give the secrets anew, so that the stored ones do not go where they were not meant for"))
}

// SealAnew seals what an earlier version stored in the clear, headers whose names look like secrets,
// or in a form that was bound to no place. What cannot be opened stays as it is: it is said where it
// is used.
func (c *Catalog) SealAnew(ctx context.Context) error {
	all, err := c.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		d := r.Definition.Clone()
		if r.Broken == nil && c.sealAnew("destination/"+r.Name, &d) {
			if err := c.replace(ctx, destinations, r.ID, r.Version, asJSON(d)); err != nil {
				return err
			}
		}
	}
	named, err := c.Sources(ctx)
	if err != nil {
		return err
	}
	for _, r := range named {
		d := r.Definition.Clone()
		if r.Broken == nil && c.sealAnew("source/"+r.Name, &d) {
			if err := c.replace(ctx, sources, r.ID, r.Version, asJSON(d)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *Catalog) sealAnew(object string, d secretive) (changed bool) {
	d.EachSecret(func(name, secret string) string {
		sealed, err := c.Keeper.resealed(object+"/"+name, secret)
		changed = changed || err == nil && sealed != secret
		return sealed
	})
	return changed
}

// replace stores a definition that says the same in another form.
func (c *Catalog) replace(ctx context.Context, k kind, id, version int64, definition any) error {
	_, err := c.Pool.Exec(ctx, "UPDATE rillmark."+string(k)+" SET definition = $2 WHERE id = $1 AND version = $3", id, definition, version)
	return err
}

// EditOutlet stores a new definition where version is still the newest.
func (c *Catalog) EditOutlet(ctx context.Context, name string, version int64, d definition.Outlet) error {
	return c.edit(ctx, outlets, name, version, d)
}

// edit stores a definition in the place of a version; one that says the same stays that version.
func (c *Catalog) edit(ctx context.Context, k kind, name string, version int64, d any) error {
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark."+string(k)+` SET definition = $3, version = version + CASE WHEN definition = $3 THEN 0 ELSE 1 END,
		updated_at = CASE WHEN definition = $3 THEN updated_at ELSE now() END WHERE name = $1 AND version = $2`, name, version, asJSON(d))
	if err != nil {
		return translate(err)
	}
	if tag.RowsAffected() == 0 {
		var exists bool
		if err := c.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM rillmark."+string(k)+" WHERE name = $1)", name).Scan(&exists); err != nil {
			return err
		}
		if !exists {
			return ErrNotFound
		}
		return ErrVersion
	}
	return nil
}

// SetSourceRunning records whether a source is to run, and why.
func (c *Catalog) SetSourceRunning(ctx context.Context, name string, running bool, reason string) error {
	return c.setRunning(ctx, sources, name, running, reason)
}

// RunSourceOnce records that a source is to run until it has caught up.
func (c *Catalog) RunSourceOnce(ctx context.Context, name, reason string) error {
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark.source SET running = true, once = true, ended = false, reason = $2, updated_at = now() WHERE name = $1", name, reason)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// EndSourceRun pauses a source that has done all that it was to do; [ErrNotFound] where somebody has changed
// their mind meanwhile.
func (c *Catalog) EndSourceRun(ctx context.Context, source int64, reason string) error {
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark.source SET running = false, once = false, ended = true, reason = $2, updated_at = now() WHERE id = $1 AND running", source, reason)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SetOutletRunning records whether an outlet is to run, and why.
func (c *Catalog) SetOutletRunning(ctx context.Context, name string, running bool, reason string) error {
	return c.setRunning(ctx, outlets, name, running, reason)
}

// PauseAll pauses every source and outlet that runs, and says why.
func (c *Catalog) PauseAll(ctx context.Context, reason string) error {
	_, err := c.Pool.Exec(ctx, `WITH sources AS (UPDATE rillmark.source SET running = false, once = false, ended = false, reason = $1, updated_at = now() WHERE running)
		UPDATE rillmark.outlet SET running = false, reason = $1, updated_at = now() WHERE running`, reason)
	return err
}

func (c *Catalog) setRunning(ctx context.Context, k kind, name string, running bool, reason string) error {
	ends := ""
	if k == sources {
		ends = ", once = false, ended = false"
	}
	tag, err := c.Pool.Exec(ctx, "UPDATE rillmark."+string(k)+" SET running = $2, reason = $3, updated_at = now()"+ends+" WHERE name = $1", name, running, change.Storable(reason))
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// maxRemoved bounds the removed sources whose definitions are kept.
const maxRemoved = 1000

// RemoveSource forgets a source; its outlets and its journal must be gone. Its
// definition is kept without secrets: what an administrator made for it is taken away
// by a script that is made from it.
func (c *Catalog) RemoveSource(ctx context.Context, name string) error {
	record, err := c.Source(ctx, name)
	if err != nil {
		return translate(err)
	}
	d := record.Definition.Clone()
	d.EachSecret(func(_, _ string) string { return "" })
	tag, err := c.Pool.Exec(ctx, `WITH gone AS (DELETE FROM rillmark.source WHERE id = $1 RETURNING name),
		old AS (DELETE FROM rillmark.removed_source WHERE name IN (SELECT name FROM rillmark.removed_source ORDER BY removed_at DESC OFFSET $2))
		INSERT INTO rillmark.removed_source (name, definition) SELECT name, $3 FROM gone
		ON CONFLICT (name) DO UPDATE SET definition = excluded.definition, removed_at = now()`, record.ID, maxRemoved, asJSON(d))
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return translate(err)
}

// SourceOrRemoved is a source's definition, or the last one of a removed source of that
// name, without its secrets.
func (c *Catalog) SourceOrRemoved(ctx context.Context, name string) (*definition.Source, error) {
	record, err := c.Source(ctx, name)
	if err == nil {
		return &record.Definition, nil
	}
	if !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	var raw []byte
	if scan := c.Pool.QueryRow(ctx, "SELECT definition FROM rillmark.removed_source WHERE name = $1", name).Scan(&raw); scan != nil {
		return nil, err
	}
	d := new(definition.Source)
	return d, json.Unmarshal(raw, d)
}

// RemoveDestination forgets a destination that no outlet uses.
func (c *Catalog) RemoveDestination(ctx context.Context, name string) error {
	return c.remove(ctx, destinations, name)
}

// RemoveOutlet forgets an outlet with its offset.
func (c *Catalog) RemoveOutlet(ctx context.Context, name string) error {
	return c.remove(ctx, outlets, name)
}

func (c *Catalog) remove(ctx context.Context, k kind, name string) error {
	tag, err := c.Pool.Exec(ctx, "DELETE FROM rillmark."+string(k)+" WHERE name = $1", name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return translate(err)
}

func asJSON(d any) []byte {
	raw, err := json.Marshal(d)
	if err != nil {
		panic(err) // definitions are strings, numbers and lists of them
	}
	return raw
}

func translate(err error) error {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		switch server.Code {
		case "23505":
			return ErrTaken
		case "23503":
			return ErrInUse
		}
	}
	return err
}
