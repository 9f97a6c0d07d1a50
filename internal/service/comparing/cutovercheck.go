package comparing

import (
	"context"
	"fmt"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

// CutoverCheck says whether an outlet's tables can be cut over to now, and what a person
// has to see to; followBack is the outlet that leads back from then on, empty for none.
// Nothing is changed.
func (s *Comparing) CutoverCheck(ctx context.Context, name, followBack string) (*CutoverReport, error) {
	m, err := s.moverOf(ctx, name)
	if err != nil {
		return nil, err
	}
	if m.back, err = s.wayBackOf(ctx, followBack); err != nil {
		return nil, err
	}
	return s.cutoverReport(ctx, m)
}

func (s *Comparing) cutoverReport(ctx context.Context, m *mover) (*CutoverReport, error) {
	name := m.record.Name
	r := &CutoverReport{Outlet: name, Source: m.source.Name}
	add := func(name string, verdict change.Verdict, found, fix string) {
		c := change.Check{Name: name, Verdict: verdict, Found: found, Fix: fix}
		if verdict == change.Note { // something to know, and no step
			c.Why, c.Fix = c.Fix, ""
		}
		r.Checks = append(r.Checks, c)
	}
	from, to := s.Running.Capturing(m.source.Name), s.Running.Delivering(name)
	if from == nil || from.Status().Phase != "running" {
		add("source", change.Missing, m.source.Name+" is not captured by this instance now", "rillmark source resume "+m.source.Name)
	} else {
		add("source", change.Good, m.source.Name+" is captured", "")
	}
	if to == nil {
		add("outlet", change.Missing, name+" is not delivered by this instance now", "rillmark outlet resume "+name)
	} else {
		status := to.Status()
		head, err := s.Store.Head(ctx, m.source.ID)
		if err != nil {
			return nil, base.Answer(err, "source", m.source.Name)
		}
		behind := max(head.Next-1-status.Committed, 0)
		switch {
		case status.Phase == outlet.PhaseFailed, status.Phase == outlet.PhaseWaiting:
			add("outlet", change.Missing, status.Error, "mend that first")
		case behind > closeBehind:
			add("outlet", change.Missing, fmt.Sprintf("it is %s behind", eventsWords(behind)), "wait until it has caught up")
		default:
			add("outlet", change.Good, fmt.Sprintf("it delivers, and is %s behind", eventsWords(behind)), "")
		}
	}
	if err := s.checkMovedTables(ctx, m, r, add); err != nil {
		return nil, err
	}
	if m.back != nil {
		s.checkWayBack(ctx, m, add)
	}
	var err error
	if r.Inventory, err = m.inventor.Inventory(ctx, r.tables); err != nil {
		return nil, err
	}
	add("counters", change.Good, fmt.Sprintf("%d numbers are set in the target: sequences and auto-increment values of its columns", len(r.Inventory.Counters)), "")
	if len(r.Inventory.Objects) > 0 {
		add("objects", change.Note, "rows do not carry views, triggers, indexes, rights and the like: see the list", "make those that the system needs in the target")
	}
	r.Ready = change.Ready(r.Checks)
	w := m.inventor.Writers()
	r.Stop, r.Allow, r.Note = w.Stop, w.Allow, w.Note
	if r.Last, err = s.Catalog.Cutover(ctx, m.record.ID); err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	return r, nil
}

func eventsWords(n int64) string {
	if n == 1 {
		return "1 event"
	}
	return fmt.Sprintf("%d events", n)
}

// checkMovedTables looks at the tables of a cut over.
func (s *Comparing) checkMovedTables(ctx context.Context, m *mover, r *CutoverReport, add func(name string, verdict change.Verdict, found, fix string)) error {
	filter, err := m.record.Definition.Filter()
	if err != nil {
		return err
	}
	states, err := s.Catalog.TableStates(ctx, m.source.ID)
	if err != nil {
		return base.Answer(err, "source", m.source.Name)
	}
	var unready, keyless, private, past []string
	for table, state := range states {
		if engine.Away(state.State) || !filter.AdmitsTable(table) {
			continue
		}
		r.tables = append(r.tables, table)
		if !m.counters.Current(table) {
			past = append(past, table)
		}
		switch {
		case state.State != engine.StateFollowing:
			unready = append(unready, table+" is "+state.State)
		case state.Schema == nil: // nothing has come of it yet
		case len(state.Schema.Key()) == 0:
			keyless = append(keyless, table)
		case slices.ContainsFunc(state.Schema.Columns, func(c change.Column) bool { return c.Treatment != "" }):
			private = append(private, table)
		}
	}
	slices.Sort(r.tables)
	for _, list := range [][]string{unready, keyless, private, past} {
		slices.Sort(list)
	}
	switch {
	case len(r.tables) == 0:
		add("tables", change.Missing, "the outlet has no tables", "")
	case len(unready) > 0:
		add("tables", change.Missing, base.SomeOf(unready), "a table is ready once it is `following`")
	default:
		add("tables", change.Good, fmt.Sprintf("%d tables follow", len(r.tables)), "")
	}
	if len(keyless) > 0 {
		add("keys", change.Missing, base.SomeOf(keyless)+": without a key they cannot be compared", "give them a key, or leave them out of the outlet")
	}
	if len(past) > 0 {
		add("keep", change.Missing, base.SomeOf(past)+": with deleted rows or former versions among its rows it is no table that a system can go on with", "move with an outlet that keeps current rows")
	}
	if len(m.record.Definition.Rows)+len(m.record.Definition.Forms) > 0 {
		add("form of rows", change.Note, "the outlet drops, renames or adds columns: the target has what its form makes of the rows", "move with an outlet without rows, if the system needs them as they are")
	}
	if len(private) > 0 {
		add("private columns", change.Note, base.SomeOf(private)+": what the source's rules mask or hash arrives so in the target", "take the rule away and reload the table, if the values are needed there")
	}
	letters, err := s.Catalog.CountAllDeadLetters(ctx)
	if err != nil {
		return base.Answer(err, "outlet", m.record.Name)
	}
	if n := letters[m.record.ID]; n[0]+n[1] > 0 {
		add("dead letters", change.Missing, fmt.Sprintf("%s are not in the target", eventsWords(n[0]+n[1])), "rillmark dead-letter list "+m.record.Name)
	} else {
		add("dead letters", change.Good, "there are none", "")
	}
	return nil
}

func notReady(r *CutoverReport) error {
	for _, c := range r.Checks {
		if c.Verdict == change.Missing {
			return &engine.Fault{Code: "not-ready", Message: c.Name + ": " + c.Found, Fix: c.Fix}
		}
	}
	return nil
}
