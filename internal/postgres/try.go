package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/capture/trial"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/publication"
	"rillmark/internal/postgres/session"
	"rillmark/internal/postgres/stream"
)

// tryPrefix begins the names of what a trial makes on a source.
const tryPrefix = "rillmark_try_"

// Try implements [engine.Engine]: it follows the chosen tables over a slot that
// goes with the session, and a publication that is dropped at the end, or the
// administrator's where one is named.
func Try(ctx context.Context, c *session.Config, ready func(), each func(tx *change.OpenTransaction, row *change.Row) error) error {
	trial := *c
	trial.Defaults()
	// Names of publications follow from the source's.
	own := c.Publications()
	trial.Source, trial.Slot, trial.Load, trial.LoadOnly = strings.TrimPrefix(tryPrefix, "rillmark_")+newNonce()[:12], "", false, false
	trialCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	err := try(trialCtx, &trial, own, ready, each)
	if cleared := clearTrial(context.WithoutCancel(ctx), &trial); err == nil || errors.Is(err, context.Canceled) {
		err = cleared
	}
	return c.Explain(err)
}

func try(ctx context.Context, c *session.Config, own []string, ready func(), each func(*change.OpenTransaction, *change.Row) error) error {
	sink := &trial.Sink{Each: each}
	r := newRun(c, sink)
	r.known = true
	var err error
	if r.control, err = c.Connect(ctx, "trial"); err != nil {
		return err
	}
	defer r.control.Close(context.WithoutCancel(ctx)) //nolint:errcheck // only look-ups went over it
	if err := session.NotOurOwn(ctx, r.control); err != nil {
		return err
	}
	if err := r.publishTrial(ctx, own); err != nil {
		return err
	}
	stream, err := stream.Open(ctx, c, "trial")
	if err != nil {
		return err
	}
	defer stream.Close()
	at, err := stream.MakeSlot(ctx, c.SlotName(), true)
	if err != nil {
		return err
	}
	r.resume = position{Commit: at, Kind: kindMessage}
	r.at.Position = r.resume
	if err := stream.Start(ctx, c.SlotName(), c.Publications(), false); err != nil {
		return err
	}
	ready()
	group, ctx := guard.WithContext(ctx)
	group.Go(func() error { return r.read(ctx, stream) })
	group.Go(func() error { return stream.Report(ctx, sink) })
	err = group.Wait()
	if ctx.Err() != nil && (errors.Is(err, context.Canceled) || engineSaysAway(err)) && sink.Err() == nil {
		return context.Cause(ctx)
	}
	if failed := sink.Err(); failed != nil {
		return failed
	}
	return err
}

// publishTrial makes the trial's publications, or where the login may not, looks
// through those that an administrator has prepared for the source. Tables that neither
// shows are an error: a trial that sees nothing must not look like one where nothing
// happened.
func (r *run) publishTrial(ctx context.Context, own []string) error {
	c := r.config
	var may, prepared bool
	err := r.control.QueryRow(ctx, "SELECT has_database_privilege(current_database(), 'CREATE'), EXISTS (SELECT FROM pg_publication WHERE pubname = $1)", own[0]).Scan(&may, &prepared)
	if err != nil {
		return err
	}
	borrow := func() {
		var there []string
		for _, name := range own {
			if exists, _ := publication.Exists(ctx, r.control, name, "insert"); exists {
				there = append(there, name)
			}
		}
		c.Borrowed = there
	}
	if c.Publication == "" && !may {
		if !prepared {
			return &engine.Fault{Code: "trial-cannot-see", Message: fmt.Sprintf("user %q may not make a publication in this database, and none is prepared: a trial would see nothing", c.Connection.User),
				Fix: "have an administrator run what `rillmark source setup-sql` prints"}
		}
		borrow()
	}
	if err := r.publish(ctx, r.control, true); err != nil {
		return err
	}
	unseen, err := r.unpublished(ctx)
	if err == nil && len(unseen) > 0 && c.Publication == "" && c.Borrowed == nil && prepared {
		if borrow(); len(c.Borrowed) > 0 {
			clear(r.tables)
			if err := r.publish(ctx, r.control, true); err != nil {
				return err
			}
			unseen, err = r.unpublished(ctx)
		}
	}
	if err != nil || len(unseen) == 0 {
		return err
	}
	shown := unseen[:min(len(unseen), 5)]
	return &engine.Fault{Code: "trial-cannot-see", Message: fmt.Sprintf("%d of the chosen tables cannot be seen by user %q, since they are not published: %s", len(unseen), c.Connection.User, strings.Join(shown, ", ")),
		Fix: "have an administrator run what `rillmark source setup-sql` prints, again where the rules have changed, or choose other tables"}
}

// unpublished are the chosen tables that no publication of the trial shows.
func (r *run) unpublished(ctx context.Context) ([]string, error) {
	all, err := catalogue.List(ctx, r.control)
	if err != nil {
		return nil, err
	}
	published, err := publication.Tables(ctx, r.control, r.config.Publications())
	if err != nil {
		return nil, err
	}
	var names []string
	for _, chosen := range publication.Choose(r.config, all) {
		for _, l := range chosen.Members {
			if published[l.Name()].Place == "" {
				names = append(names, l.Name())
			}
		}
	}
	slices.Sort(names)
	return names, nil
}

// engineSaysAway reports whether an error is of a connection that was interrupted.
func engineSaysAway(err error) bool {
	var fault *engine.Fault
	return errors.As(err, &fault) && fault.Code == "source-away"
}

// clearTrial drops the trial's publications, and those of trials that ended
// without being able to.
func clearTrial(ctx context.Context, c *session.Config) error {
	if c.Publication != "" {
		return nil
	}
	conn, err := c.Connect(ctx, "trial")
	if err != nil {
		return err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	var left []string
	err = conn.QueryRow(ctx, `SELECT coalesce(array_agg(pubname::text), '{}') FROM pg_publication p
		WHERE starts_with(pubname, $1) AND pg_has_role(pubowner, 'USAGE') AND NOT EXISTS (
			SELECT FROM pg_replication_slots s WHERE s.active AND starts_with(p.pubname, s.slot_name) AND s.slot_name <> $2)`, tryPrefix, c.SlotName()).Scan(&left)
	if err != nil {
		return err
	}
	for _, name := range left {
		if _, err := conn.Exec(ctx, "DROP PUBLICATION IF EXISTS "+session.Quoted(name)); err != nil {
			return err
		}
	}
	return nil
}
