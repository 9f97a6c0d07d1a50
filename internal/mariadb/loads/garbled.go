package loads

import (
	"errors"
	"fmt"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb/values"
)

// Garbled counts, by column, the values that are no text in their character set, so that each
// column is reported at the first of them and then ever more seldom.
type Garbled struct{ told engine.Seldom }

// Note reports whether an error is that of a value that is no text, for which
// another stands in the event.
func (g *Garbled) Note(sink engine.Sink, table string, c *values.Column, err error) bool {
	var bad *values.Undecodable
	if !errors.As(err, &bad) {
		return false
	}
	column := table + ": column " + c.Name
	if g.told.Now(column) {
		sink.Report(engine.Report{Level: "warn", Event: "undecodable-text", Message: fmt.Sprintf("%s (%s) holds %s; they stand in the event as %s, and so do others of that column", column, c.Type, bad.Error(), bad.Instead)})
	}
	return true
}
