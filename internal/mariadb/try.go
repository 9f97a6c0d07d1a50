package mariadb

import (
	"context"
	"errors"

	"rillmark/internal/capture/trial"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/session"
)

// Try implements [engine.Trier]: it follows the log from its end under a number of its own,
// and leaves nothing behind.
func Try(ctx context.Context, c *session.Config, ready func(), each func(tx *change.OpenTransaction, row *change.Row) error) error {
	own := *c
	own.Defaults()
	own.Load, own.LoadOnly, own.From = false, false, ""
	sink := &trial.Sink{Each: each}
	err := try(ctx, &own, sink, ready)
	if failed := sink.Err(); failed != nil {
		return failed
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return own.Explain(err)
}

func try(ctx context.Context, c *session.Config, sink engine.Sink, ready func()) error {
	r := newRun(c, sink)
	if err := r.connect(ctx); err != nil {
		return err
	}
	defer r.control.Close()
	if err := r.settle(ctx, nil); err != nil {
		return err
	}
	if err := r.refresh(ctx, r.reader, true); err != nil {
		return err
	}
	captured := false
	for _, t := range r.tables {
		captured = captured || t.ChosenBy != nil
	}
	if !captured {
		return &engine.Fault{Code: "trial-cannot-see", Message: "the rules choose no table that user \"" + c.User + "\" may read", Fix: "GRANT SELECT on the tables, or correct the rules"}
	}
	s, err := r.open(ctx)
	if err != nil {
		return err
	}
	defer r.hangUp(ctx, s)
	ready()
	err = r.read(ctx, s)
	if errors.Is(err, context.Canceled) {
		return context.Cause(ctx)
	}
	return err
}
