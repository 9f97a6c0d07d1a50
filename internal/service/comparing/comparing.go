// Package comparing is what is done with tables that outlets keep in databases: they are compared
// with the source's, made equal again, and cut over to.
//
//   - verify.go compares, comparison.go keeps how far it has come, and chosenrows.go and
//     formedrows.go are the source's rows as the outlet hands them on. Package verify is the core.
//   - fix.go has what differs read again; standing.go compares at intervals.
//   - cutover.go moves a system to an outlet's database, cutovercheck.go looks whether it can be
//     done, and followback.go keeps the former database equal from then on.
package comparing

import (
	"context"
	"sync"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

// Comparing compares the tables that outlets keep with the source's, and cuts over to them.
type Comparing struct {
	*base.Common
	// Engine makes a source's engine, Destination an outlet's destination.
	Engine      func(*catalog.Source) (engine.Engine, error)
	Destination func(definition.Outlet) (destination.Destination, error)
	// Load asks for a load of tables for one outlet alone, of the rows that a condition chooses.
	Load func(ctx context.Context, outlet *catalog.Outlet, tables []string, condition string) error
	// Pause pauses an outlet for a reason.
	Pause func(ctx context.Context, outlet, reason string) error
	// Resume resumes an outlet for a reason, and SetBehind sets one behind an offset.
	Resume    func(ctx context.Context, outlet, reason string) error
	SetBehind func(ctx context.Context, outlet string, offset int64) error
	// Check looks at the destination of a stored outlet.
	Check   func(ctx context.Context, outlet string) ([]change.Check, error)
	Running Running
	cutting sync.Map // the outlets, by number, that are being cut over
}

// Running is what this instance captures and delivers now.
type Running interface {
	// Capturing is a source's capture; nil where it does not run here.
	Capturing(source string) *capture.Source
	// Delivering is what delivers for an outlet; nil where it does not run here.
	Delivering(outlet string) *outlet.Outlet
	// Delivered are the records of all outlets that it delivers, by name.
	Delivered() map[string]*catalog.Outlet
	// Changed has the overview look again.
	Changed()
}
