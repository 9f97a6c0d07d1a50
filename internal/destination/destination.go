// Package destination is what a kind of destination offers: a check, and
// writers that outlets deliver to. Each kind is a package of its own.
package destination

import (
	"context"

	"rillmark/internal/change"
)

// Destination is a place where events go, shared by outlets.
type Destination interface {
	// Check looks whether the destination can be delivered to, leaving nothing
	// behind there.
	Check(ctx context.Context) []change.Check
	// Open begins or resumes an outlet's delivery.
	Open(ctx context.Context, o Outlet) (Writer, error)
}

// Outlet says which delivery is opened.
type Outlet struct {
	Name string
	// Run counts the outlet's rewinds: what an earlier run delivered is not
	// this one's.
	Run int
	// Committed is the newest offset that is known to be delivered.
	Committed int64
}

// Writer is one outlet's delivery. It is not safe for several goroutines.
type Writer interface {
	// Delivered is the newest offset that the destination itself says it has of
	// this run; at least [Outlet.Committed].
	Delivered() int64
	// Write delivers one encoded event, perhaps held in a buffer. It must not
	// keep encoded after it returns.
	Write(ctx context.Context, offset int64, encoded []byte) error
	// Show makes what was written visible to readers, if it costs little.
	Show() error
	// Flush makes durable all that was written. An error says that it is not
	// known what arrived; the writer is closed then and another one opened.
	Flush(ctx context.Context) error
	// Close gives up what was not flushed.
	Close() error
}
