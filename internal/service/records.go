package service

import (
	"context"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/service/base"
)

// Get is a source's record. Its secrets are sealed.
func (s *Sources) Get(ctx context.Context, name string) (*catalog.Source, error) {
	record, err := s.Catalog.Source(ctx, name)
	return record, base.Answer(err, "source", name)
}

// All are the sources' records by name.
func (s *Sources) All(ctx context.Context) ([]*catalog.Source, error) {
	all, err := s.Catalog.Sources(ctx)
	return all, base.Answer(err, "source", "")
}

// Get is a destination's record. Its secrets are sealed.
func (s *Destinations) Get(ctx context.Context, name string) (*catalog.Destination, error) {
	record, err := s.Catalog.Destination(ctx, name)
	return record, base.Answer(err, "destination", name)
}

// All are the destinations' records by name.
func (s *Destinations) All(ctx context.Context) ([]*catalog.Destination, error) {
	all, err := s.Catalog.Destinations(ctx)
	return all, base.Answer(err, "destination", "")
}

// Get is an outlet's record.
func (s *Outlets) Get(ctx context.Context, name string) (*catalog.Outlet, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	return record, base.Answer(err, "outlet", name)
}

// All are the outlets' records by name.
func (s *Outlets) All(ctx context.Context) ([]*catalog.Outlet, error) {
	all, err := s.Catalog.Outlets(ctx)
	return all, base.Answer(err, "outlet", "")
}

// Schemas are the versions that an outlet's own shape has made.
func (s *Outlets) Schemas(ctx context.Context, record *catalog.Outlet) ([]*change.Schema, error) {
	versions, err := s.Catalog.OutletSchemas(ctx, record.ID)
	return versions, base.Answer(err, "outlet", record.Name)
}

// Log is the log of the run, newest first.
func (s *Overview) Log(ctx context.Context, subject string, since time.Time, limit int) ([]catalog.LogEntry, error) {
	entries, err := s.Catalog.Log(ctx, subject, since, limit)
	return entries, base.Answer(err, "service", "")
}

// Sessions are those of the console, by their cookies.
type Sessions struct{ *base.Common }

// Until is when a session ends; zero where there is none.
func (s *Sessions) Until(ctx context.Context, id []byte) (time.Time, error) {
	return s.Catalog.SessionUntil(ctx, id)
}

// Open begins a session.
func (s *Sessions) Open(ctx context.Context, id []byte, until time.Time) error {
	return s.Catalog.OpenSession(ctx, id, until)
}

// End ends a session.
func (s *Sessions) End(ctx context.Context, id []byte) error { return s.Catalog.EndSession(ctx, id) }
