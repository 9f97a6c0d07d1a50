// Package service puts the parts together: it keeps a capture running for each
// source and a delivery for each outlet, as their records say, and answers what
// the API asks. It knows no HTTP.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/netguard"
	"rillmark/internal/outlet"
	"rillmark/internal/state"
)

// Service is one running Rillmark.
type Service struct {
	Config  *Config
	Catalog *catalog.Catalog
	Store   journal.Journals
	Started time.Time

	log      *runLog
	pool     *pgxpool.Pool
	instance *catalog.Instance
	guard    *netguard.Guard

	reconciling sync.Mutex // one reconciliation at a time
	closing     bool       // guarded by reconciling: nothing starts any more
	mu          sync.Mutex
	stateError  string
	sources     map[string]*sourceRun
	outlets     map[string]*outletRun
	status      statusCache
	budget      outlet.MemoryBudget
	leasing     sync.Map // of the outlets' ids: whose turn it is to lease

	draining context.Context // ended when no request should wait any longer
	drain    context.CancelFunc

	work   context.Context // of all goroutines
	cancel context.CancelCauseFunc
	done   sync.WaitGroup
}

// sourceRun is a source's record with its capture, if it runs.
type sourceRun struct {
	record  *catalog.Source
	capture *capture.Source
	stop    func() // ends the capture and waits for it; nil while paused
	held    atomic.Pointer[watched]
}

type outletRun struct {
	record    *catalog.Outlet
	source    int64
	kind      string
	runner    *outlet.Outlet // nil for a pull outlet
	wrong     error          // why the record cannot be run; nil where it can
	stop      func()
	retention atomic.Pointer[RetentionUse]
}

// stateSessions are what the service has with its state database, besides one for each
// source that it captures.
const stateSessions = 12

// Open connects to the state database, brings it up to date, and starts what
// its records say. It waits up to patience for a database that is away.
func Open(ctx context.Context, config *Config, logger *slog.Logger, patience time.Duration) (*Service, error) {
	keeper, err := catalog.NewKeeper(config.KeyFile)
	if err != nil {
		return nil, err
	}
	keeper.References = catalog.References{Prefixes: config.Secrets.Env, Folders: config.Secrets.Folders}
	policy, err := config.policy()
	if err != nil {
		return nil, err
	}
	poolConfig, err := pgxpool.ParseConfig(config.StateDatabase)
	if err != nil {
		return nil, fmt.Errorf("the configuration: state_database is no address of a PostgreSQL database: %w", err)
	}
	// However many outlets there are; a source's writer has one more of its own.
	poolConfig.MaxConns = stateSessions
	poolConfig.ConnConfig.ConnectTimeout = 5 * time.Second
	poolConfig.ConnConfig.RuntimeParams["application_name"] = "rillmark state"
	pool, err := pgxpool.NewWithConfig(ctx, poolConfig)
	if err != nil {
		return nil, err
	}
	deadline := time.Now().Add(patience)
	for waiting := false; ; waiting = true {
		s, err := open(ctx, config, logger, pool, keeper, netguard.New(policy))
		if err == nil {
			return s, nil
		}
		switch {
		case !passes(err):
			pool.Close()
			return nil, err
		case time.Now().After(deadline):
			pool.Close()
			return nil, fmt.Errorf("the state database cannot be reached: %w", err)
		}
		if !waiting {
			logger.Warn("waiting for the state database", "error", err)
		}
		select {
		case <-ctx.Done():
			pool.Close()
			return nil, context.Cause(ctx)
		case <-time.After(250 * time.Millisecond):
		}
	}
}

// passes reports whether an error may be of a state database that is starting, or has
// gone while we did: no answer at all, or one that says so.
func passes(err error) bool {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return strings.HasPrefix(server.Code, "57P") || strings.HasPrefix(server.Code, "53")
	}
	var network net.Error
	var connecting *pgconn.ConnectError
	return errors.As(err, &network) || errors.As(err, &connecting) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		strings.Contains(err.Error(), "conn closed") // which pgx has no error value for
}

// open prepares the state database and starts what its records say. After an error
// nothing runs, and the pool is as it was.
func open(ctx context.Context, config *Config, logger *slog.Logger, pool *pgxpool.Pool, keeper *catalog.Keeper, guard *netguard.Guard) (*Service, error) {
	if err := state.Migrate(ctx, pool); err != nil {
		return nil, err
	}
	c := catalog.New(pool, keeper)
	if err := c.SealDestinations(ctx); err != nil {
		return nil, err
	}
	s := &Service{guard: guard, Config: config, Catalog: c, Started: time.Now(), log: newRunLog(logger), pool: pool,
		Store:   journal.NewStore(pool, c.ResolveSchema, journal.Options{SegmentBytes: config.Journal.SegmentBytes}),
		sources: make(map[string]*sourceRun), outlets: make(map[string]*outletRun)}
	s.work, s.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	s.instance = c.NewInstance()
	if err := s.instance.Renew(ctx); err != nil {
		return nil, fmt.Errorf("the state database cannot be written to: %w", err)
	}
	s.goes(func() { s.instance.Keep(s.work) })
	s.goes(func() { s.instance.KeepCommitting(s.work) })
	s.draining, s.drain = context.WithCancel(s.work)
	s.status.changed = make(chan struct{})
	if config.StartPaused {
		if err := c.PauseAll(ctx, "the service was started with --paused"); err != nil {
			s.shutDown("could not start")
			return nil, fmt.Errorf("pausing everything: %w", err)
		}
	}
	if err := s.reconcile(ctx); err != nil {
		s.shutDown("could not start")
		return nil, err
	}
	s.log.write("info", "service", "started", "the service has started on "+config.Listen)
	s.goes(func() { s.log.keep(s.work, c) })
	s.goes(s.keepReconciling)
	s.goes(s.keepStatus)
	s.goes(s.keepUp)
	s.goes(s.keepWatch)
	s.goes(s.keepHistory)
	return s, nil
}

// Drain ends what only waits: live streams, and reads that wait for a first event.
// Everything else goes on until [Service.Close].
func (s *Service) Drain() { s.drain() }

func (s *Service) goes(f func()) {
	s.done.Add(1)
	go func() {
		defer s.done.Done()
		f()
	}()
}

// Close stops everything in order: captures and outlets first, so that what they
// have is stored, then the rest. It takes up to some seconds.
func (s *Service) Close(reason string) {
	s.log.write("info", "service", "stopping", "the service stops: "+reason)
	s.shutDown(reason)
	s.pool.Close()
}

// shutDown is Close for all but the pool.
func (s *Service) shutDown(reason string) {
	s.reconciling.Lock()
	s.closing = true
	s.reconciling.Unlock() // who waits for it has to see that, and end
	s.storeHistories()
	s.mu.Lock()
	var stops []func()
	for _, o := range s.outlets {
		stops = append(stops, o.stop)
	}
	for _, one := range s.sources {
		stops = append(stops, one.stop)
	}
	s.mu.Unlock()
	var all sync.WaitGroup
	for _, stop := range stops {
		if stop != nil {
			all.Add(1)
			go func() {
				defer all.Done()
				stop()
			}()
		}
	}
	all.Wait()
	s.cancel(errors.New(reason))
	s.done.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	s.instance.Leave(ctx) //nolint:errcheck // its line runs out by itself
}

const reconcileEvery = 5 * time.Second

// keepReconciling follows what other instances change in the records.
func (s *Service) keepReconciling() {
	ticker := time.NewTicker(reconcileEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.work.Done():
			return
		case <-ticker.C:
		}
		err := s.reconcile(s.work)
		s.mu.Lock()
		was := s.stateError
		s.stateError = ""
		if err != nil {
			s.stateError = err.Error()
		}
		s.mu.Unlock()
		switch {
		case err != nil && was == "" && s.work.Err() == nil:
			s.log.write("error", "service", "state-database", "the state database does not answer: "+err.Error())
		case err == nil && was != "":
			s.log.write("info", "service", "state-database", "the state database answers again")
		}
	}
}

// reconcile makes what runs equal to what the records say.
func (s *Service) reconcile(ctx context.Context) error {
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	if s.closing {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return err
	}
	outlets, err := s.Catalog.Outlets(ctx)
	if err != nil {
		return err
	}
	seen := make(map[string]bool)
	for _, record := range sources {
		seen[record.Name] = true
		s.alignSource(record)
	}
	for name := range s.copySources() {
		if !seen[name] {
			s.dropSource(name)
		}
	}
	clear(seen)
	var failed, wrong error
	for _, record := range outlets {
		seen[record.Name] = true
		if err := s.alignOutlet(ctx, record); err != nil {
			// One record that is wrong must not keep the others from running.
			if wrong = s.refuseOutlet(record, err); wrong != nil {
				failed = errors.Join(failed, wrong)
			}
		}
	}
	for name := range s.copyOutlets() {
		if !seen[name] {
			s.dropOutlet(name)
		}
	}
	s.status.expire()
	return failed
}

// refuseOutlet puts on record that an outlet cannot be run as it is defined, to be
// tried again at the next look; an error of another kind, such as of the state
// database, is given back.
func (s *Service) refuseOutlet(record *catalog.Outlet, err error) error {
	var invalid *definition.Invalid
	var fault *engine.Fault
	switch {
	case errors.As(err, &invalid):
		err = &engine.Fault{Code: CodeInvalid, Message: "the stored definition cannot be used", Cause: err, Fix: "correct it with `rillmark outlet edit " + record.Name + "`"}
	case errors.As(err, &fault):
	case errors.Is(err, catalog.ErrNotFound):
		return nil // removed by another instance in this moment
	default:
		return err
	}
	s.mu.Lock()
	old := s.outlets[record.Name]
	one := &outletRun{record: record, wrong: err}
	if source := s.sources[record.Definition.Source]; source != nil {
		one.source = source.record.ID
	}
	s.outlets[record.Name] = one
	s.mu.Unlock()
	if old == nil || old.wrong == nil || old.wrong.Error() != err.Error() {
		s.log.write("error", "outlet/"+record.Name, "refused", err.Error())
	}
	return nil
}

func (s *Service) copySources() map[string]*sourceRun {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.sources)
}

func (s *Service) copyOutlets() map[string]*outletRun {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.outlets)
}

func (s *Service) alignSource(record *catalog.Source) {
	s.mu.Lock()
	old := s.sources[record.Name]
	s.mu.Unlock()
	if old != nil && old.record.ID == record.ID && old.record.Version == record.Version && old.record.UpdatedAt.Equal(record.UpdatedAt) {
		return
	}
	if old != nil && old.stop != nil {
		old.stop()
	}
	one := &sourceRun{record: record}
	stats := new(capture.Stats)
	if old != nil && old.record.ID == record.ID {
		stats = old.capture.Stats
	}
	one.capture = &capture.Source{ID: record.ID, Name: record.Name, Catalog: s.Catalog, Store: s.Store, Stats: stats,
		Engine: func() (engine.Engine, error) {
			if record.Broken != nil {
				return nil, record.Broken
			}
			return s.buildEngine(record)
		},
		Log: func(level, event, message string) {
			s.log.write(level, "source/"+record.Name, event, message)
		},
		Once:     record.Once,
		Complete: func() { s.goes(func() { s.complete(record) }) },
		CaughtUp: func() { s.goes(func() { s.caughtUp(record) }) }}
	if old != nil && old.record.ID == record.ID {
		one.held.Store(old.held.Load())
	}
	if record.Running {
		one.stop = s.start(one.capture.Run)
	}
	s.mu.Lock()
	s.sources[record.Name] = one
	s.mu.Unlock()
}

// start runs f until the returned function is called, which waits for its end.
func (s *Service) start(f func(context.Context)) (stop func()) {
	ctx, cancel := context.WithCancel(s.work)
	done := make(chan struct{})
	s.goes(func() {
		defer close(done)
		f(ctx)
	})
	return func() {
		cancel()
		<-done
	}
}

func (s *Service) dropSource(name string) {
	s.mu.Lock()
	old := s.sources[name]
	delete(s.sources, name)
	s.mu.Unlock()
	if old != nil && old.stop != nil {
		old.stop()
	}
}

func (s *Service) dropOutlet(name string) {
	s.mu.Lock()
	old := s.outlets[name]
	delete(s.outlets, name)
	s.mu.Unlock()
	if old != nil && old.stop != nil {
		old.stop()
	}
}

func (s *Service) alignOutlet(ctx context.Context, record *catalog.Outlet) error {
	s.mu.Lock()
	old := s.outlets[record.Name]
	source := s.sources[record.Definition.Source]
	s.mu.Unlock()
	if old != nil && old.wrong == nil && old.record.ID == record.ID && old.record.Version == record.Version && old.record.UpdatedAt.Equal(record.UpdatedAt) {
		return nil
	}
	if record.Broken != nil {
		return record.Broken
	}
	if source == nil {
		return nil // removed by another instance in this moment
	}
	if old != nil && old.stop != nil {
		old.stop()
	}
	origin, err := s.origin(ctx, source.record)
	if err != nil {
		return err
	}
	one := &outletRun{record: record, source: source.record.ID}
	if record.Definition.Destination != "" {
		if one.runner, one.kind, err = s.buildOutlet(ctx, record, origin); err != nil {
			return err
		}
		if old != nil && old.runner != nil && old.record.ID == record.ID {
			one.runner.Carry(old.runner)
		} else if err := one.runner.Recall(ctx); err != nil {
			return err
		}
		if record.Running {
			one.stop = s.start(one.runner.Run)
		}
	}
	s.mu.Lock()
	s.outlets[record.Name] = one
	s.mu.Unlock()
	return nil
}

func (s *Service) origin(ctx context.Context, source *catalog.Source) (outlet.Origin, error) {
	head, err := s.Store.Head(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	cuts, err := s.Store.GenerationStarts(ctx, source.ID)
	if err != nil {
		return outlet.Origin{}, err
	}
	return outlet.Origin{GenerationStarts: cuts, Source: source.Name, SourceID: source.ID, Database: source.Definition.Database(),
		Engine: change.Engine(source.Definition.Engine), Generation: head.Generation}, nil
}

const (
	// settle is how old blocks are before they are merged: readers near the
	// end find them as they were written.
	settle     = time.Minute
	logAge     = 30 * 24 * time.Hour
	logEntries = 100_000
)

// keepUp merges small blocks and drops what retention lets go.
func (s *Service) keepUp() {
	ticker := time.NewTicker(s.Config.Journal.UpkeepEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.work.Done():
			return
		case <-ticker.C:
		}
		for name, one := range s.copySources() {
			if _, _, writes := one.capture.Counts(); !writes {
				continue // whoever writes the journal looks after it
			}
			loading := one.capture.Stats.Loading() // it would take the processor from the load
			if err := s.Store.Upkeep(s.work, one.record.ID, settle, loading); err != nil && s.work.Err() == nil {
				s.log.write("warn", "source/"+name, "upkeep", err.Error())
			}
			s.retain(name, one)
		}
		if err := s.Catalog.TrimLog(s.work, logAge, logEntries); err != nil && s.work.Err() == nil {
			s.log.write("warn", "service", "log", err.Error())
		}
	}
}
