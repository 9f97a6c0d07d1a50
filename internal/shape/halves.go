package shape

import (
	"errors"

	"rillmark/internal/change"
	"rillmark/internal/expression"
)

// Halves settles what the two events of a changed key say of each other. Each names the
// other's key: whoever keeps rows moves the row by them. Where conditions let one of both
// through alone, there is nothing to move: the row came into what is chosen, or left it. So
// that the first half can say so, it waits for the second one, which the journal has right
// behind it. It is not safe for several goroutines.
type Halves struct {
	Filter *Filter
	held   *change.Event
}

// Hold keeps an event if it is a first half whose second one decides with it, and reports
// whether it is: it is passed on when [Halves.Settle] gives it back. The event stays the
// caller's.
func (h *Halves) Hold(e *change.Event) bool {
	if e.Operation != change.Delete || e.Rekeyed == nil || len(h.Filter.Where) == 0 || !h.Filter.AdmitsTable(e.Table) {
		return false
	}
	held := *e
	held.Before, held.Rekeyed = change.CloneImage(e.Before), change.CloneImage(e.Rekeyed)
	h.held = &held
	return true
}

// Before is the newest offset before a half that is held; at where none is.
func (h *Halves) Before(at int64) int64 {
	if h.held != nil {
		return h.held.Offset - 1
	}
	return at
}

// Settle gives the half back that was held, nil where there is none, for the event behind
// it; nil where that is not known. Neither names a key whose event does not pass. An error
// says that a condition does not fit; the half is given back with it, as it came.
func (h *Halves) Settle(next *change.Event) (*change.Event, error) {
	half := h.held
	h.held = nil
	if half == nil {
		return nil, nil
	}
	if next == nil || next.Operation != change.Insert || next.Rekeyed == nil || next.Offset != half.Offset+1 {
		half.Rekeyed = nil
		return half, nil
	}
	first, second := *half, *next
	one, err := h.passes(&first)
	if err != nil {
		return half, err
	}
	other, err := h.passes(&second)
	if err != nil {
		return half, err
	}
	if !other {
		half.Rekeyed = nil
	}
	if !one {
		next.Rekeyed = nil
	}
	return half, nil
}

// passes reports whether a half passes, or that is for whoever asks next to find out: the condition
// takes too much for it.
func (h *Halves) passes(half *change.Event) (bool, error) {
	admitted, err := h.Filter.Admits(half)
	if beyond := (*expression.Beyond)(nil); errors.As(err, &beyond) {
		return true, nil
	}
	return admitted, err
}
