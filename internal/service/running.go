package service

import (
	"context"
	"errors"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

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

// running is what runs: a capture for each source, a delivery for each outlet, as the
// records say.
type running struct {
	*base.Common
	captures   *Sources // makes engines, and hears how captures end
	deliveries *Outlets // makes deliveries
	overview   *Overview
	loads      outletLoads

	reconciling sync.Mutex // one reconciliation at a time
	closing     bool       // guarded by reconciling: nothing starts any more
	mu          sync.Mutex
	stateError  string
	sources     map[string]*sourceRun
	outlets     map[string]*outletRun
	budget      outlet.MemoryBudget
}

const reconcileEvery = 5 * time.Second

// keepReconciling follows what other instances change in the records.
func (s *running) keepReconciling() {
	ticker := time.NewTicker(reconcileEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
		err := s.reconcile()
		s.mu.Lock()
		was := s.stateError
		s.stateError = ""
		if err != nil {
			s.stateError = err.Error()
		}
		s.mu.Unlock()
		switch {
		case err != nil && was == "" && s.Work.Err() == nil:
			s.RunLog.Write("error", "service", "state-database", "the state database does not answer: "+err.Error())
		case err == nil && was != "":
			s.RunLog.Write("info", "service", "state-database", "the state database answers again")
		}
	}
}

// reconcile makes what runs equal to what the records say.
func (s *running) reconcile() error {
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	if s.closing {
		return nil
	}
	// What a call has begun is finished, also when its caller has gone: an outlet that was
	// stopped here must not stay so because somebody lost patience.
	ctx, cancel := context.WithTimeout(s.Work, 10*time.Second)
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
	s.overview.cache.expire()
	return failed
}

// refuseOutlet puts on record that an outlet cannot be run as it is defined, to be
// tried again at the next look; an error of another kind, such as of the state
// database, is given back.
func (s *running) refuseOutlet(record *catalog.Outlet, err error) error {
	var invalid *definition.Invalid
	var fault *engine.Fault
	switch {
	case errors.As(err, &invalid):
		err = &engine.Fault{Code: base.CodeInvalid, Message: "the stored definition cannot be used", Cause: err, Fix: "correct it with `rillmark outlet edit " + record.Name + "`"}
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
		s.RunLog.Write("error", "outlet/"+record.Name, "refused", err.Error())
	}
	return nil
}

func (s *running) copySources() map[string]*sourceRun {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.sources)
}

func (s *running) copyOutlets() map[string]*outletRun {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.outlets)
}

func (s *running) alignSource(record *catalog.Source) {
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
	one.capture = &capture.Source{ID: record.ID, Name: record.Name, Catalog: s.Catalog, Store: s.Store, Stats: stats, Instance: s.Instance.ID(),
		Engine: func() (engine.Engine, error) {
			if record.Broken != nil {
				return nil, record.Broken
			}
			return s.captures.build(record)
		},
		Log: func(level, event, message string) {
			s.RunLog.Write(level, "source/"+record.Name, event, message)
		},
		Once:     record.Once,
		Complete: func() { s.Goes(func() { s.captures.complete(record) }) },
		CaughtUp: func() { s.Goes(func() { s.captures.caughtUp(record) }) }}
	if old != nil && old.record.ID == record.ID {
		one.held.Store(old.held.Load())
	}
	if record.Running {
		one.stop = s.Start(one.capture.Run)
	}
	s.mu.Lock()
	s.sources[record.Name] = one
	s.mu.Unlock()
}

func (s *running) alignOutlet(ctx context.Context, record *catalog.Outlet) error {
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
	origin, err := s.Origin(ctx, source.record)
	if err != nil {
		return err
	}
	one := &outletRun{record: record, source: source.record.ID}
	if record.Definition.Destination != "" {
		if one.runner, one.kind, err = s.deliveries.build(ctx, record, origin); err != nil {
			return err
		}
		if old != nil && old.runner != nil && old.record.ID == record.ID {
			one.runner.Carry(old.runner)
		} else if err := one.runner.Recall(ctx); err != nil {
			return err
		}
		if record.Running {
			one.stop = s.Start(one.runner.Run)
		}
	}
	s.mu.Lock()
	s.outlets[record.Name] = one
	s.mu.Unlock()
	return nil
}

func (s *running) dropSource(name string) {
	s.mu.Lock()
	old := s.sources[name]
	delete(s.sources, name)
	s.mu.Unlock()
	if old != nil && old.stop != nil {
		old.stop()
	}
}

func (s *running) dropOutlet(name string) {
	s.mu.Lock()
	old := s.outlets[name]
	delete(s.outlets, name)
	s.mu.Unlock()
	if old != nil && old.stop != nil {
		old.stop()
	}
}

// holdStill keeps what runs as it is until unlock is called. It is refused once the
// service is closing: what is started then would outlive it.
func (s *running) holdStill() (unlock func(), err error) {
	s.reconciling.Lock()
	if s.closing {
		s.reconciling.Unlock()
		return nil, &engine.Fault{Code: base.CodeStopping, Message: "the service is stopping, and changes nothing any more", Fix: "try again when it runs again"}
	}
	return s.reconciling.Unlock, nil
}

// restartOutlet ends an outlet's delivery and begins it anew, if it runs.
func (s *running) restartOutlet(one *outletRun) {
	if one.stop == nil {
		return
	}
	one.stop()
	s.mu.Lock()
	one.stop = s.Start(one.runner.Run)
	s.mu.Unlock()
}

func (s *running) wake(name string) {
	s.overview.cache.expire()
	s.mu.Lock()
	one := s.outlets[name]
	s.mu.Unlock()
	if one != nil && one.runner != nil {
		one.runner.Wake()
	}
}

func (s *running) outletsOf(source int64) []*outletRun {
	var all []*outletRun
	for _, o := range s.copyOutlets() {
		if o.source == source {
			all = append(all, o)
		}
	}
	return all
}

// Capturing implements [comparing.Running].
func (s *running) Capturing(name string) *capture.Source {
	if one := s.copySources()[name]; one != nil && one.stop != nil {
		return one.capture
	}
	return nil
}

// Delivering implements [comparing.Running].
func (s *running) Delivering(name string) *outlet.Outlet {
	if one := s.copyOutlets()[name]; one != nil && one.stop != nil {
		return one.runner
	}
	return nil
}

// runner is what delivers for an outlet here, or has delivered; nil where nothing does.
func (s *running) runner(name string) *outlet.Outlet {
	if one := s.copyOutlets()[name]; one != nil {
		return one.runner
	}
	return nil
}

// Delivered implements [comparing.Running].
func (s *running) Delivered() map[string]*catalog.Outlet {
	all := make(map[string]*catalog.Outlet)
	for name, one := range s.copyOutlets() {
		if one.runner != nil && one.stop != nil {
			all[name] = one.record
		}
	}
	return all
}

// Changed implements [comparing.Running].
func (s *running) Changed() { s.overview.cache.expire() }
