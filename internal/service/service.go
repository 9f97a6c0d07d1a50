// Package service puts the parts together: it keeps a capture running for each
// source and a delivery for each outlet, as their records say, and answers what
// the API asks. It knows no HTTP.
//
//   - [Service] is all of it; service.go starts and ends it.
//   - [Sources], [Destinations], [Outlets], [DeadLetters], [Forms], [Overview] and [Sessions] are what
//     can be asked, each with its own state. Package reading has what consumers read themselves,
//     explaining what outlets would send and have made of events, comparing what is done with the
//     tables that they keep in databases, impact what a change of a table would do to them. All
//     work with package base.
//   - Package running makes what runs equal to what the records say, and upkeep looks after
//     journals and what sources retain for us.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/config"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/journal"
	"rillmark/internal/netguard"
	"rillmark/internal/service/base"
	"rillmark/internal/service/comparing"
	"rillmark/internal/service/explaining"
	"rillmark/internal/service/impact"
	"rillmark/internal/service/reading"
	"rillmark/internal/service/running"
	"rillmark/internal/service/upkeep"
	"rillmark/internal/state"
	"rillmark/internal/thrift"
)

// Service is one running Rillmark: what its parts do, and how they start and end.
type Service struct {
	*base.Common
	Sources      *Sources
	Destinations *Destinations
	Outlets      *Outlets
	DeadLetters  *DeadLetters
	Forms        *Forms
	Reading      *reading.Reading
	Journals     *reading.Journals
	Overview     *Overview
	Sessions     *Sessions
	Impact       *impact.Impact
	Comparing    *comparing.Comparing
	Explaining   *explaining.Explaining

	running *running.Running
	upkeep  *upkeep.Upkeep
}

// The parts, each with its own state. A part that needs another names it.
type (
	// Sources are what is captured: their records, checks, scripts, trials and loads.
	Sources struct {
		*base.Common
		running  *running.Running
		overview *Overview
	}
	// Destinations are where outlets deliver to.
	Destinations struct {
		*base.Common
		running *running.Running
	}
	// Outlets are the consumers of journals: their records, what they would send, where
	// they stand.
	Outlets struct {
		*base.Common
		running      *running.Running
		sources      *Sources
		destinations *Destinations
		journals     *reading.Journals
		overview     *Overview
	}
	// DeadLetters are the events that destinations refused.
	DeadLetters struct {
		*base.Common
		running    *running.Running
		explaining *explaining.Explaining
	}
	// Forms are forms of rows that outlets share.
	Forms struct {
		*base.Common
		running *running.Running
		outlets *Outlets
	}
	// Overview is how everything stands.
	Overview struct {
		*base.Common
		running *running.Running
		cache   statusCache
	}
)

// stateSessions are what the service has with its state database, besides one for each
// source that it captures.
const stateSessions = 12

// Open connects to the state database, brings it up to date, and starts what
// its records say. It waits up to patience for a database that is away.
func Open(ctx context.Context, config *config.Config, logger *slog.Logger, patience time.Duration) (*Service, error) {
	keeper, err := catalog.NewKeeper(config.KeyFile)
	if err != nil {
		return nil, err
	}
	keeper.References = catalog.References{Prefixes: config.Secrets.Env, Folders: config.Secrets.Folders}
	policy, err := config.Policy()
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
	poolConfig.ConnConfig.DialFunc = pgconn.DialFunc(thrift.Dialer(poolConfig.ConnConfig.DialFunc))
	poolConfig.ConnConfig.RuntimeParams["application_name"] = "rillmark state"
	// An instance that is frozen in a transaction keeps others waiting no longer.
	poolConfig.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = "10s"
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
		case time.Now().After(deadline) && errors.As(err, new(*otherwiseError)):
			pool.Close()
			return nil, err
		case time.Now().After(deadline):
			pool.Close()
			return nil, fmt.Errorf("the state database cannot be reached: %w", err)
		}
		if !waiting {
			logger.Warn("waiting for the state database, or for another instance that is ending", "error", err)
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
	if errors.As(err, new(*otherwiseError)) {
		return true // one that was killed is forgotten in a moment
	}
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return strings.HasPrefix(server.Code, "57P") || strings.HasPrefix(server.Code, "53")
	}
	var network net.Error
	var connecting *pgconn.ConnectError
	return errors.As(err, &network) || errors.As(err, &connecting) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		strings.Contains(err.Error(), "conn closed") // which pgx has no error value for
}

// inCommon is what instances on one state database must have in common: what one seals another
// opens, and where one has left files another goes on.
func inCommon(config *config.Config, keeper *catalog.Keeper) string {
	files := config.FilesRoot
	if files != "" {
		if whole, err := filepath.Abs(files); err == nil {
			files = whole
		}
		if real, err := filepath.EvalSymlinks(files); err == nil {
			files = real
		}
	}
	return "key " + keeper.Mark + ", files_root " + files
}

// otherwiseError keeps an instance from sharing a state database.
type otherwiseError struct{ ours, theirs string }

func (e *otherwiseError) Error() string {
	return fmt.Sprintf("another instance runs on this state database with %s, and this one has %s: they cannot share sources and outlets. Give both the same key file and files_root, or this one a state database of its own", e.theirs, e.ours)
}

// assemble puts the parts together; nothing runs yet.
func assemble(c *base.Common) *Service {
	overview := &Overview{Common: c}
	overview.cache.changed = make(chan struct{})
	overview.cache.waken = make(chan struct{}, 1)
	run := running.New(c)
	overview.running = run
	s := &Service{Common: c, running: run, Overview: overview, Reading: reading.NewReading(c), Journals: reading.NewJournals(c), Sessions: &Sessions{c},
		Sources: &Sources{Common: c, running: run, overview: overview}, Destinations: &Destinations{Common: c, running: run}}
	s.Outlets = &Outlets{Common: c, running: run, sources: s.Sources, destinations: s.Destinations, journals: s.Journals, overview: overview}
	toDestination := func(d definition.Outlet) (destination.Destination, error) { return s.Destinations.buildFor(d, nil) }
	s.Impact = &impact.Impact{Common: c, Engine: s.Sources.build, Destination: toDestination}
	s.Explaining = &explaining.Explaining{Common: c, Destination: toDestination, Runner: run.Runner,
		Draft: func(to definition.Destination, d definition.Outlet) (destination.Destination, error) {
			return s.Destinations.build(d.Destination, to, &d, nil)
		}}
	s.Comparing = &comparing.Comparing{Common: c, Engine: s.Sources.build, Destination: toDestination, Load: s.Outlets.askLoad, Running: run,
		Pause: func(ctx context.Context, name, reason string) error {
			return s.Outlets.SetRunning(ctx, name, false, reason, 0)
		},
		Resume: func(ctx context.Context, name, reason string) error {
			return s.Outlets.SetRunning(ctx, name, true, reason, 0)
		},
		SetBehind: func(ctx context.Context, name string, offset int64) error {
			_, err := s.Outlets.Rewind(ctx, name, RewindPlan{To: strconv.FormatInt(offset+1, 10)})
			return err
		},
		Check: func(ctx context.Context, name string) ([]change.Check, error) {
			checks, _, err := s.Outlets.Check(ctx, name, nil, false)
			return checks, err
		}}
	s.upkeep = &upkeep.Upkeep{Common: c, Running: run, Engine: s.Sources.build}
	s.DeadLetters = &DeadLetters{Common: c, running: run, explaining: s.Explaining}
	s.Forms = &Forms{Common: c, running: run, outlets: s.Outlets}
	run.Parts = running.Parts{Engine: s.Sources.build, Complete: s.Sources.complete, CaughtUp: s.Sources.caughtUp, Delivery: s.Outlets.build, Changed: overview.cache.expire}
	return s
}

// Describing is a service that only says what it offers, without a state database.
func Describing() *Service { return assemble(&base.Common{Config: new(config.Config)}) }

// open prepares the state database and starts what its records say. After an error
// nothing runs, and the pool is as it was.
func open(ctx context.Context, config *config.Config, logger *slog.Logger, pool *pgxpool.Pool, keeper *catalog.Keeper, guard *netguard.Guard) (*Service, error) {
	if err := state.Migrate(ctx, pool); err != nil {
		return nil, err
	}
	c := catalog.New(pool, keeper)
	if err := c.SealAnew(ctx); err != nil {
		return nil, err
	}
	s := assemble(&base.Common{Guard: guard, Config: config, Catalog: c, Started: time.Now(), RunLog: base.NewRunLog(logger), Pool: pool,
		Store: journal.NewStore(pool, c.ResolveSchema, journal.Options{SegmentBytes: config.Journal.SegmentBytes})})
	s.RunLog.Conceal = keeper.Conceal
	s.Work, s.Cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	s.Instance = c.NewInstance()
	s.Instance.Configured = inCommon(config, keeper)
	if other, err := s.Instance.Otherwise(ctx); err != nil {
		return nil, fmt.Errorf("looking for other instances: %w", err)
	} else if other != "" {
		return nil, &otherwiseError{s.Instance.Configured, other}
	}
	if err := s.Instance.Renew(ctx); err != nil {
		return nil, fmt.Errorf("the state database cannot be written to: %w", err)
	}
	s.Goes(func() { s.Instance.Keep(s.Work) })
	s.Goes(func() { s.Instance.KeepCommitting(s.Work) })
	s.Draining, s.Common.Drain = context.WithCancel(s.Work)
	if config.StartPaused {
		if err := c.PauseAll(ctx, "the service was started with --paused"); err != nil {
			s.shutDown("could not start")
			return nil, fmt.Errorf("pausing everything: %w", err)
		}
	}
	if err := s.running.Reconcile(); err != nil {
		s.shutDown("could not start")
		return nil, err
	}
	s.RunLog.Write("info", "service", "started", "the service has started on "+config.Listen)
	s.Goes(func() { s.RunLog.Keep(s.Work, c) })
	s.Goes(s.running.Keep)
	s.Goes(s.running.Loads.Keep)
	s.Goes(s.Overview.keep)
	s.Goes(s.Comparing.Keep)
	s.Goes(s.upkeep.Keep)
	s.Goes(s.upkeep.KeepWatching)
	s.Goes(s.upkeep.KeepHistories)
	return s, nil
}

// Drain ends what only waits: live streams, and reads that wait for a first event.
// Everything else goes on until [Service.Close].
func (s *Service) Drain() { s.Common.Drain() }

// Close stops everything in order: captures and outlets first, so that what they
// have is stored, then the rest. It takes up to some seconds; what has not ended then is left.
func (s *Service) Close(reason string) {
	s.RunLog.Write("info", "service", "stopping", "the service stops: "+reason)
	s.shutDown(reason)
	within(time.Second, s.Pool.Close)
}

// within waits for something as long as it may take, at most.
func within(most time.Duration, wait func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		wait()
	}()
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case <-done:
	case <-timer.C: // what is left ends with the process, and was named in the log
	}
}

// shutDown is Close for all but the pool.
func (s *Service) shutDown(reason string) {
	s.running.Closing()
	s.upkeep.StoreHistories()
	s.running.StopAll()
	s.Cancel(errors.New(reason))
	within(time.Second, s.Done.Wait)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	s.Instance.Leave(ctx) //nolint:errcheck // its line runs out by itself
}
