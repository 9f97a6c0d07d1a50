package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/capture/load"
	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// An outlet that comes late, or whose tables have been damaged, gets rows that the journal
// no longer has by a load for it alone: its events stand in the journal among all others,
// in their order, and only this outlet's reader takes them. What is asked for is on record
// until it is done; outletLoads hands it to the capture that runs, one load a table at a
// time.

// OutletLoad is a load for one outlet that is not done.
type OutletLoad struct {
	Table     string `json:"table"`
	Condition string `json:"where,omitempty"`
	Begun     bool   `json:"begun" doc:"Whether it is being read; else it waits for the source, or for another load of the table"`
	Rows      int64  `json:"rows" doc:"Rows that were read"`
	Estimate  int64  `json:"rows_estimate" doc:"The source's own estimate"`
}

// LoadPlan asks for a load for one outlet alone.
type LoadPlan struct {
	// Tables are patterns of the outlet's tables; all of them without one.
	Tables []string `json:"tables,omitempty" maxItems:"1000" doc:"Patterns of the outlet's tables to load; all of them without it"`
	// Where is a condition in the source's own SQL; without one, all rows.
	Where string `json:"where,omitempty" maxLength:"4000" doc:"A condition in the source's own SQL: only its rows are read, and nothing goes that the source no longer has. Without it, all rows"`
}

// LoadAsked says what a load for an outlet reads.
type LoadAsked struct {
	Tables []string `json:"tables" doc:"The tables that are loaded for the outlet"`
}

// Load has the source's rows read again for one outlet alone: no other one notices.
func (s *Outlets) Load(ctx context.Context, name string, plan LoadPlan) (*LoadAsked, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	if err := base.Loads(source); err != nil {
		return nil, err
	}
	chosen, err := s.ChosenTables(ctx, &record.Definition, plan.Tables)
	if err != nil {
		return nil, err
	}
	plan.Where = strings.TrimSpace(plan.Where)
	asked := &LoadAsked{}
	for table := range chosen {
		asked.Tables = append(asked.Tables, table)
	}
	slices.Sort(asked.Tables)
	if plan.Where != "" {
		if err := s.sources.checkCondition(ctx, source, asked.Tables, plan.Where); err != nil {
			return nil, err
		}
	}
	return asked, s.askLoad(ctx, record, asked.Tables, plan.Where)
}

// checkCondition says why a condition cannot choose rows of tables.
func (s *Sources) checkCondition(ctx context.Context, source *catalog.Source, tables []string, condition string) error {
	built, err := s.build(source)
	if err != nil {
		return err
	}
	checker, can := built.(engine.ConditionChecker)
	if !can {
		return engine.Lacks(built.Name(), engine.CanCondition)
	}
	for _, table := range tables {
		if err := checker.CheckCondition(ctx, table, condition); err != nil {
			return err
		}
	}
	return nil
}

// askLoad puts the loads of tables on record, and has them begin where they can.
func (s *Outlets) askLoad(ctx context.Context, record *catalog.Outlet, tables []string, condition string) error {
	if err := s.Catalog.AskOutletLoad(ctx, record.ID, tables, condition); err != nil {
		return base.Answer(err, "outlet", record.Name)
	}
	what := (&load.Task{Where: condition}).Brief()
	s.Note(ctx, "info", "outlet/"+record.Name, "load", strings.TrimSpace(fmt.Sprintf("a load for this outlet alone was asked for: %s %s", base.SomeOf(tables), what)))
	s.overview.cache.expire()
	s.running.loads.wake()
	return nil
}

// loadForNew asks for the loads of an outlet that begins with one. A table whose own load
// is still to begin needs none: it comes to everybody.
func (s *Outlets) loadForNew(ctx context.Context, name string) error {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	filter, err := record.Definition.Filter()
	if err != nil {
		return err
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return base.Answer(err, "source", record.Definition.Source)
	}
	states, err := s.Catalog.TablePhases(ctx, source.ID)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	var tables []string
	for table, state := range states {
		if filter.AdmitsTable(table) && !engine.Away(state) && state != engine.StateNew && state != engine.StateToLoad {
			tables = append(tables, table)
		}
	}
	if len(tables) == 0 {
		return nil
	}
	slices.Sort(tables)
	return s.askLoad(ctx, record, tables, "")
}

// canBeginWithLoad says why an outlet of a source cannot begin with a load.
func canBeginWithLoad(d *definition.Outlet, source *catalog.Source) error {
	if d.From == definition.FromLoad && !source.Definition.Loads() {
		return &definition.Invalid{Location: "from", Message: fmt.Sprintf("source %q is defined to follow only, so that nothing can be loaded for the outlet", source.Name)}
	}
	return nil
}

// outletLoads hands loads for one outlet to the captures that run.
type outletLoads struct {
	running *running
	woken   chan struct{}
}

const (
	// loadsEvery is how often it is looked for loads that another instance was asked for.
	loadsEvery = 5 * time.Second
	// loadsSoon is how often while there are some.
	loadsSoon = 500 * time.Millisecond
)

func (l *outletLoads) wake() {
	select {
	case l.woken <- struct{}{}:
	default:
	}
}

// keep hands loads out until the service stops.
func (l *outletLoads) keep() {
	work := l.running.Work
	for {
		wait := loadsEvery
		if some, err := l.align(work); some || err != nil {
			wait = loadsSoon // the state database's being away is on record already
		}
		timer := time.NewTimer(wait)
		select {
		case <-work.Done():
			timer.Stop()
			return
		case <-l.woken:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// align begins the loads that can begin, and takes those that are done off the record; some
// reports whether any are left.
func (l *outletLoads) align(ctx context.Context) (some bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if some, err = l.reloads(ctx); err != nil {
		return true, err
	}
	all, err := l.running.Catalog.OutletLoads(ctx)
	if err != nil {
		return false, err
	}
	phases := make(map[int64]map[string]string)
	for i := range all {
		one := &all[i]
		if phases[one.Source] == nil {
			if phases[one.Source], err = l.running.Catalog.TablePhases(ctx, one.Source); err != nil {
				return true, err
			}
		}
		if err := l.advance(ctx, one, phases[one.Source]); err != nil {
			return true, err
		}
	}
	return some || len(all) > 0, nil
}

// reloads has the captures of this instance take on what another instance was asked for;
// some reports whether any are left.
func (l *outletLoads) reloads(ctx context.Context) (some bool, err error) {
	all, err := l.running.Catalog.AskedReloads(ctx)
	if err != nil {
		return false, err
	}
	for i := range all {
		one := &all[i]
		source := l.running.copySources()[one.SourceOf]
		if source == nil || source.stop == nil {
			continue // it waits until the source runs
		}
		asked, cancel := context.WithTimeout(ctx, reloadTime)
		ask := load.Ask{Where: one.Condition}
		if one.Dropped != 0 {
			ask = load.Ask{For: load.Audience{ID: one.Dropped, Name: one.OutletName}, Drop: true}
		}
		taken, err := source.capture.Reload(asked, one.Table, ask)
		cancel()
		switch {
		case errors.Is(err, engine.ErrCannotLoad) && ask.Drop: // it is over already
		case errors.Is(err, engine.ErrCannotLoad):
			l.running.RunLog.Write("warn", "source/"+one.SourceOf, "load-dropped", one.Table+" cannot be loaded now: its reload, which another instance was asked for, is dropped")
		case err != nil:
			return true, err
		case !taken:
			some = true // it is tried again soon, here or by the instance that captures
			continue
		}
		if err := l.running.Catalog.EndAskedReload(ctx, one); err != nil {
			return true, err
		}
	}
	return some, nil
}

// advance does what can be done for one load.
func (l *outletLoads) advance(ctx context.Context, one *catalog.OutletLoad, phases map[string]string) error {
	phase := phases[one.Table]
	busy := phase == engine.StateNew || phase == engine.StateToLoad || phase == engine.StateLoading
	subject := "outlet/" + one.OutletName
	switch {
	case phase == "" || engine.Away(phase):
		l.running.RunLog.Write("warn", subject, "load-dropped", one.Table+" is no longer captured: it is not loaded for this outlet")
		return l.running.Catalog.EndOutletLoad(ctx, one)
	case one.Begun && !busy:
		l.running.RunLog.Write("info", subject, "load-read", one.Table+" has been read for this outlet")
		l.running.overview.cache.expire()
		return l.running.Catalog.EndOutletLoad(ctx, one)
	case one.Begun || busy:
		return nil
	}
	source := l.running.copySources()[one.SourceOf]
	if source == nil || source.stop == nil {
		return nil // it waits until the source runs
	}
	asked, cancel := context.WithTimeout(ctx, reloadTime)
	defer cancel()
	taken, err := source.capture.Reload(asked, one.Table, load.Ask{Where: one.Condition, For: load.Audience{ID: one.Outlet, Name: one.OutletName}})
	if !taken || errors.Is(err, engine.ErrCannotLoad) {
		return nil //nolint:nilerr // it is tried again soon
	}
	if err != nil {
		return err
	}
	phases[one.Table] = engine.StateToLoad
	return l.running.Catalog.OutletLoadBegun(ctx, one)
}

// loadsOf are an outlet's loads that are not done, with how far they are.
func loadsOf(loads []catalog.OutletLoad, outlet int64, tables []TableStatus) (of []OutletLoad) {
	for _, l := range loads {
		if l.Outlet != outlet {
			continue
		}
		one := OutletLoad{Table: l.Table, Condition: l.Condition, Begun: l.Begun}
		if i := slices.IndexFunc(tables, func(t TableStatus) bool { return t.Name == l.Table }); i >= 0 {
			one.Estimate = tables[i].RowsEstimate
			if l.Begun {
				one.Rows = tables[i].RowsDone
			}
		}
		of = append(of, one)
	}
	return of
}

// dropLoad ends a load that is under way for an outlet that is no more, here or by the instance
// that captures the source.
func (s *running) dropLoad(ctx context.Context, one *catalog.OutletLoad) error {
	if source := s.copySources()[one.SourceOf]; source != nil && source.stop != nil {
		asked, cancel := context.WithTimeout(ctx, reloadTime)
		defer cancel()
		taken, err := source.capture.Reload(asked, one.Table, load.Ask{For: load.Audience{ID: one.Outlet, Name: one.OutletName}, Drop: true})
		if taken || errors.Is(err, engine.ErrCannotLoad) {
			return nil
		}
	}
	return s.Catalog.AskDrop(ctx, one)
}
