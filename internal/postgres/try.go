package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
)

// tryPrefix begins the names of what a trial makes on a source.
const tryPrefix = "rillmark_try_"

// Try implements [engine.Engine]: it follows the chosen tables over a slot that
// goes with the session, and a publication that is dropped at the end, or the
// administrator's where one is named.
func (c *Config) Try(ctx context.Context, ready func(), each func(tx *change.OpenTransaction, row *change.Row) error) error {
	trial := *c
	trial.defaults()
	// Names of publications follow from the source's.
	own := c.publications()
	trial.Source, trial.Slot, trial.Load, trial.LoadOnly = strings.TrimPrefix(tryPrefix, "rillmark_")+newNonce()[:12], "", false, false
	trialCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	err := trial.try(trialCtx, own, ready, each)
	if cleared := trial.clearTrial(context.WithoutCancel(ctx)); err == nil || errors.Is(err, context.Canceled) {
		err = cleared
	}
	return c.explain(err)
}

func (c *Config) try(ctx context.Context, own []string, ready func(), each func(*change.OpenTransaction, *change.Row) error) error {
	sink := &trialSink{each: each}
	r := &run{config: c, sink: sink, relations: make(map[uint32]*relation), tables: make(map[string]*table),
		marks: make(map[string]*mark), moreLoads: make(chan struct{}), known: true}
	var err error
	if r.control, err = c.connect(ctx, "trial"); err != nil {
		return err
	}
	defer r.control.Close(context.WithoutCancel(ctx)) //nolint:errcheck // only look-ups went over it
	if err := notOurOwn(ctx, r.control); err != nil {
		return err
	}
	if err := r.publishTrial(ctx, own); err != nil {
		return err
	}
	stream, err := c.openStream(ctx)
	if err != nil {
		return err
	}
	defer stream.close()
	at, err := stream.makeSlot(ctx, c.slotName(), true)
	if err != nil {
		return err
	}
	r.resume = position{Commit: at, Kind: kindMessage}
	r.at.Position = r.resume
	if err := stream.start(ctx, c.slotName(), c.publications(), false); err != nil {
		return err
	}
	ready()
	group, ctx := guard.WithContext(ctx)
	group.Go(func() error { return r.read(ctx, stream) })
	group.Go(func() error { return stream.report(ctx, sink) })
	err = group.Wait()
	if ctx.Err() != nil && (errors.Is(err, context.Canceled) || engineSaysAway(err)) && sink.err == nil {
		return context.Cause(ctx)
	}
	if sink.err != nil {
		return sink.err
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
			if exists, _ := havePublication(ctx, r.control, name, "insert"); exists {
				there = append(there, name)
			}
		}
		c.borrowed = there
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
	if err == nil && len(unseen) > 0 && c.Publication == "" && c.borrowed == nil && prepared {
		if borrow(); len(c.borrowed) > 0 {
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
	all, err := list(ctx, r.control)
	if err != nil {
		return nil, err
	}
	published, err := publishedTables(ctx, r.control, r.config.publications())
	if err != nil {
		return nil, err
	}
	var names []string
	for _, chosen := range r.config.choose(all) {
		for _, l := range chosen.members {
			if published[l.name()].place == "" {
				names = append(names, l.name())
			}
		}
	}
	slices.Sort(names)
	return names, nil
}

// engineSaysAway tells the error of a connection that was interrupted.
func engineSaysAway(err error) bool {
	var fault *engine.Fault
	return errors.As(err, &fault) && fault.Code == "source-away"
}

// clearTrial drops the trial's publications, and those of trials that ended
// without being able to.
func (c *Config) clearTrial(ctx context.Context) error {
	if c.Publication != "" {
		return nil
	}
	conn, err := c.connect(ctx, "trial")
	if err != nil {
		return err
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is open on it
	var left []string
	err = conn.QueryRow(ctx, `SELECT coalesce(array_agg(pubname::text), '{}') FROM pg_publication p
		WHERE starts_with(pubname, $1) AND pg_has_role(pubowner, 'USAGE') AND NOT EXISTS (
			SELECT FROM pg_replication_slots s WHERE s.active AND starts_with(p.pubname, s.slot_name) AND s.slot_name <> $2)`, tryPrefix, c.slotName()).Scan(&left)
	if err != nil {
		return err
	}
	for _, name := range left {
		if _, err := conn.Exec(ctx, "DROP PUBLICATION IF EXISTS "+quoted(name)); err != nil {
			return err
		}
	}
	return nil
}

// trialSink hands events on and keeps nothing.
type trialSink struct {
	mu   sync.Mutex
	each func(*change.OpenTransaction, *change.Row) error
	tx   change.OpenTransaction
	err  error
}

func (s *trialSink) Locked(f func() error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return f()
}

func (s *trialSink) Unlocked(f func() error) error {
	s.mu.Unlock()
	defer s.mu.Lock()
	return f()
}

func (s *trialSink) Checkpoint(func() engine.Checkpoint) {}
func (s *trialSink) Reserve() error                      { return s.err }
func (s *trialSink) Begin(id, origin string, commitTime int64, next uint64) {
	s.tx = change.OpenTransaction{ID: id, Origin: origin, CommitTime: commitTime, Next: next}
}

func (s *trialSink) Add(row *change.Row) {
	if s.err == nil {
		s.err = s.each(&s.tx, row)
	}
	s.tx.Next++
}

func (s *trialSink) Next() uint64                { return s.tx.Next }
func (s *trialSink) Commit()                     {}
func (s *trialSink) Table(engine.TableState)     {}
func (s *trialSink) Touch()                      {}
func (s *trialSink) Store(context.Context) error { return s.err }

func (s *trialSink) StoreWhole(context.Context) error { return s.err }
func (s *trialSink) Released() uint64                 { return 0 }
func (s *trialSink) Report(engine.Report)             {}
