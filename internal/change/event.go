package change

import (
	"slices"
	"strconv"
	"time"
)

// Transaction is what an event knows of the transaction it belongs to.
type Transaction struct {
	ID          string
	CommittedAt time.Time
	// Origin names the server that the transaction came from by replication;
	// empty for one that was made on the source itself.
	Origin string
	// Index is the event's place in the transaction, from 0.
	Index uint64
	// Last marks the transaction's last event.
	Last bool
}

// DelaySince is how long ago a commit was. Of a time of whole seconds, as some logs have
// it, it is what can be told for certain: the commit was up to a second later.
func DelaySince(committed, now time.Time) time.Duration {
	delay := now.Sub(committed)
	if committed.Nanosecond() == 0 && delay > 0 {
		return max(delay-time.Second, 0)
	}
	return delay
}

// Event is one change as the journal holds it. A reader that hands out an
// Event owns its slices; they are good until the reader's next call.
type Event struct {
	Source     string
	Generation int
	Offset     int64
	Operation  Operation
	Database   string
	// Table is schema-qualified: "public.loans"; empty for a message.
	Table string
	// Schema is the version the images follow; nil for a message.
	Schema *Schema
	// Before and After have one value a column, or are nil where the
	// operation has no such image.
	Before, After []Value
	// Rekeyed holds the values of the other half's key, in key order, where a
	// changed key made two events; else nil.
	Rekeyed []Value
	// Fresh are columns that say something of this event: they count as changed in each, and
	// the row before has no value of them. Nil where all columns are the row's.
	Fresh []int
	// Body is the operation's own document as JSON: the definition of a schema
	// event, the words of a message. Empty for rows.
	Body        []byte
	Transaction Transaction
	Engine      Engine
	// Place is where in the source's log the change stands.
	Place uint64
	// For is the only outlet that gets the event; 0: every reader gets it. Other
	// readers skip it.
	For int64
}

// ID is the event's permanent identity: source/generation/offset.
func (e *Event) ID() string {
	return e.Source + "/" + strconv.Itoa(e.Generation) + "/" + strconv.FormatInt(e.Offset, 10)
}

// Image is the row an event is about: after it where there is one, else before.
func (e *Event) Image() []Value {
	if e.After != nil {
		return e.After
	}
	return e.Before
}

// KeyValues appends the values of the row's key in key order; nothing is
// appended without a key or without an image.
func (e *Event) KeyValues(dst []Value) []Value {
	image := e.Image()
	if e.Schema == nil || image == nil {
		return dst
	}
	for _, i := range e.Schema.Key() {
		dst = append(dst, image[i])
	}
	return dst
}

// Changed appends the indexes of the columns that differ between both images.
// known is false where one of the images is missing or carries too little.
func (e *Event) Changed(dst []int) (changed []int, known bool) {
	if e.Before == nil || e.After == nil {
		return dst, false
	}
	for i := range e.After {
		if e.Fresh != nil && slices.Contains(e.Fresh, i) {
			dst = append(dst, i)
			continue
		}
		if e.Before[i].Presence == Omitted || e.After[i].Presence == Omitted {
			return dst, false
		}
		if !e.Before[i].Equal(e.After[i]) {
			dst = append(dst, i)
		}
	}
	return dst, true
}
