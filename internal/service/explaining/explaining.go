// Package explaining says of outlets what they would send, what they have made of one event and
// of all, and describes their messages. It sends and stores nothing.
//
//   - preview.go makes the messages of real events; why.go says what became of one and by what.
//   - flow.go is the account of what was read; asyncapi.go describes what an outlet sends.
package explaining

import (
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

// Explaining explains outlets.
type Explaining struct {
	*base.Common
	// Destination makes an outlet's destination.
	Destination func(definition.Outlet) (destination.Destination, error)
	// Draft makes one of a definition that is not stored.
	Draft func(definition.Destination, definition.Outlet) (destination.Destination, error)
	// Runner is what delivers for an outlet in this instance, or has; nil where nothing does.
	Runner func(outlet string) *outlet.Outlet
}
