package service

import (
	"context"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
)

// Get is a source's record. Its secrets are sealed.
func (s *Sources) Get(ctx context.Context, name string) (*catalog.Source, error) {
	record, err := s.catalog.Source(ctx, name)
	return record, answer(err, "source", name)
}

// All are the sources' records by name.
func (s *Sources) All(ctx context.Context) ([]*catalog.Source, error) {
	all, err := s.catalog.Sources(ctx)
	return all, answer(err, "source", "")
}

// Get is a destination's record. Its secrets are sealed.
func (s *Destinations) Get(ctx context.Context, name string) (*catalog.Destination, error) {
	record, err := s.catalog.Destination(ctx, name)
	return record, answer(err, "destination", name)
}

// All are the destinations' records by name.
func (s *Destinations) All(ctx context.Context) ([]*catalog.Destination, error) {
	all, err := s.catalog.Destinations(ctx)
	return all, answer(err, "destination", "")
}

// Get is an outlet's record.
func (s *Outlets) Get(ctx context.Context, name string) (*catalog.Outlet, error) {
	record, err := s.catalog.Outlet(ctx, name)
	return record, answer(err, "outlet", name)
}

// All are the outlets' records by name.
func (s *Outlets) All(ctx context.Context) ([]*catalog.Outlet, error) {
	all, err := s.catalog.Outlets(ctx)
	return all, answer(err, "outlet", "")
}

// Schemas are the versions that an outlet's own shape has made.
func (s *Outlets) Schemas(ctx context.Context, record *catalog.Outlet) ([]*change.Schema, error) {
	versions, err := s.catalog.OutletSchemas(ctx, record.ID)
	return versions, answer(err, "outlet", record.Name)
}

// SchemaVersions are the versions of tables, of one source where it is given.
func (s *Journals) SchemaVersions(ctx context.Context, source string) ([]catalog.SchemaVersion, error) {
	versions, err := s.catalog.SchemaVersions(ctx, source)
	return versions, answer(err, "source", source)
}

// Schema is the version with a fingerprint, [catalog.ErrNotFound] where there is none.
func (s *Journals) Schema(ctx context.Context, f change.Fingerprint) (*change.Schema, error) {
	return s.catalog.Schema(ctx, f)
}

// AvroSchema is the version whose Avro schema has a fingerprint, [catalog.ErrNotFound]
// where nothing was sent under it.
func (s *Journals) AvroSchema(ctx context.Context, fingerprint uint64) (*change.Schema, error) {
	return s.catalog.AvroSchema(ctx, fingerprint)
}

// Log is the log of the run, newest first.
func (s *Overview) Log(ctx context.Context, subject string, since time.Time, limit int) ([]catalog.LogEntry, error) {
	entries, err := s.catalog.Log(ctx, subject, since, limit)
	return entries, answer(err, "service", "")
}

// Sessions are those of the console, by their cookies.
type Sessions struct{ *common }

// Until is when a session ends; zero where there is none.
func (s *Sessions) Until(ctx context.Context, id []byte) (time.Time, error) {
	return s.catalog.SessionUntil(ctx, id)
}

// Open begins a session.
func (s *Sessions) Open(ctx context.Context, id []byte, until time.Time) error {
	return s.catalog.OpenSession(ctx, id, until)
}

// End ends a session.
func (s *Sessions) End(ctx context.Context, id []byte) error { return s.catalog.EndSession(ctx, id) }
