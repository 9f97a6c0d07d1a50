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

// ResolveSchema is Schema for readers of the journal.
func (c *Catalog) ResolveSchema(f change.Fingerprint) (*change.Schema, error) {
	if s := c.schemas.get(f); s != nil {
		return s, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return c.Schema(ctx, f)
}
