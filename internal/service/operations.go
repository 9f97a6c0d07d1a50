package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
)

// The codes of faults that are answers to a caller.
const (
	CodeNotFound       = "not-found"
	CodeNameTaken      = "name-taken"
	CodeChanged        = "changed-meanwhile"
	CodeInUse          = "in-use"
	CodeInvalid        = "invalid-definition"
	CodeOffsetOutside  = "offset-outside"
	CodeExpired        = "expired"
	CodeDamaged        = "journal-damaged"
	CodeNotPull        = "not-pull"
	CodePaused         = "paused"
	CodeRunning        = "running"
	CodeLeaseOver      = "lease-over"
	CodeStateDatabase  = "state-database"
	CodeStopping       = "stopping"
	CodeNothingToCheck = "nothing-to-check"
)

// Answer turns an error of the records into a fault about a thing.
func Answer(err error, kind, name string) error { return answer(err, kind, name) }

// answer turns an error of the catalog into a fault about a thing.
func answer(err error, kind, name string) error {
	var invalid *definition.Invalid
	var fault *engine.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &fault), errors.As(err, &invalid):
		return err
	case errors.Is(err, catalog.ErrNotFound):
		return &engine.Fault{Code: CodeNotFound, Message: fmt.Sprintf("there is no %s %q", kind, name), Fix: fmt.Sprintf("`rillmark %s list` shows what there is", kind)}
	case errors.Is(err, catalog.ErrTaken):
		return &engine.Fault{Code: CodeNameTaken, Message: fmt.Sprintf("the name is taken: %s %q is there already", kind, name), Fix: "choose another name, or edit the one that is there"}
	case errors.Is(err, catalog.ErrVersion):
		return &engine.Fault{Code: CodeChanged, Message: fmt.Sprintf("somebody else has changed %s %q meanwhile", kind, name), Fix: "look at it again and repeat the change on its newest version"}
	case errors.Is(err, catalog.ErrInUse):
		return &engine.Fault{Code: CodeInUse, Message: fmt.Sprintf("%s %q is in use by an outlet", kind, name), Fix: "remove its outlets first"}
	case errors.Is(err, journal.ErrCorrupt):
		return damageFault(err, name)
	case errors.Is(err, journal.ErrExpired):
		return &engine.Fault{Code: CodeExpired, Message: err.Error()}
	case errors.Is(err, context.Canceled):
		return err
	}
	return &engine.Fault{Code: CodeStateDatabase, Message: "the state database does not answer", Cause: err}
}

// damageFault says which offsets of a journal cannot be read.
func damageFault(err error, name string) error {
	return &engine.Fault{Code: CodeDamaged, Message: fmt.Sprintf("the journal that %q reads is damaged", name), Cause: err, Final: true,
		Fix: "bring the state database back from a backup that has them, or read on behind them; `rillmark journal verify` lists all that is damaged"}
}

// holdStill keeps what runs as it is until unlock is called. It is refused once the
// service is closing: what is started then would outlive it.
func (s *Service) holdStill() (unlock func(), err error) {
	s.reconciling.Lock()
	if s.closing {
		s.reconciling.Unlock()
		return nil, &engine.Fault{Code: CodeStopping, Message: "the service is stopping, and changes nothing any more", Fix: "try again when it runs again"}
	}
	return s.reconciling.Unlock, nil
}

// AddDestination stores a destination.
func (s *Service) AddDestination(ctx context.Context, name string, d definition.Destination) error {
	if err := definition.CheckName("a destination", name); err != nil {
		return err
	}
	if err := s.validDestination(&d); err != nil {
		return err
	}
	if err := s.Catalog.AddDestination(ctx, name, d); err != nil {
		return answer(err, "destination", name)
	}
	s.note(ctx, "info", "destination/"+name, "added", "destination added")
	return nil
}

// EditDestination stores a new definition in place of version; outlets that
// deliver to it go on with it.
func (s *Service) EditDestination(ctx context.Context, name string, version int64, d definition.Destination) error {
	if err := s.validDestination(&d); err != nil {
		return err
	}
	old, err := s.Catalog.Destination(ctx, name)
	if err != nil {
		return answer(err, "destination", name)
	}
	if old.Definition.Kind != d.Kind {
		return &definition.Invalid{Location: "kind", Message: "a destination stays of its kind: add another one instead"}
	}
	if err := s.Catalog.EditDestination(ctx, name, version, d); err != nil {
		return answer(err, "destination", name)
	}
	if now, err := s.Catalog.Destination(ctx, name); err == nil {
		s.tellEdited(ctx, "destination/"+name, now.Version, old.Definition, now.Definition)
	}
	unlock, err := s.holdStill()
	if err != nil {
		return err
	}
	defer unlock()
	for _, one := range s.copyOutlets() {
		if one.record.Definition.Destination == name {
			s.restartOutlet(one)
		}
	}
	return nil
}

// restartOutlet ends an outlet's delivery and begins it anew, if it runs.
func (s *Service) restartOutlet(one *outletRun) {
	if one.stop == nil {
		return
	}
	one.stop()
	s.mu.Lock()
	one.stop = s.start(one.runner.Run)
	s.mu.Unlock()
}

// RemoveDestination removes a destination that no outlet uses.
func (s *Service) RemoveDestination(ctx context.Context, name string) error {
	if err := s.Catalog.RemoveDestination(ctx, name); err != nil {
		return answer(err, "destination", name)
	}
	s.note(ctx, "info", "destination/"+name, "removed", "destination removed")
	return nil
}

// AddOutlet stores an outlet, which starts at once.
func (s *Service) AddOutlet(ctx context.Context, name string, d definition.Outlet) error {
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
		return answer(err, "source", d.Source)
	}
	destination, err := s.fits(ctx, &d)
	if err != nil {
		return err
	}
	committed, err := s.place(ctx, source.ID, d.From)
	if err != nil {
		return err
	}
	if err := s.columnsFit(ctx, &d); err != nil {
		return err
	}
	if err := s.Catalog.AddOutlet(ctx, name, d, source.ID, destination, committed); err != nil {
		return answer(err, "outlet", name)
	}
	s.note(ctx, "info", "outlet/"+name, "added", fmt.Sprintf("outlet added, from offset %d on", committed+1))
	return answer(s.reconcile(ctx), "outlet", name)
}

// place turns a place in a journal into the offset before it.
func (s *Service) place(ctx context.Context, source int64, from string) (committed int64, err error) {
	head, err := s.Store.Head(ctx, source)
	if err != nil {
		return 0, answer(err, "source", "")
	}
	switch from {
	case "", "beginning":
		return head.First - 1, nil
	case "now":
		return head.Next - 1, nil
	}
	if err := definition.CheckPlace("from", from); err != nil {
		return 0, err
	}
	var offset int64
	if name, is := strings.CutPrefix(from, "mark:"); is {
		if offset, err = s.Catalog.MarkOffset(ctx, source, name); err != nil {
			return 0, answer(err, "mark", name)
		}
	} else if text, is := strings.CutPrefix(from, "time:"); is {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return 0, err // CheckPlace has read it
		}
		if offset, err = s.Store.OffsetAt(ctx, source, at); err != nil {
			return 0, answer(err, "source", "")
		}
	} else if offset, err = strconv.ParseInt(from, 10, 64); err != nil {
		return 0, err // CheckPlace has read it
	}
	if offset < head.First || offset > head.Next {
		return 0, outsideFault(offset, head)
	}
	return offset - 1, nil
}

func outsideFault(offset int64, head journal.Head) error {
	if head.First == head.Next {
		return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which is empty so far", offset), Fix: "use beginning or now"}
	}
	return &engine.Fault{Code: CodeOffsetOutside, Message: fmt.Sprintf("offset %d lies outside of the journal, which holds %d to %d", offset, head.First, head.Next-1),
		Fix: "use beginning, now, or an offset in between"}
}

// tellEdited puts a new version on record, with the fields that changed, as they are
// stored.
func (s *Service) tellEdited(ctx context.Context, subject string, version int64, before, after any) {
	s.note(ctx, "info", subject, "edited", fmt.Sprintf("definition changed to version %d: %s", version, definition.Changed(before, after)))
}

// EditOutlet stores a new definition in place of version. Source and destination
// cannot be changed, since offsets belong to them.
func (s *Service) EditOutlet(ctx context.Context, name string, version int64, d definition.Outlet) error {
	if err := d.Validate(); err != nil {
		return err
	}
	if err := d.CheckFiles(); err != nil {
		return err
	}
	old, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return answer(err, "outlet", name)
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
	if err := s.columnsFit(ctx, &d); err != nil {
		return err
	}
	if err := s.Catalog.EditOutlet(ctx, name, version, d); err != nil {
		return answer(err, "outlet", name)
	}
	if now, err := s.Catalog.Outlet(ctx, name); err == nil {
		s.tellEdited(ctx, "outlet/"+name, now.Version, old.Definition, now.Definition)
	}
	return answer(s.reconcile(ctx), "outlet", name)
}

// SetOutletRunning resumes or pauses an outlet.
func (s *Service) SetOutletRunning(ctx context.Context, name string, running bool, reason string) error {
	if err := s.Catalog.SetOutletRunning(ctx, name, running, reason); err != nil {
		return answer(err, "outlet", name)
	}
	if record, err := s.Catalog.Outlet(ctx, name); err == nil {
		if err := s.Catalog.SetUntil(ctx, record.ID, 0); err != nil {
			return answer(err, "outlet", name)
		}
	}
	s.note(ctx, "info", "outlet/"+name, word(running), word(running)+because(reason))
	return answer(s.reconcile(ctx), "outlet", name)
}

// RemoveOutlet removes an outlet with its offset; what it delivered stays.
func (s *Service) RemoveOutlet(ctx context.Context, name string) error {
	if err := s.Catalog.RemoveOutlet(ctx, name); err != nil {
		return answer(err, "outlet", name)
	}
	s.note(ctx, "info", "outlet/"+name, "removed", "outlet removed")
	return answer(s.reconcile(ctx), "outlet", name)
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
func (s *Service) part(ctx context.Context, record *catalog.Outlet, source, committed int64, plan RewindPlan) (part catalog.Replay, err error) {
	if plan.Until == "" {
		if plan.Return {
			return part, &definition.Invalid{Location: "return", Message: "an outlet returns from an end: give until, too"}
		}
		return part, nil
	}
	if record.Definition.Destination == "" {
		return part, &engine.Fault{Code: CodeNotPull, Message: fmt.Sprintf("outlet %q is read by its consumers, who end where they like", record.Name),
			Fix: "read with until: `rillmark read " + record.Name + " --until ...`"}
	}
	if part.Until, err = s.end(ctx, source, plan.Until, committed); err != nil {
		return part, err
	}
	if part.Until == committed {
		return part, &definition.Invalid{Location: "until", Message: "nothing lies between both places"}
	}
	return part, nil
}

// end is the newest offset before a place at which something ends that begins behind
// committed.
func (s *Service) end(ctx context.Context, source int64, until string, committed int64) (int64, error) {
	if text, is := strings.CutPrefix(until, "time:"); is {
		if at, err := time.Parse(time.RFC3339, text); err == nil && at.After(time.Now()) {
			return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is still to come: what comes until then is not in the journal", text)}
		}
	}
	last, err := s.place(ctx, source, until)
	if err == nil && last < committed {
		return 0, &definition.Invalid{Location: "until", Message: fmt.Sprintf("%s is offset %d, which lies before the beginning, offset %d", until, last+1, committed+1)}
	}
	return last, err
}

// RewindOutlet sets an outlet back, or forward, to a place: beginning, now or an
// offset, which is then the next to be delivered. With an end it delivers the part up
// to there, also where it was paused.
func (s *Service) RewindOutlet(ctx context.Context, name string, plan RewindPlan) (*Rewind, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, answer(err, "outlet", name)
	}
	source, err := s.Catalog.Source(ctx, record.Definition.Source)
	if err != nil {
		return nil, answer(err, "source", record.Definition.Source)
	}
	committed, err := s.place(ctx, source.ID, plan.To)
	if err != nil {
		return nil, err
	}
	part, err := s.part(ctx, record, source.ID, committed, plan)
	if err != nil {
		return nil, err
	}
	done, err := s.rewind(ctx, record, committed, part, plan)
	if err != nil || plan.DryRun || part.Until == 0 || record.Running {
		return done, err
	}
	reason := fmt.Sprintf("runs up to offset %d", part.Until)
	if err := s.Catalog.SetOutletRunning(ctx, name, true, reason); err != nil {
		return nil, answer(err, "outlet", name)
	}
	s.note(ctx, "info", "outlet/"+name, "resumed", reason)
	return done, answer(s.reconcile(ctx), "outlet", name)
}

// rewind stands the outlet still while its offset is set.
func (s *Service) rewind(ctx context.Context, record *catalog.Outlet, committed int64, part catalog.Replay, plan RewindPlan) (*Rewind, error) {
	unlock, err := s.holdStill()
	if err != nil {
		return nil, err
	}
	defer unlock()
	s.mu.Lock()
	one := s.outlets[record.Name]
	s.mu.Unlock()
	if one != nil && one.stop != nil && !plan.DryRun {
		one.stop()
		defer func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			one.stop = s.start(one.runner.Run)
		}()
	}
	offset, err := s.Catalog.Offset(ctx, record.ID)
	if err != nil {
		return nil, answer(err, "outlet", record.Name)
	}
	done := &Rewind{From: offset.Committed, To: committed, Until: part.Until, Returns: plan.Return, Events: offset.Committed - committed, Done: !plan.DryRun}
	if part.Until > 0 {
		done.Events = part.Until - committed
	}
	if plan.Return {
		part.ReturnTo, part.RunsOn = &offset.Committed, record.Running
		if offset.ReturnTo != nil {
			part.ReturnTo = offset.ReturnTo // of a replay in a replay: where it was before both
		}
	}
	if plan.DryRun {
		return done, nil
	}
	if err := s.Catalog.Rewind(ctx, record.ID, committed, part); err != nil {
		return nil, answer(err, "outlet", record.Name)
	}
	s.status.expire()
	told := fmt.Sprintf("set from offset %d to %d", done.From, done.To)
	if part.Until > 0 {
		told += fmt.Sprintf(", up to offset %d", part.Until)
	}
	if part.ReturnTo != nil {
		told += fmt.Sprintf(", then back to %d", *part.ReturnTo)
	}
	s.note(ctx, "info", "outlet/"+record.Name, "rewound", told)
	return done, nil
}

// Ready is why the service cannot do its work now; nil where it can.
func (s *Service) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.pool.Ping(ctx); err != nil {
		return answer(err, "service", "")
	}
	return nil
}
