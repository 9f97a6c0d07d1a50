package journal

import (
	"fmt"

	"rillmark/internal/change"
)

// Single is one event in the stored form of a block of its own, to be kept apart
// from its journal. Offset, generation and source are not in it.
func Single(e *change.Event) []byte {
	b := NewBuilder(4096)
	tx := &change.OpenTransaction{ID: e.Transaction.ID, CommitTime: e.Transaction.CommittedAt.UnixMicro(), Origin: e.Transaction.Origin, Next: e.Transaction.Index}
	b.Add(tx, &change.Row{Operation: e.Operation, Table: e.Table, Schema: e.Schema, Place: e.Place, Before: e.Before, After: e.After, Rekeyed: e.Rekeyed, Body: e.Body, For: e.For})
	if e.Transaction.Last {
		b.EndTransaction()
	}
	return NewCompressor().stored(b.payload, nil, false)
}

// OpenSingle reads what Single wrote.
func (s *Store) OpenSingle(stored []byte, e *change.Event) error {
	payload, err := Payload(stored)
	if err != nil {
		return err
	}
	cursor := Cursor{Resolve: s.resolve, For: Everyone}
	cursor.Reset(payload)
	more, err := cursor.Next(e)
	if err == nil && !more {
		err = fmt.Errorf("%w: it holds no event", ErrCorrupt)
	}
	return err
}
