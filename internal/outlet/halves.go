package outlet

import (
	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// A changed key is two events, and each names the other's key: a destination that keeps rows
// moves the row by them. Where an outlet's conditions let one of both through alone, there is
// nothing to move: the row came into what the outlet chooses, or left it. So that the first half
// can say so, it waits for the second, which the journal has right behind it.

// waits reports whether an event is a first half whose second one decides with it.
func (r *reader) waits(e *change.Event) bool {
	return e.Operation == change.Delete && e.Rekeyed != nil && len(r.filter.Where) > 0 && r.filter.AdmitsTable(e.Table)
}

// hold keeps a first half until the next event.
func (r *reader) hold(e *change.Event) {
	held := *e
	held.Before, held.Rekeyed = change.CloneImage(e.Before), change.CloneImage(e.Rekeyed)
	r.half = &held
}

// release puts a first half that was held into the batch, before the event in hand; next is nil
// where that is not known.
func (r *reader) release(b *encode.Batch, next *change.Event) error {
	half := r.half
	r.half = nil
	if next == nil || next.Operation != change.Insert || next.Rekeyed == nil || next.Offset != half.Offset+1 {
		half.Rekeyed = nil
		return r.one(b, half)
	}
	first, second := *half, *next
	one, unfit := r.filter.Admits(&first)
	if unfit == nil {
		var other bool
		if other, unfit = r.filter.Admits(&second); unfit == nil {
			if !other {
				half.Rekeyed = nil
			}
			if !one {
				next.Rekeyed = nil
			}
		}
	}
	if unfit != nil && r.SchemaChanges != ChangesDeadLetter {
		return Unfit(r.Name, unfit) // of both, before either is in the batch
	}
	return r.one(b, half)
}
