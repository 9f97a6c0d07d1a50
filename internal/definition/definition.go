// Package definition holds what people define: sources, destinations and
// outlets, as they stand in files, go over the API and are kept. It validates
// them without reaching anything.
package definition

import (
	"fmt"
	"regexp"
)

// Invalid is an error with the place of what is wrong.
type Invalid struct {
	Location string // "connection.port", "tables[1].match"
	Message  string
}

// Error is place and message.
func (e *Invalid) Error() string { return e.Location + ": " + e.Message }

var name = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// CheckName refuses a name that could not stand in an id, a path or a slot.
func CheckName(kind, s string) error {
	if !name.MatchString(s) {
		return &Invalid{Location: "name", Message: fmt.Sprintf("%q is no name for %s: a lower-case letter, then up to 39 lower-case letters, digits and hyphens", s, kind)}
	}
	return nil
}
