// Package kinds lists the kinds of destinations that this version has. A new kind is a
// folder beside this one, a line here, and a page in docs/outlets.
package kinds

import (
	"strings"

	"rillmark/internal/destination"
	"rillmark/internal/destination/file"
	"rillmark/internal/destination/http"
	"rillmark/internal/destination/kafka"
	"rillmark/internal/destination/mariadb"
	"rillmark/internal/destination/nats"
	"rillmark/internal/destination/postgresql"
	"rillmark/internal/destination/redis"
)

// All are the kinds, in the order in which they are shown.
var All = []*destination.Kind{&file.Kind, &kafka.Kind, &nats.Kind, &redis.Kind, &http.Kind, &postgresql.Kind, &mariadb.Kind}

// Named is the kind of a name; nil where there is none.
func Named(name string) *destination.Kind {
	for _, k := range All {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Names lists the kinds' names in a sentence's form: "file, kafka, nats".
func Names() string {
	names := make([]string, len(All))
	for i, k := range All {
		names[i] = k.Name
	}
	return strings.Join(names, ", ")
}
