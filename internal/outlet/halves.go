package outlet

import (
	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// release puts the first half of a changed key that waited into the batch, before the event
// in hand; next is nil where that is not known.
func (r *reader) release(b *encode.Batch, next *change.Event) error {
	half, unfit := r.halves.Settle(next)
	if half == nil {
		return nil
	}
	if unfit != nil && r.SchemaChanges != ChangesDeadLetter {
		return Unfit(r.Name, unfit) // of both, before either is in the batch
	}
	return r.one(b, half)
}
