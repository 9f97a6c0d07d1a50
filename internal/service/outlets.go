package service

import (
	"context"
	"fmt"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
)

// Add stores an outlet, which starts at once.
func (s *Outlets) Add(ctx context.Context, name string, d definition.Outlet) error {
	if err := definition.CheckName("an outlet", name); err != nil {
		return err
	}
	if err := d.Validate(); err != nil {
		return err
	}
	if err := d.CheckFiles(); err != nil {
		return err
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return base.Answer(err, "source", d.Source)
	}
	destination, err := s.fits(ctx, &d)
	if err != nil {
		return err
	}
	if err := canBeginWithLoad(&d, source); err != nil {
		return err
	}
	from := d.From
	if from == definition.FromLoad || from == definition.FromCutover {
		from = "now" // the load, or the cut over, comes behind it
	}
	committed, err := s.Place(ctx, source.ID, from)
	if err != nil {
		return err
	}
	if err := s.tablesFit(ctx, &d, source.ID); err != nil {
		return err
	}
	if err := s.columnsFit(ctx, &d); err != nil {
		return err
	}
	if err := s.Catalog.AddOutlet(ctx, name, d, source.ID, destination, committed, d.From != definition.FromCutover); err != nil {
		return base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "info", "outlet/"+name, "added", fmt.Sprintf("outlet added, from offset %d on", committed+1))
	if d.From == definition.FromCutover {
		if err := s.Catalog.SetOutletRunning(ctx, name, false, "waits for a cut over to begin it"); err != nil {
			return base.Answer(err, "outlet", name)
		}
	}
	if d.From == definition.FromLoad {
		if err := s.loadForNew(ctx, name); err != nil {
			return err
		}
	}
	return base.Answer(s.running.Reconcile(), "outlet", name)
}

// Edit stores a new definition in place of version. Source and destination
// cannot be changed, since offsets belong to them.
func (s *Outlets) Edit(ctx context.Context, name string, version int64, d definition.Outlet) error {
	if err := d.Validate(); err != nil {
		return err
	}
	if err := d.CheckFiles(); err != nil {
		return err
	}
	old, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	if d.Source != old.Definition.Source {
		return &definition.Invalid{Location: "source", Message: "an outlet stays with its source: add another outlet instead"}
	}
	if d.Destination != old.Definition.Destination {
		return &definition.Invalid{Location: "destination", Message: "an outlet stays with its destination: add another outlet instead"}
	}
	if _, err := s.fits(ctx, &d); err != nil {
		return err
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return base.Answer(err, "source", d.Source)
	}
	if err := s.tablesFit(ctx, &d, source.ID); err != nil {
		return err
	}
	if err := s.columnsFit(ctx, &d); err != nil {
		return err
	}
	if err := s.Catalog.EditOutlet(ctx, name, version, d); err != nil {
		return base.Answer(err, "outlet", name)
	}
	if now, err := s.Catalog.Outlet(ctx, name); err == nil {
		s.NoteEdited(ctx, "outlet/"+name, now.Version, old.Definition, now.Definition)
	}
	return base.Answer(s.running.Reconcile(), "outlet", name)
}

// SetRunning resumes or pauses an outlet. One that has an end keeps it while it is paused;
// resuming an outlet that runs has it go on beyond its end.
//
// letPass is the offset up to which changes of tables' definitions may pass an outlet that
// holds before each; 0 lets none pass.
func (s *Outlets) SetRunning(ctx context.Context, name string, running bool, reason string, letPass int64) error {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	offset, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	done := word(running) + base.Because(reason)
	if running && offset.Until > 0 {
		if record.Running {
			if err := s.Catalog.SetUntil(ctx, record.ID, 0); err != nil {
				return base.Answer(err, "outlet", name)
			}
		} else {
			done += fmt.Sprintf(", up to offset %d", offset.Until)
		}
	}
	if letPass > 0 {
		if record.Definition.SchemaChanges != string(outlet.ChangesHold) && !s.keepsTables(ctx, record) {
			return &definition.Invalid{Location: "let_pass", Message: fmt.Sprintf("outlet %q does not hold before changes of tables: its schema_changes is not hold", name)}
		}
		if err := s.Catalog.LetPass(ctx, record.ID, letPass); err != nil {
			return base.Answer(err, "outlet", name)
		}
		done += fmt.Sprintf(", past the change at offset %d", letPass)
	}
	if err := s.Catalog.SetOutletRunning(ctx, name, running, reason); err != nil {
		return base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "info", "outlet/"+name, word(running), done)
	return base.Answer(s.running.Reconcile(), "outlet", name)
}

// keepsTables reports whether an outlet's destination is a database, which holds single tables.
func (s *Outlets) keepsTables(ctx context.Context, record *catalog.Outlet) bool {
	d := record.Definition
	to, err := s.Catalog.Destination(ctx, d.Destination)
	return err == nil && d.ValidateFor(&to.Definition) == nil && d.Format == encode.FormatTable
}

// Remove removes an outlet with its offset; what it delivered stays.
func (s *Outlets) Remove(ctx context.Context, name string) error {
	loads, err := s.Catalog.OutletLoads(ctx)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	if err := s.Catalog.RemoveOutlet(ctx, name); err != nil {
		return base.Answer(err, "outlet", name)
	}
	s.Note(ctx, "info", "outlet/"+name, "removed", "outlet removed")
	for i := range loads {
		if loads[i].OutletName == name && loads[i].Begun {
			if err := s.running.DropLoad(ctx, &loads[i]); err != nil {
				s.RunLog.Write("warn", "outlet/"+name, "load", loads[i].Table+": its load for the removed outlet goes on: "+err.Error())
			}
		}
	}
	return base.Answer(s.running.Reconcile(), "outlet", name)
}

// Rewind is what a rewind does, or would do.
type Rewind struct {
	From    int64 `json:"from" doc:"The committed offset before"`
	To      int64 `json:"to" doc:"The committed offset after"`
	Until   int64 `json:"until,omitempty" doc:"The newest offset that is delivered; absent without an end"`
	Returns bool  `json:"returns,omitempty" doc:"Whether the outlet is then set back to where it was before"`
	Events  int64 `json:"events" doc:"Events of the source that are delivered again; negative: passed over"`
	Done    bool  `json:"done" doc:"false for a dry run"`
}

// RewindPlan asks for a rewind.
type RewindPlan struct {
	// To is the place that is delivered next.
	To string
	// Until is the place before which the outlet ends; empty without an end.
	Until string
	// Return has the outlet go back then to where it is now; else it pauses.
	Return bool
	// DryRun only says what it would do.
	DryRun bool
}

// part is which part of the journal a rewind of an outlet delivers.
func (s *Outlets) part(ctx context.Context, record *catalog.Outlet, source, committed int64, plan RewindPlan) (part catalog.Replay, err error) {
	part.Return = plan.Return
	if plan.Until == "" {
		if plan.Return {
			return part, &definition.Invalid{Location: "return", Message: "an outlet returns from an end: give until, too"}
		}
		return part, nil
	}
	if record.Definition.Destination == "" {
		return part, &engine.Fault{Code: base.CodeNotPull, Message: fmt.Sprintf("outlet %q is read by its consumers, who end where they like", record.Name),
			Fix: "read with until: `rillmark read " + record.Name + " --until ...`"}
	}
	if part.Until, err = s.End(ctx, source, plan.Until, committed); err != nil {
		return part, err
	}
	if part.Until == committed {
		return part, &definition.Invalid{Location: "until", Message: "nothing lies between both places"}
	}
	return part, nil
}

// Rewind sets an outlet back, or forward, to a place: beginning, now or an
// offset, which is then the next to be delivered. With an end it delivers the part up
// to there, also where it was paused.
func (s *Outlets) Rewind(ctx context.Context, name string, plan RewindPlan) (*Rewind, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, base.Answer(err, "source", record.Definition.Source)
	}
	committed, err := s.Place(ctx, source.ID, plan.To)
	if err != nil {
		return nil, err
	}
	part, err := s.part(ctx, record, source.ID, committed, plan)
	if err != nil {
		return nil, err
	}
	done, err := s.rewind(ctx, record, committed, part, plan)
	if err != nil || plan.DryRun {
		return done, err
	}
	return done, base.Answer(s.running.Reconcile(), "outlet", name)
}

// rewind stands the outlet still while its offset is set.
func (s *Outlets) rewind(ctx context.Context, record *catalog.Outlet, committed int64, part catalog.Replay, plan RewindPlan) (*Rewind, error) {
	if !plan.DryRun {
		goOn, err := s.running.OutletStill(record.Name)
		if err != nil {
			return nil, err
		}
		defer goOn()
	}
	done := &Rewind{To: committed, Until: part.Until, Returns: part.Return, Done: !plan.DryRun}
	reason := fmt.Sprintf("runs up to offset %d", part.Until)
	var was catalog.Rewound
	if plan.DryRun {
		offset, err := s.Catalog.Offset(ctx, record.ID)
		if err != nil {
			return nil, base.Answer(err, "outlet", record.Name)
		}
		was.From = offset.Committed
	} else {
		var err error
		if was, err = s.Catalog.Rewind(ctx, record.ID, committed, part, reason); err != nil {
			return nil, base.Answer(err, "outlet", record.Name)
		}
	}
	done.From, done.Events = was.From, was.From-committed
	if part.Until > 0 {
		done.Events = part.Until - committed
	}
	if plan.DryRun {
		return done, nil
	}
	s.overview.cache.expire()
	told := fmt.Sprintf("set from offset %d to %d", done.From, done.To)
	if part.Until > 0 {
		told += fmt.Sprintf(", up to offset %d", part.Until)
	}
	if was.ReturnTo != nil {
		told += fmt.Sprintf(", then back to %d", *was.ReturnTo)
	}
	s.Note(ctx, "info", "outlet/"+record.Name, "rewound", told)
	if was.Resumed {
		s.Note(ctx, "info", "outlet/"+record.Name, "resumed", reason)
	}
	return done, nil
}
