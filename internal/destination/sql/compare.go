package sql

import (
	"errors"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/shape"
	"rillmark/internal/verify"
)

// RuleOf reads all of a table's rows as they are, with the key that they have in the source:
// a table of versions has none of its own.
func RuleOf(source *change.Schema) *rules.Table {
	all, _ := shape.ParsePattern("**") // it is a pattern
	return &rules.Table{Match: all, Active: true, Image: rules.ImageAfter, Key: keyNames(source)}
}

// CannotCompare says that the rows kept of a table cannot be read for a comparison.
func CannotCompare(table string, err error) error {
	if why := verify.Incomparable(""); errors.As(err, &why) {
		return err
	}
	return &engine.Fault{Code: "cannot-compare", Message: "the rows kept of " + table + " cannot be read", Cause: err}
}
