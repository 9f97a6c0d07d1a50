package catalog

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"rillmark/internal/change"
)

// schemaCache keeps schema versions, which never change, in memory.
type schemaCache struct {
	mu   sync.RWMutex
	byID map[change.Fingerprint]*change.Schema
}

// maxSchemas bounds the cache; above it, it begins anew.
const maxSchemas = 20_000

func (s *schemaCache) get(f change.Fingerprint) *change.Schema {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.byID[f]
}

func (s *schemaCache) put(one *change.Schema) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.byID == nil || len(s.byID) >= maxSchemas {
		s.byID = make(map[change.Fingerprint]*change.Schema)
	}
	s.byID[one.Fingerprint()] = one
}

// Schema finds a version by its fingerprint.
func (c *Catalog) Schema(ctx context.Context, f change.Fingerprint) (*change.Schema, error) {
	if s := c.schemas.get(f); s != nil {
		return s, nil
	}
	var raw []byte
	err := c.Pool.QueryRow(ctx, "SELECT definition FROM rillmark.schema_version WHERE fingerprint = $1", int64(f)).Scan(&raw)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, fmt.Errorf("schema version %s: %w", f, ErrNotFound)
	}
	if err != nil {
		return nil, fmt.Errorf("reading schema version %s: %w", f, err)
	}
	s, err := change.ParseSchema(raw)
	if err != nil {
		return nil, err
	}
	if s.Fingerprint() != f {
		// jsonb does not keep the order of members, but ParseSchema does not
		// depend on it: a difference means that the record was changed.
		return nil, fmt.Errorf("schema version %s does not match its definition", f)
	}
	c.schemas.put(s)
	return s, nil
}

// KnowSchema keeps a version at hand that is about to be put on record.
func (c *Catalog) KnowSchema(s *change.Schema) { c.schemas.put(s) }

// ResolveSchema is Schema for readers of the journal.
func (c *Catalog) ResolveSchema(f change.Fingerprint) (*change.Schema, error) {
	if s := c.schemas.get(f); s != nil {
		return s, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return c.Schema(ctx, f)
}

// StoreOutletSchema stores a version that an outlet's shape makes, and notes that
// the outlet sends it. avro is its fingerprint as Avro has it; 0 for none.
func (c *Catalog) StoreOutletSchema(ctx context.Context, outlet int64, s *change.Schema, avro uint64) error {
	return pgx.BeginFunc(ctx, c.Pool, func(tx pgx.Tx) error {
		f := int64(s.Fingerprint())
		if _, err := tx.Exec(ctx, "INSERT INTO rillmark.schema_version (fingerprint, table_name, definition) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", f, s.Table, s.Definition()); err != nil {
			return err
		}
		if avro != 0 {
			if _, err := tx.Exec(ctx, "INSERT INTO rillmark.avro_schema (fingerprint, schema) VALUES ($1, $2) ON CONFLICT DO NOTHING", int64(avro), f); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "INSERT INTO rillmark.outlet_schema (outlet_id, fingerprint) VALUES ($1, $2) ON CONFLICT DO NOTHING", outlet, f)
		return err
	})
}

// AvroSchema finds a version by the fingerprint that Avro has for it.
func (c *Catalog) AvroSchema(ctx context.Context, avro uint64) (*change.Schema, error) {
	var f int64
	err := c.Pool.QueryRow(ctx, "SELECT schema FROM rillmark.avro_schema WHERE fingerprint = $1", int64(avro)).Scan(&f)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return c.Schema(ctx, change.Fingerprint(f))
}

// OutletSchemas lists the versions that an outlet's own shape has made.
func (c *Catalog) OutletSchemas(ctx context.Context, outlet int64) ([]*change.Schema, error) {
	rows, _ := c.Pool.Query(ctx, "SELECT fingerprint FROM rillmark.outlet_schema WHERE outlet_id = $1 ORDER BY first_seen", outlet)
	prints, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, err
	}
	all := make([]*change.Schema, 0, len(prints))
	for _, f := range prints {
		s, err := c.Schema(ctx, change.Fingerprint(f))
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}
