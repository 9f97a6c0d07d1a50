// Package definition holds what people define: sources, destinations and
// outlets, as they stand in files, go over the API and are kept. It validates
// them without reaching anything.
package definition

import (
	"regexp"

	"rillmark/internal/settings"
)

// Invalid is an error with the place of what is wrong.
type Invalid = settings.Invalid

var name = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// CheckName refuses a name that could not stand in an id, a path or a slot.
func CheckName(kind, s string) error {
	if !name.MatchString(s) {
		return settings.Wrong("name", "%q is no name for %s: a lower-case letter, then up to 39 lower-case letters, digits and hyphens", s, kind)
	}
	return nil
}
