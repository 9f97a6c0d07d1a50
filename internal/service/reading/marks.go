package reading

import (
	"context"
	"fmt"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/service/base"
)

// SetMark names a place in a source's journal.
func (s *Journals) SetMark(ctx context.Context, source, name, at, reason string) (*catalog.Mark, error) {
	if err := definition.CheckName("a mark", name); err != nil {
		return nil, err
	}
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	if at == "" {
		at = "now"
	}
	committed, err := s.Place(ctx, record.ID, at)
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.SetMark(ctx, record.ID, name, committed+1, reason); err != nil {
		return nil, base.Answer(err, "mark", name)
	}
	s.Note(ctx, "info", "source/"+source, "mark", fmt.Sprintf("mark %s set at offset %d%s", name, committed+1, base.Because(reason)))
	return &catalog.Mark{Source: source, Name: name, Offset: committed + 1, Reason: reason, CreatedAt: time.Now()}, nil
}

// Marks lists the marks of a source, or of all.
func (s *Journals) Marks(ctx context.Context, source string) ([]catalog.Mark, error) {
	id := int64(0)
	if source != "" {
		record, err := s.Catalog.Source(ctx, source)
		if err != nil {
			return nil, base.Answer(err, "source", source)
		}
		id = record.ID
	}
	marks, err := s.Catalog.Marks(ctx, id)
	return marks, base.Answer(err, "mark", "")
}

// RemoveMark forgets a mark.
func (s *Journals) RemoveMark(ctx context.Context, source, name string) error {
	record, err := s.Catalog.Source(ctx, source)
	if err != nil {
		return base.Answer(err, "source", source)
	}
	if err := s.Catalog.RemoveMark(ctx, record.ID, name); err != nil {
		return base.Answer(err, "mark", name)
	}
	s.Note(ctx, "info", "source/"+source, "mark", "mark "+name+" removed")
	return nil
}
