package service

import (
	"context"
	"fmt"
	"slices"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/service/framing"
	"rillmark/internal/shape"
)

// fits checks an outlet against the destination that it names, and gives that
// one's id; nil for a pull outlet.
func (s *Outlets) fits(ctx context.Context, d *definition.Outlet) (*int64, error) {
	if d.Destination == "" {
		return nil, nil
	}
	record, err := s.Catalog.Destination(ctx, d.Destination)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	return &record.ID, d.ValidateFor(&record.Definition)
}

// build makes an outlet's delivery of its record.
func (s *Outlets) build(ctx context.Context, record *catalog.Outlet, origin outlet.Origin) (o *outlet.Outlet, kind string, err error) {
	d := record.Definition
	// Definitions of an earlier version lack what has been added since.
	if err := d.Validate(); err != nil {
		return nil, "", err
	}
	to, err := s.Catalog.Destination(ctx, d.Destination)
	if err == nil {
		err = d.ValidateFor(&to.Definition)
	}
	if err != nil {
		return nil, "", err
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return nil, "", err
	}
	shaped, err := s.Shape(ctx, &d)
	if err != nil {
		return nil, "", err
	}
	limits, err := d.Limits()
	if err != nil {
		return nil, "", err
	}
	first, longest, err := d.Retry.Waits()
	if err != nil {
		return nil, "", err
	}
	o = &outlet.Outlet{ID: record.ID, Name: record.Name, Origin: origin, Shape: shaped, Net: d.Changes == "combined", Limits: limits,
		FirstWait: first, LongestWait: longest, SchemaChanges: outlet.SchemaChanges(d.SchemaChanges), Wait: d.Refused.Later == "wait", Most: d.Refused.MaxDeadLetters, Catalog: s.Catalog, Instance: s.Instance, Store: s.Store, Budget: &s.running.Budget,
		Filter: func() *shape.Filter {
			f, err := d.Filter()
			if err != nil {
				return new(shape.Filter) // Validate has read it
			}
			return f
		},
		Destination: func() (destination.Destination, error) { return s.destinations.buildFor(d, fixedTopics(&d)) },
		ReadAgain:   s.readAgain(record, source),
		Ended:       func(run int, until int64) { s.Goes(func() { s.ranOnce(record, run, until) }) },
		Log: func(level, event, message string) {
			s.RunLog.Write(level, "outlet/"+record.Name, event, message)
		}}
	framed := framing.New(&d, s.Guard)
	o.Frame = func(of *change.Schema) ([]byte, error) { return framed.Frame(s.Work, of) }
	if framed.Registered() {
		o.Fit = func(of *change.Schema) (*encode.Fitted, error) { return framed.Fit(s.Work, of) }
	}
	if rows := framing.RowsOf(&d, func() (destination.Destination, error) { return s.destinations.buildFor(d, nil) }); rows != nil {
		o.FitRow = func(of *change.Schema) (encode.RowForm, error) { return rows.Fit(s.Work, of) }
	}
	if d.Retry != nil {
		o.Attempts = d.Retry.Attempts
	}
	return o, to.Definition.Kind, nil
}

// fixedTopics are the topics of an outlet that depend on no event.
func fixedTopics(o *definition.Outlet) []string {
	var all []string
	for _, text := range []string{o.Topic, o.SchemaTopic} {
		t, err := shape.ParseTemplate(text)
		if err != nil || text == "" {
			continue
		}
		if t.Fixed() {
			all = append(all, string(t.Append(nil, &change.Event{Source: o.Source}, nil, nil)))
		}
	}
	return all
}

// Check checks the destination of a definition, or of a stored outlet where d is
// nil, with what the outlet needs there: its topics, for instance; and its source, too,
// where that is asked for.
func (s *Outlets) Check(ctx context.Context, name string, d *definition.Outlet, withSource bool) (checks, source []change.Check, err error) {
	if d == nil {
		record, err := s.Catalog.Outlet(ctx, name)
		if err != nil {
			return nil, nil, base.Answer(err, "outlet", name)
		}
		d = &record.Definition
	}
	if err := d.Validate(); err != nil {
		return nil, nil, err
	}
	if withSource {
		if source, err = s.sources.Check(ctx, d.Source, nil); err != nil {
			return nil, nil, err
		}
	}
	if checks, err = s.checkTarget(ctx, name, d); err != nil {
		return nil, nil, err
	}
	if of, err := s.Catalog.Source(ctx, d.Source); err == nil {
		missing, err := s.missingTables(ctx, d, of.ID)
		if err != nil {
			return nil, nil, err
		}
		for _, one := range missing {
			check := change.Check{Name: "tables " + one.pattern, Verdict: change.Note, Found: one.says, Why: "until there is one, the condition or form keeps nothing back", Fix: "correct the name where it is a wrong one"}
			if !one.allowed {
				check.Verdict = change.Missing
			}
			checks = append(checks, check)
		}
	}
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return s.Concealed(checks), source, nil //nolint:nilerr // the source has none yet, or is none
	}
	for _, one := range s.oldRows(ctx, d, versions) {
		checks = append(checks, change.Check{Name: "old rows of " + one.Table, Verdict: change.Note, Found: one.Says, Fix: one.Fix})
	}
	return s.Concealed(checks), source, nil
}

// checkTarget checks an outlet's destination with what the outlet needs there: of a database,
// its tables, too.
func (s *Outlets) checkTarget(ctx context.Context, name string, d *definition.Outlet) ([]change.Check, error) {
	if d.Destination == "" {
		return []change.Check{{Name: "destination", Verdict: change.Good, Found: "consumers come and read; nothing has to be reached"}}, nil
	}
	if _, err := s.fits(ctx, d); err != nil {
		return nil, err
	}
	topics, err := s.topics(ctx, d)
	if err != nil {
		return nil, err
	}
	to, err := s.destinations.buildFor(*d, topics)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	checks := to.Check(ctx)
	if !change.Ready(checks) {
		return checks, nil
	}
	tables, err := s.checkTables(ctx, name, d, to)
	if framed := framing.New(d, s.Guard); err == nil && framed.Registered() {
		tables, err = s.checkFit(ctx, d, framed.Checks)
	} else if rows := framing.RowsOf(d, func() (destination.Destination, error) { return to, nil }); err == nil && rows != nil {
		tables, err = s.checkFit(ctx, d, rows.Checks)
	}
	return append(checks, tables...), err
}

// checkFit checks whether rows fit what somebody else has decided that they look like.
func (s *Outlets) checkFit(ctx context.Context, d *definition.Outlet, checks func(context.Context, []*change.Schema) []change.Check) ([]change.Check, error) {
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return nil, err
	}
	shaped, err := s.Shape(ctx, d)
	if err != nil {
		return nil, err
	}
	flat := make([]*change.Schema, 0, len(versions))
	for _, v := range versions[:min(len(versions), mostTopics)] {
		out := v
		if shaped.Rows != nil {
			if out, err = shaped.Rows.Schema(v); err != nil {
				return nil, err
			}
		}
		flat = append(flat, encode.Flattened(shaped, out))
	}
	return checks(ctx, flat), nil
}

// mostTopics bounds how many topics a check looks at.
const mostTopics = 200

// topics are those that the tables which the outlet lets through would go to, as
// far as they do not depend on the single row.
func (s *Outlets) topics(ctx context.Context, d *definition.Outlet) ([]string, error) {
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return nil, err
	}
	all := fixedTopics(d)
	t, err := shape.ParseTemplate(d.Topic)
	if err != nil {
		return nil, err
	}
	for _, v := range versions {
		topic, depends := t.Channel(d.Source, v.Table)
		if len(depends) == 0 && !slices.Contains(all, topic) && len(all) < mostTopics {
			all = append(all, topic)
		}
	}
	return all, nil
}

// RunOnce is what running an outlet once means now.
type RunOnce struct {
	Until  int64 `json:"until" doc:"The offset at which it ends"`
	Behind int64 `json:"behind_events" doc:"Events of the source up to there; 0: there is nothing to do, and it was not started"`
}

// RunOnce lets a paused outlet deliver what there is now, or what lies before a
// place, and then ends it.
func (s *Outlets) RunOnce(ctx context.Context, name, until string) (*RunOnce, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	if record.Definition.Destination == "" {
		return nil, &engine.Fault{Code: base.CodeNotPull, Message: fmt.Sprintf("outlet %q is read by its consumers; there is nothing to run", name)}
	}
	if record.Running {
		return nil, &engine.Fault{Code: base.CodeRunning, Message: fmt.Sprintf("outlet %q runs already", name), Fix: "`rillmark outlet pause " + name + "` first, or leave it running"}
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	offset, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	if offset.ReturnTo != nil {
		return nil, &engine.Fault{Code: base.CodeRunning, Message: fmt.Sprintf("outlet %q is paused in a replay, which ends at offset %d", name, offset.Until),
			Fix: "`rillmark outlet resume " + name + "` goes on with it; a rewind without an end leaves it"}
	}
	if until == "" {
		until = "now"
	}
	last, err := s.End(ctx, source.ID, until, 0)
	if err != nil {
		return nil, err
	}
	plan := &RunOnce{Until: last, Behind: max(last-offset.Committed, 0)}
	if plan.Behind == 0 {
		return plan, nil
	}
	if err := s.Catalog.SetUntil(ctx, record.ID, plan.Until); err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	reason := fmt.Sprintf("runs once, up to offset %d", plan.Until)
	if err := s.Catalog.SetOutletRunning(ctx, name, true, reason); err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "info", "outlet/"+name, "resumed", reason)
	return plan, base.Answer(s.running.Reconcile(), "outlet", name)
}

// ranOnce ends the run of an outlet that has delivered in it up to its end.
func (s *Outlets) ranOnce(record *catalog.Outlet, run int, until int64) {
	s.UntilRecorded(func(ctx context.Context) error {
		end, err := s.Catalog.EndRun(ctx, record.ID, run, until, "ran up to its end")
		if err != nil {
			return err
		}
		text := fmt.Sprintf("has delivered up to offset %d", end.Until)
		if end.ReturnTo != nil {
			text += fmt.Sprintf(", and is back at offset %d", *end.ReturnTo)
		}
		if !end.RunsOn {
			text += ": paused"
		}
		s.RunLog.Write("info", "outlet/"+record.Name, "ended", text)
		return s.running.Reconcile()
	})
}
