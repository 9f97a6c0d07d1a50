// Package engines lists the engines that this version has. A new engine is a package
// that fills [engine.Engine], a line here, and a page in docs.
package engines

import (
	"strings"

	"rillmark/internal/engine"
	"rillmark/internal/mariadb"
	"rillmark/internal/postgres"
)

// All are the engines, in the order in which they are shown.
var All = []*engine.Kind{&postgres.Kind, &mariadb.Kind}

// Named is the engine of a name; nil where there is none.
func Named(name string) *engine.Kind {
	for _, k := range All {
		if string(k.Name) == name {
			return k
		}
	}
	return nil
}

// Names lists the engines' names in a sentence's form.
func Names() string {
	names := make([]string, len(All))
	for i, k := range All {
		names[i] = string(k.Name)
	}
	return strings.Join(names, ", ")
}
