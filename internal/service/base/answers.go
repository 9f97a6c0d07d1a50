package base

import (
	"context"
	"errors"
	"fmt"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
)

// The codes of faults that are answers to a caller.
const (
	CodeNotFound       = "not-found"
	CodeNameTaken      = "name-taken"
	CodeChanged        = "changed-meanwhile"
	CodeInUse          = "in-use"
	CodeInvalid        = "invalid-definition"
	CodeOffsetOutside  = "offset-outside"
	CodeExpired        = "expired"
	CodeDamaged        = "journal-damaged"
	CodeNotPull        = "not-pull"
	CodePaused         = "paused"
	CodeRunning        = "running"
	CodeLeaseOver      = "lease-over"
	CodeStateDatabase  = "state-database"
	CodeStopping       = "stopping"
	CodeStuck          = "stuck"
	CodeBusy           = "busy"
	CodeNothingToCheck = "nothing-to-check"
)

// Answer turns an error of the catalog into a fault about a thing.
func Answer(err error, kind, name string) error {
	var invalid *definition.Invalid
	var fault *engine.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &fault), errors.As(err, &invalid):
		return err
	case errors.Is(err, catalog.ErrNotFound):
		return &engine.Fault{Code: CodeNotFound, Message: fmt.Sprintf("there is no %s %q", kind, name), Fix: fmt.Sprintf("`rillmark %s list` shows what there is", kind)}
	case errors.Is(err, catalog.ErrTaken):
		return &engine.Fault{Code: CodeNameTaken, Message: fmt.Sprintf("the name is taken: %s %q is there already", kind, name), Fix: "choose another name, or edit the one that is there"}
	case errors.Is(err, catalog.ErrVersion):
		return &engine.Fault{Code: CodeChanged, Message: fmt.Sprintf("somebody else has changed %s %q meanwhile", kind, name), Fix: "look at it again and repeat the change on its newest version"}
	case errors.Is(err, catalog.ErrInUse):
		fix := "remove its outlets first"
		if kind == "form" {
			fix = "take it out of the definitions of its outlets first"
		}
		return &engine.Fault{Code: CodeInUse, Message: fmt.Sprintf("%s %q is in use by an outlet", kind, name), Fix: fix}
	case errors.Is(err, journal.ErrCorrupt):
		return damageFault(err, name)
	case errors.Is(err, journal.ErrExpired):
		return &engine.Fault{Code: CodeExpired, Message: err.Error()}
	case errors.Is(err, context.Canceled):
		return err
	}
	return &engine.Fault{Code: CodeStateDatabase, Message: "the state database does not answer", Cause: err}
}

// damageFault says which offsets of a journal cannot be read.
func damageFault(err error, name string) error {
	return &engine.Fault{Code: CodeDamaged, Message: fmt.Sprintf("the journal that %q reads is damaged", name), Cause: err, Final: true,
		Fix: "bring the state database back from a backup that has them, or read on behind them; `rillmark journal verify` lists all that is damaged"}
}
