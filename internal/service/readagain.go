package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// readAgainTime bounds how long a delivery waits for the state database.
const readAgainTime = 30 * time.Second

// readAgain has rows be read from the source for an outlet alone, because the log left
// values out of their changes that the outlet's database does not have. Where they cannot be
// named by their keys, or there are too many of them, all rows of the table are read.
func (s *Outlets) readAgain(record *catalog.Outlet, source *catalog.Source) func(ctx context.Context, of *change.Schema, keys [][]change.Value) error {
	taken := record.Definition.Operations
	if !source.Definition.Loads() || len(taken) > 0 && !slices.Contains(taken, change.Existing.String()) {
		return nil // no load would bring them
	}
	var told engine.Seldom
	return func(ctx context.Context, of *change.Schema, keys [][]change.Value) error {
		ctx, cancel := context.WithTimeout(ctx, readAgainTime)
		defer cancel()
		conditions, err := s.conditionsFor(ctx, source, of, keys)
		if err != nil {
			return err
		}
		if err := s.Catalog.AskOutletRows(ctx, record.ID, of.Table, conditions); err != nil {
			return base.Answer(err, "outlet", record.Name)
		}
		if len(keys) > 0 && told.Now(of.Table) {
			s.RunLog.Write("info", "outlet/"+record.Name, "load", fmt.Sprintf("rows of %s are read again for this outlet (%d now): the log left values out of their changes, and its table does not have them", of.Table, len(keys)))
		}
		s.running.Loads.Wake()
		return nil
	}
}

// conditionsFor choose the rows of some keys; one that is empty chooses all.
func (s *Outlets) conditionsFor(ctx context.Context, source *catalog.Source, of *change.Schema, keys [][]change.Value) ([]string, error) {
	all := []string{""}
	if len(keys) == 0 {
		return all, nil
	}
	built, err := s.sources.build(source)
	if err != nil {
		return nil, err
	}
	checker, can := built.(engine.ConditionChecker)
	if !can {
		return all, nil
	}
	states, err := s.Catalog.TableStates(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "source", source.Name)
	}
	state := states[of.Table]
	if state == nil || state.Schema == nil || !slices.EqualFunc(state.Schema.Key(), of.Key(), func(theirs, ours int) bool {
		return state.Schema.Columns[theirs].Name == of.Columns[ours].Name // the outlet's form leaves it as it is
	}) {
		return all, nil
	}
	var conditions []string
	for piece := range slices.Chunk(keys, base.MaxKeysAgain) {
		condition := base.KeysCondition(checker, of, piece)
		if condition == "" {
			return all, nil
		}
		conditions = append(conditions, condition)
	}
	return conditions, nil
}
