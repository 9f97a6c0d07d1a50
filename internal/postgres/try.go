package postgres

import (
	"context"
	"errors"
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
	trial.Source, trial.Slot, trial.Load, trial.LoadOnly = strings.TrimPrefix(tryPrefix, "rillmark_")+newNonce()[:12], "", false, false
	trialCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	err := trial.try(trialCtx, ready, each)
	if cleared := trial.clearTrial(context.WithoutCancel(ctx)); err == nil || errors.Is(err, context.Canceled) {
		err = cleared
	}
	return c.explain(err)
}

func (c *Config) try(ctx context.Context, ready func(), each func(*change.OpenTransaction, *change.Row) error) error {
	sink := &trialSink{each: each}
	r := &run{config: c, sink: sink, relations: make(map[uint32]*relation), tables: make(map[string]*table),
		marks: make(map[string]*mark), moreLoads: make(chan struct{}), known: true}
	var err error
	if r.control, err = c.connect(ctx, "trial"); err != nil {
		return err
	}
	defer r.control.Close(context.WithoutCancel(ctx)) //nolint:errcheck // only look-ups went over it
	if err := r.publish(ctx, r.control, true); err != nil {
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
	sync.Mutex
	each func(*change.OpenTransaction, *change.Row) error
	tx   change.OpenTransaction
	err  error
}

func (s *trialSink) Checkpoint(func() engine.Checkpoint) {}
func (s *trialSink) Room() error                         { return s.err }
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
func (s *trialSink) Released() uint64            { return 0 }
func (s *trialSink) Report(engine.Report)        {}
