package reading

import (
	"context"
	"fmt"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/journal"
	"rillmark/internal/service/base"
)

// Journals are the sources' journals as such: their marks, their tables' versions, and
// whether they are whole.
type Journals struct{ *base.Common }

func NewJournals(c *base.Common) *Journals { return &Journals{c} }

// JournalDamage is a run of offsets that cannot be read.
type JournalDamage struct {
	First int64  `json:"first"`
	Last  int64  `json:"last"`
	Cause string `json:"cause"`
}

// JournalReport is what reading all of a journal has found.
type JournalReport struct {
	First   int64           `json:"first" doc:"The oldest offset that is kept"`
	Next    int64           `json:"next" doc:"The journal ended before this offset when the reading began"`
	At      int64           `json:"at" doc:"All before it has been read"`
	Blocks  int64           `json:"blocks"`
	Events  int64           `json:"events" doc:"Offsets whose events, or whose place where events are no longer kept, could be read"`
	Bytes   int64           `json:"bytes" doc:"Stored bytes that were read"`
	Damaged []JournalDamage `json:"damaged" doc:"Offsets that cannot be read"`
}

func reportOf(v *journal.Verified) *JournalReport {
	r := &JournalReport{First: v.First, Next: v.Next, At: v.At, Blocks: v.Blocks, Events: v.Events, Bytes: v.Bytes, Damaged: make([]JournalDamage, len(v.Damaged))}
	for i, d := range v.Damaged {
		r.Damaged[i] = JournalDamage{d.First, d.Last, d.Cause.Error()}
	}
	return r
}

// Verify reads all of a source's journal; progress gets how far it is.
func (s *Journals) Verify(ctx context.Context, source string, progress func(*JournalReport)) (*JournalReport, error) {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	found, err := s.Store.Verify(ctx, record.ID, func(v *journal.Verified) { progress(reportOf(v)) })
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	level, text := "info", fmt.Sprintf("the journal was read from offset %d to %d: %d blocks, nothing damaged", found.First, found.Next-1, found.Blocks)
	if n := len(found.Damaged); n > 0 {
		level, text = "error", fmt.Sprintf("the journal was read from offset %d to %d: %d places are damaged, the first at offsets %d to %d", found.First, found.Next-1, n, found.Damaged[0].First, found.Damaged[0].Last)
	}
	s.Note(ctx, level, "source/"+source, "journal-verified", text)
	return reportOf(found), nil
}

// SchemaVersions are the versions of tables, of one source where it is given.
func (s *Journals) SchemaVersions(ctx context.Context, source string) ([]catalog.SchemaVersion, error) {
	versions, err := s.Catalog.SchemaVersions(ctx, source)
	return versions, base.Answer(err, "source", source)
}

// Schema is the version with a fingerprint, [catalog.ErrNotFound] where there is none.
func (s *Journals) Schema(ctx context.Context, f change.Fingerprint) (*change.Schema, error) {
	return s.Catalog.Schema(ctx, f)
}

// AvroSchema is the version whose Avro schema has a fingerprint, [catalog.ErrNotFound]
// where nothing was sent under it.
func (s *Journals) AvroSchema(ctx context.Context, fingerprint uint64) (*change.Schema, error) {
	return s.Catalog.AvroSchema(ctx, fingerprint)
}
