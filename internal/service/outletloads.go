package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

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

// AddedTables are the tables of a source that an edit has added to an outlet: what they have had so far
// does not come by itself.
func (s *Outlets) AddedTables(ctx context.Context, before, after definition.Outlet) ([]string, error) {
	was, err := before.Filter()
	if err != nil {
		return nil, err
	}
	is, err := after.Filter()
	if err != nil {
		return nil, err
	}
	source, err := s.Catalog.Source(ctx, after.Source)
	if err != nil {
		return nil, base.Answer(err, "source", after.Source)
	}
	states, err := s.Catalog.TableStates(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "source", after.Source)
	}
	var added []string
	for name, t := range states {
		if !engine.Away(t.State) && is.AdmitsTable(name) && !was.AdmitsTable(name) {
			added = append(added, name)
		}
	}
	slices.Sort(added)
	return added, nil
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
	s.running.Loads.Wake()
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
	states, err := s.Catalog.TableStates(ctx, source.ID)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	var tables []string
	for table, state := range states {
		task := load.TaskOf(state.Progress)
		toLoad := state.State == engine.StateToLoad && !task.Apart()
		if filter.AdmitsTable(table) && !engine.Away(state.State) && state.State != engine.StateNew && !toLoad {
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
