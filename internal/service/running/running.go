// Package running makes what runs equal to what the records say: a capture for each source, a
// delivery for each outlet, and the loads that outlets have asked for.
package running

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
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

// Source is a source's record with its capture, which may not run.
type Source struct {
	Record  *catalog.Source
	Capture *capture.Source
	// Retained is what the source has said, lately, of the log that it keeps for us.
	Retained atomic.Pointer[Retained]
	work
}

// Retained is what a source said of its log, and when.
type Retained struct {
	Log engine.RetainedLog
	At  time.Time
}

// Outlet is an outlet's record with its delivery.
type Outlet struct {
	Record   *catalog.Outlet
	SourceID int64
	Kind     string
	Runner   *outlet.Outlet // nil for a pull outlet
	Wrong    error          // why the record cannot be run; nil where it can
	// hashKey is the source's, as it is stored, where rows may be hashed.
	hashKey string
	// Retention is how near it is to losing what it has not delivered; nil until it was looked at.
	Retention atomic.Pointer[RetentionUse]
	work
}

// RetentionUse is how near an outlet is to losing what it has not delivered.
type RetentionUse struct {
	Used  float64 `json:"used" doc:"The part of the journal's age or size that what is not delivered has used up; at 1 retention takes it"`
	Level string  `json:"level" enum:"fine,warning,lost" doc:"warning from 0.8 on; lost: the journal no longer has what is next"`
}

// Parts make what runs, and hear of it.
type Parts struct {
	// Engine makes a source's engine of its record.
	Engine func(*catalog.Source) (engine.Engine, error)
	// Complete hears that a load of everything has ended, CaughtUp that a run has that ends then.
	Complete, CaughtUp func(*catalog.Source)
	// Delivery makes an outlet's delivery of its record, and says of which kind it is.
	Delivery func(ctx context.Context, record *catalog.Outlet, origin outlet.Origin) (made *outlet.Outlet, kind string, err error)
	// Changed hears that something may stand in another way than before.
	Changed func()
}

// Running is what runs.
type Running struct {
	*base.Common
	Parts Parts
	Loads Loads
	// Budget is the memory that all deliveries share.
	Budget outlet.MemoryBudget

	reconciling sync.Mutex // one reconciliation at a time
	closing     bool       // guarded by reconciling: nothing starts any more
	mu          sync.Mutex
	stateError  string
	sources     map[string]*Source
	outlets     map[string]*Outlet
}

// New is nothing that runs yet; its Parts are to be set.
func New(c *base.Common) *Running {
	s := &Running{Common: c, sources: make(map[string]*Source), outlets: make(map[string]*Outlet)}
	s.Loads = Loads{running: s, woken: make(chan struct{}, 1)}
	return s
}

const reconcileEvery = 5 * time.Second

// Keep follows what other instances change in the records.
func (s *Running) Keep() {
	ticker := time.NewTicker(reconcileEvery)
	defer ticker.Stop()
	for {
		select {
		case <-s.Work.Done():
			return
		case <-ticker.C:
		}
		err := s.Reconcile()
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

// Reconcile makes what runs equal to what the records say. What has to end for that is waited for
// without a lock, so that nothing that is stuck is in the way of anything else; the error names what
// has not ended in its time, which goes on by its record as soon as it has.
func (s *Running) Reconcile() error {
	ending, err := s.align()
	if len(ending) == 0 {
		return err
	}
	var stuck []string
	for name, one := range ending {
		if one.wait() {
			continue
		}
		if one.mine {
			stuck = append(stuck, name)
		}
		if one.giveUp() {
			s.RunLog.Write("error", name, "stuck", fmt.Sprintf("it was asked to stop and has not within %s: it is given up, and goes on by its definition once it has ended", stopTime))
		}
	}
	if _, again := s.align(); err == nil {
		err = again
	}
	if len(stuck) > 0 && err == nil {
		slices.Sort(stuck)
		err = &engine.Fault{Code: base.CodeStuck, Message: strings.Join(stuck, ", ") + " has not stopped yet", Fix: "what was changed is on record, and holds as soon as it has; `rillmark log` says so"}
	}
	return err
}

// align is one round of Reconcile; ending is what was asked to end and has not yet.
func (s *Running) align() (ending map[string]ended, _ error) {
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	if s.closing {
		return nil, nil
	}
	ending = make(map[string]ended)
	// What a call has begun is finished, also when its caller has gone: an outlet that was
	// stopped here must not stay so because somebody lost patience.
	ctx, cancel := context.WithTimeout(s.Work, 10*time.Second)
	defer cancel()
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return nil, err
	}
	outlets, err := s.Catalog.Outlets(ctx)
	if err != nil {
		return nil, err
	}
	seen := make(map[string]bool)
	for _, record := range sources {
		seen[record.Name] = true
		s.alignSource(record, ending)
	}
	for name := range s.Sources() {
		if !seen[name] {
			s.dropSource(name, ending)
		}
	}
	clear(seen)
	var failed, wrong error
	for _, record := range outlets {
		seen[record.Name] = true
		if err := s.alignOutlet(ctx, record, ending); err != nil {
			// One record that is wrong must not keep the others from running.
			if wrong = s.refuseOutlet(record, err); wrong != nil {
				failed = errors.Join(failed, wrong)
			}
		}
	}
	for name := range s.Outlets() {
		if !seen[name] {
			s.dropOutlet(name, ending)
		}
	}
	s.Parts.Changed()
	return ending, failed
}

// refuseOutlet puts on record that an outlet cannot be run as it is defined, to be
// tried again at the next look; an error of another kind, such as of the state
// database, is given back.
func (s *Running) refuseOutlet(record *catalog.Outlet, err error) error {
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
	one := &Outlet{Record: record, Wrong: err}
	if source := s.sources[record.Definition.Source]; source != nil {
		one.SourceID = source.Record.ID
	}
	s.outlets[record.Name] = one
	s.mu.Unlock()
	if old == nil || old.Wrong == nil || old.Wrong.Error() != err.Error() {
		s.RunLog.Write("error", "outlet/"+record.Name, "refused", err.Error())
	}
	return nil
}

// Sources are all of them, by their names.
func (s *Running) Sources() map[string]*Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.sources)
}

// Outlets are all of them, by their names.
func (s *Running) Outlets() map[string]*Outlet {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.outlets)
}

// ended is what was asked to end, and whether by the round at hand.
type ended struct {
	*work
	mine bool
}

// free reports whether what stands for a record may be replaced: it has ended, and nobody keeps it
// from running. What has not ended is put among ending, unless it was given up before.
func free(one *work, name string, ending map[string]ended) bool {
	if !one.still.TryLock() {
		return false // whoever keeps it still reconciles afterwards
	}
	defer one.still.Unlock()
	has, first := one.ask()
	if !has && !one.now.Load().told.Load() {
		ending[name] = ended{one, first}
	}
	return has
}

func (s *Running) alignSource(record *catalog.Source, ending map[string]ended) {
	s.mu.Lock()
	old := s.sources[record.Name]
	s.mu.Unlock()
	if old != nil && old.Record.ID == record.ID && old.Record.Version == record.Version && old.Record.UpdatedAt.Equal(record.UpdatedAt) && !(record.Running && old.wasAsked()) {
		return
	}
	if old != nil && !free(&old.work, "source/"+record.Name, ending) {
		return
	}
	one := &Source{Record: record}
	stats := new(capture.Stats)
	if old != nil && old.Record.ID == record.ID {
		stats = old.Capture.Stats
	}
	one.Capture = &capture.Source{ID: record.ID, Name: record.Name, Catalog: s.Catalog, Store: s.Store, Stats: stats, Instance: s.Instance.ID(),
		Engine: func() (engine.Engine, error) {
			if record.Broken != nil {
				return nil, record.Broken
			}
			return s.Parts.Engine(record)
		},
		Log: func(level, event, message string) {
			s.RunLog.Write(level, "source/"+record.Name, event, message)
		},
		Once:     record.Once,
		Complete: func() { s.Goes(func() { s.Parts.Complete(record) }) },
		CaughtUp: func() { s.Goes(func() { s.Parts.CaughtUp(record) }) }}
	if old != nil && old.Record.ID == record.ID {
		one.Retained.Store(old.Retained.Load())
	}
	if record.Running {
		one.begin(s, one.Capture.Run)
	}
	s.mu.Lock()
	s.sources[record.Name] = one
	s.mu.Unlock()
}

func (s *Running) alignOutlet(ctx context.Context, record *catalog.Outlet, ending map[string]ended) error {
	s.mu.Lock()
	old := s.outlets[record.Name]
	source := s.sources[record.Definition.Source]
	s.mu.Unlock()
	hashKey := ""
	if d := &record.Definition; source != nil && len(d.Rows)+len(d.Forms) > 0 {
		hashKey = string(source.Record.Definition.HashKey)
	}
	if old != nil && old.Wrong == nil && old.Record.ID == record.ID && old.Record.Version == record.Version && old.Record.UpdatedAt.Equal(record.UpdatedAt) && old.hashKey == hashKey && !(record.Running && old.wasAsked()) {
		return nil
	}
	if source == nil {
		return nil // removed by another instance in this moment
	}
	if old != nil && !free(&old.work, "outlet/"+record.Name, ending) {
		return nil
	}
	if record.Broken != nil {
		return record.Broken
	}
	origin, err := s.Origin(ctx, source.Record)
	if err != nil {
		return err
	}
	one := &Outlet{Record: record, SourceID: source.Record.ID, hashKey: hashKey}
	if record.Definition.Destination != "" {
		if one.Runner, one.Kind, err = s.Parts.Delivery(ctx, record, origin); err != nil {
			return err
		}
		if old != nil && old.Runner != nil && old.Record.ID == record.ID {
			one.Runner.Carry(old.Runner)
		} else if err := one.Runner.Recall(ctx); err != nil {
			return err
		}
		if record.Running {
			one.begin(s, one.Runner.Run)
		}
	}
	s.mu.Lock()
	s.outlets[record.Name] = one
	s.mu.Unlock()
	return nil
}

func (s *Running) dropSource(name string, ending map[string]ended) {
	s.mu.Lock()
	old := s.sources[name]
	delete(s.sources, name)
	s.mu.Unlock()
	if old != nil {
		old.dropped.Store(true)
		free(&old.work, "source/"+name, ending)
	}
}

func (s *Running) dropOutlet(name string, ending map[string]ended) {
	s.mu.Lock()
	old := s.outlets[name]
	delete(s.outlets, name)
	s.mu.Unlock()
	if old != nil {
		old.dropped.Store(true)
		free(&old.work, "outlet/"+name, ending)
	}
}

// Closing has nothing start any more.
func (s *Running) Closing() {
	s.reconciling.Lock()
	s.closing = true
	s.reconciling.Unlock() // who waits for it has to see that, and end
}

// StopAll ends what runs, and waits for it as long as that may take; it names in the log what it has
// given up.
func (s *Running) StopAll() {
	all := make(map[string]*work)
	for name, one := range s.Outlets() {
		all["outlet/"+name] = &one.work
	}
	for name, one := range s.Sources() {
		all["source/"+name] = &one.work
	}
	for _, one := range all {
		one.ask()
	}
	for name, one := range all {
		if !one.wait() {
			s.RunLog.Write("error", name, "stuck", fmt.Sprintf("it has not stopped within %s, and ends with the process", stopTime))
		}
	}
}

// OutletStill ends a delivery until goOn is called; nothing happens where it does not run. The error
// says that it does not end.
func (s *Running) OutletStill(name string) (goOn func(), err error) {
	for {
		one := s.Outlet(name)
		if one == nil {
			return func() {}, nil
		}
		one.still.Lock()
		if s.Outlet(name) == one {
			return one.keepStill(s, "outlet/"+name, func(ctx context.Context) { one.Runner.Run(ctx) })
		}
		one.still.Unlock() // another one has taken its place
	}
}

// SourceStill ends a capture until goOn is called, as OutletStill does a delivery.
func (s *Running) SourceStill(name string) (goOn func(), err error) {
	for {
		one := s.Source(name)
		if one == nil {
			return func() {}, nil
		}
		one.still.Lock()
		if s.Source(name) == one {
			return one.keepStill(s, "source/"+name, one.Capture.Run)
		}
		one.still.Unlock()
	}
}

// keepStill has what is locked end until goOn is called, which unlocks it.
func (w *work) keepStill(among *Running, name string, run func(context.Context)) (goOn func(), err error) {
	if !w.Runs() {
		return w.still.Unlock, nil
	}
	if has, _ := w.ask(); !has && !w.wait() {
		w.still.Unlock()
		return nil, &engine.Fault{Code: base.CodeStuck, Message: fmt.Sprintf("%s does not stop within %s, so that nothing can be changed under it", name, stopTime), Fix: "try again; if that does not help, restart the service"}
	}
	return func() {
		defer w.still.Unlock()
		among.reconciling.Lock()
		defer among.reconciling.Unlock()
		if !among.closing && !w.dropped.Load() {
			w.begin(among, run)
		}
	}, nil
}

// StateError is why the state database could not be read at the last look; empty where it could.
func (s *Running) StateError() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stateError
}

// Source is a source of a name; nil where there is none.
func (s *Running) Source(name string) *Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sources[name]
}

// Outlet is an outlet of a name; nil where there is none.
func (s *Running) Outlet(name string) *Outlet {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.outlets[name]
}

// Wake has a delivery look at once whether there is something to do.
func (s *Running) Wake(name string) {
	s.Parts.Changed()
	if one := s.Outlet(name); one != nil && one.Runner != nil {
		one.Runner.Wake()
	}
}

// OutletsOf are the outlets of a source.
func (s *Running) OutletsOf(source int64) []*Outlet {
	var all []*Outlet
	for _, o := range s.Outlets() {
		if o.SourceID == source {
			all = append(all, o)
		}
	}
	return all
}

// Capturing implements [comparing.Running].
func (s *Running) Capturing(name string) *capture.Source {
	if one := s.Source(name); one != nil && one.Runs() {
		return one.Capture
	}
	return nil
}

// Delivering implements [comparing.Running].
func (s *Running) Delivering(name string) *outlet.Outlet {
	if one := s.Outlet(name); one != nil && one.Runs() {
		return one.Runner
	}
	return nil
}

// Runner is what delivers for an outlet here, or has delivered; nil where nothing does.
func (s *Running) Runner(name string) *outlet.Outlet {
	if one := s.Outlet(name); one != nil {
		return one.Runner
	}
	return nil
}

// Delivered implements [comparing.Running].
func (s *Running) Delivered() map[string]*catalog.Outlet {
	all := make(map[string]*catalog.Outlet)
	for name, one := range s.Outlets() {
		if one.Runner != nil && one.Runs() {
			all[name] = one.Record
		}
	}
	return all
}

// Changed implements [comparing.Running].
func (s *Running) Changed() { s.Parts.Changed() }
