package service

import (
	"context"
	"fmt"

	"rillmark/internal/journal"
)

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
	record, err := s.catalog.Source(ctx, source)
	if err != nil {
		return nil, answer(err, "source", source)
	}
	found, err := s.store.Verify(ctx, record.ID, func(v *journal.Verified) { progress(reportOf(v)) })
	if err != nil {
		return nil, answer(err, "source", source)
	}
	level, text := "info", fmt.Sprintf("the journal was read from offset %d to %d: %d blocks, nothing damaged", found.First, found.Next-1, found.Blocks)
	if n := len(found.Damaged); n > 0 {
		level, text = "error", fmt.Sprintf("the journal was read from offset %d to %d: %d places are damaged, the first at offsets %d to %d", found.First, found.Next-1, n, found.Damaged[0].First, found.Damaged[0].Last)
	}
	s.note(ctx, level, "source/"+source, "journal-verified", text)
	return reportOf(found), nil
}
