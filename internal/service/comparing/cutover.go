package comparing

import (
	"context"
	"errors"
	"fmt"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/journal"
	"rillmark/internal/move"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
	"rillmark/internal/verify"
)

// A cut over moves a system from a source to the database that an outlet keeps equal: it
// waits for the moment at which nobody writes any more and both sides are equal, proves it,
// sets what hands out numbers, and ends delivery there. Up to that end whatever it did to
// the source is taken back when anything fails.

// CutoverPlan asks for a cut over.
type CutoverPlan struct {
	StopWriters bool   `json:"stop_writers,omitempty" doc:"Keep the source's writers out, by its own scripts; without it somebody else has to have stopped them"`
	As          string `json:"as,omitempty" maxLength:"128" doc:"The login that runs those scripts; the source's own without it; it is not kept"`
	AsPassword  string `json:"as_password,omitempty" maxLength:"1000" doc:"That login's password, or a reference to it; it is not kept"`
	FollowBack  string `json:"follow_back,omitempty" maxLength:"40" doc:"An outlet that begins at the same moment, to keep the former database equal: its source is on the new one, its destination the former one, and it was added with from: cutover"`
	WaitSeconds int    `json:"wait_seconds,omitempty" minimum:"1" maximum:"86400" default:"120" doc:"How long to wait until nobody writes any more"`
}

// CutoverReport is what a cut over would find now.
type CutoverReport struct {
	Outlet    string           `json:"outlet"`
	Source    string           `json:"source"`
	Ready     bool             `json:"ready" doc:"Whether nothing is missing"`
	Checks    []change.Check   `json:"checks"`
	Inventory *move.Inventory  `json:"inventory" doc:"What the source has besides rows"`
	Stop      []string         `json:"stop" doc:"The scripts that keep the source's writers out"`
	Allow     []string         `json:"allow" doc:"The scripts that let them in again"`
	Note      string           `json:"note,omitempty" doc:"What those scripts mean"`
	Last      *catalog.Cutover `json:"last,omitempty" doc:"The outlet's last cut over"`
	tables    []string
}

// CutoverStep is how far a cut over is.
type CutoverStep struct {
	Step string `json:"step" enum:"check,stop,quiet,verify,counters,back,done,undo"`
	Text string `json:"text"`
}

// CutoverResult is a cut over that is done.
type CutoverResult struct {
	Outlet       string            `json:"outlet"`
	Offset       int64             `json:"offset" doc:"The offset at which both sides were equal"`
	Stopped      bool              `json:"stopped" doc:"Whether the source's writers are kept out by it"`
	Verification *Verification     `json:"verification"`
	Counters     []move.CounterSet `json:"counters"`
	Objects      []move.Objects    `json:"objects" doc:"What a person takes along"`
	FollowsBack  *FollowsBack      `json:"follows_back,omitempty" doc:"The outlet that leads back from then on"`
	Seconds      float64           `json:"seconds" doc:"From when the writers were stopped"`
}

const (
	// quietFor is how long nobody may have written.
	quietFor = 2 * time.Second
	// undoTime is what taking a cut over back may take.
	undoTime = 30 * time.Second
	// closeBehind is how far behind an outlet may be when a cut over begins.
	closeBehind = 100_000
)

// mover is what a cut over of an outlet works with.
type mover struct {
	record   *catalog.Outlet
	source   *catalog.Source
	engine   engine.Engine
	reader   engine.Comparer
	counters destination.CounterSetter
	inventor engine.Mover
	back     *wayBack // nil for none
}

func cannotCutOver(why string) error {
	return &engine.Fault{Code: "cannot-cut-over", Message: "the outlet's tables cannot be cut over to: " + why, Fix: "outlets to tables of a database can be, with all operations"}
}

func (s *Comparing) moverOf(ctx context.Context, name string) (*mover, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	d := record.Definition
	if d.Destination == "" {
		return nil, cannotCutOver("its consumers read it")
	}
	if len(d.Operations) > 0 || d.Changes == "inserts" {
		return nil, cannotCutOver("it does not take every operation")
	}
	if len(d.Where) > 0 {
		return nil, cannotCutOver("it takes some rows only (where)")
	}
	m := &mover{record: record}
	if m.source, err = s.Catalog.Source(ctx, d.Source); err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	to, err := s.Destination(d)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	var can bool
	if m.counters, can = to.(destination.CounterSetter); !can {
		return nil, cannotCutOver("its destination keeps no tables")
	}
	if m.engine, err = s.Engine(m.source); err != nil {
		return nil, err
	}
	if m.reader, can = m.engine.(engine.Comparer); !can {
		return nil, engine.Lacks(m.engine.Name(), engine.CanCompare)
	}
	if m.inventor, can = m.engine.(engine.Mover); !can {
		return nil, engine.Lacks(m.engine.Name(), engine.CanMove)
	}
	return m, nil
}

// Cutover cuts over; report hears each step.
func (s *Comparing) Cutover(ctx context.Context, name string, plan CutoverPlan, report func(CutoverStep)) (*CutoverResult, error) {
	m, err := s.moverOf(ctx, name)
	if err != nil {
		return nil, err
	}
	if _, busy := s.cutting.LoadOrStore(m.record.ID, true); busy {
		return nil, &engine.Fault{Code: base.CodeRunning, Message: fmt.Sprintf("outlet %q is being cut over already", name)}
	}
	defer s.cutting.Delete(m.record.ID)
	if m.back, err = s.wayBackOf(ctx, plan.FollowBack); err != nil {
		return nil, err
	}
	checked, err := s.cutoverReport(ctx, m)
	if err != nil {
		return nil, err
	}
	if !checked.Ready {
		return nil, notReady(checked)
	}
	report(CutoverStep{"check", "the checks are fine"})
	c := &cutover{Comparing: s, mover: m, plan: plan, report: report, tables: checked.tables}
	if plan.AsPassword, err = s.Catalog.Keeper.Expand(plan.AsPassword); err != nil {
		return nil, &definition.Invalid{Location: "as_password", Message: err.Error()}
	}
	c.plan = plan
	result, err := c.run(ctx)
	if err != nil {
		return nil, c.undo(ctx, err)
	}
	return result, nil
}

// cutover is one that is under way.
type cutover struct {
	*Comparing
	*mover
	plan   CutoverPlan
	report func(CutoverStep)
	tables []string
	// stopped says that writers are kept out by us, or may be; offset is where both sides
	// were equal.
	stopped bool
	offset  int64
	// over is set once the outlet is paused: writers may be at the target from then on.
	over bool
	// follows is where the outlet that leads back begins.
	follows *FollowsBack
}

func (c *cutover) note(level, step, text string) {
	c.report(CutoverStep{step, text})
	c.RunLog.Write(level, "outlet/"+c.record.Name, "cutover", text)
}

func (c *cutover) store(ctx context.Context, state string) error {
	return base.Answer(c.Catalog.SetCutover(ctx, c.record.ID, state, c.stopped, c.offset), "outlet", c.record.Name)
}

func (c *cutover) run(ctx context.Context) (*CutoverResult, error) {
	c.Note(ctx, "info", "outlet/"+c.record.Name, "cutover", "a cut over begins")
	began := time.Now()
	if last, err := c.Catalog.Cutover(ctx, c.record.ID); err != nil {
		return nil, base.Answer(err, "outlet", c.record.Name)
	} else if last != nil {
		c.stopped = last.Stopped // by one that was cut off
	}
	if err := c.stop(ctx); err != nil {
		return nil, err
	}
	if err := c.quiet(ctx); err != nil {
		return nil, err
	}
	verified, err := c.Verify(ctx, c.record.Name, ComparePlan{}, func(now verify.TableVerdict) {
		if !now.Done {
			c.report(CutoverStep{"verify", fmt.Sprintf("%s: %d rows compared", now.Table, now.Rows)})
		}
	})
	if err != nil {
		return nil, err
	}
	if !verified.Equal {
		return nil, &engine.Fault{Code: "not-equal", Message: "the two sides are not equal: " + unequalWords(verified), Fix: "`rillmark verify " + c.record.Name + " --fix`, and cut over again"}
	}
	if written, err := c.writtenSince(ctx, c.offset); err != nil {
		return nil, err
	} else if written != "" {
		return nil, stillWritten(written)
	}
	c.note("info", "verify", fmt.Sprintf("both sides are equal at offset %d", c.offset))
	inventory, err := c.inventor.Inventory(ctx, c.tables)
	if err != nil {
		return nil, err
	}
	counters, err := c.setCounters(ctx, inventory.Counters)
	if err != nil {
		return nil, err
	}
	c.note("info", "counters", countersWords(counters))
	if err := c.prepareBack(ctx); err != nil {
		return nil, err
	}
	// From here on nothing is taken back.
	if err := c.Pause(ctx, c.record.Name, fmt.Sprintf("cut over at offset %d", c.offset)); err != nil {
		return nil, err
	}
	c.over = true
	c.followBack(context.WithoutCancel(ctx))
	if err := c.store(context.WithoutCancel(ctx), catalog.CutoverDone); err != nil {
		return nil, err
	}
	c.note("info", "done", fmt.Sprintf("cut over at offset %d: the outlet is paused, and writers may go to its database", c.offset))
	return &CutoverResult{Outlet: c.record.Name, Offset: c.offset, Stopped: c.stopped, Verification: verified, Counters: counters, Objects: inventory.Objects, FollowsBack: c.follows, Seconds: time.Since(began).Seconds()}, nil
}

// stop keeps writers out, where that is ours to do.
func (c *cutover) stop(ctx context.Context) error {
	if !c.plan.StopWriters {
		return c.store(ctx, catalog.CutoverRunning)
	}
	scripter, can := c.engine.(engine.Scripter)
	if !can {
		return engine.Lacks(c.engine.Name(), engine.CanScript)
	}
	c.stopped = true
	if err := c.store(ctx, catalog.CutoverRunning); err != nil { // the intent, before it is done
		return err
	}
	if err := runAll(ctx, scripter, c.inventor.Writers().Stop, c.plan.As, c.plan.AsPassword); err != nil {
		refused := refusedAs(err, "name a login that may, with --as and --as-password, or stop the writers yourself and leave --stop-writers out")
		c.stopped = refused == err //nolint:errorlint // it is the same one where it was no refusal, of which each script makes nothing
		return refused
	}
	c.note("info", "stop", "the source's writers are kept out")
	return nil
}

// refusedAs says what helps where a login may not run a script.
func refusedAs(err error, fix string) error {
	var fault *engine.Fault
	if !errors.As(err, &fault) || fault.Code != "script-refused" {
		return err
	}
	return &engine.Fault{Code: fault.Code, Message: fault.Message, Fix: fix}
}

func runAll(ctx context.Context, scripter engine.Scripter, scripts []string, as, password string) error {
	for _, script := range scripts {
		if err := scripter.RunScript(ctx, script, as, password); err != nil {
			return err
		}
	}
	return nil
}

// quiet waits until nobody has written for a while, and everything is in the target.
func (c *cutover) quiet(ctx context.Context) error {
	wait := time.Duration(c.plan.WaitSeconds) * time.Second
	if wait == 0 {
		wait = 2 * time.Minute
	}
	deadline := time.Now().Add(wait)
	for {
		if err := c.passed(ctx, c.record.Name, c.source, c.reader); err != nil {
			return err
		}
		head, err := c.Store.Head(ctx, c.source.ID)
		if err != nil {
			return base.Answer(err, "source", c.source.Name)
		}
		timer := time.NewTimer(quietFor)
		select {
		case <-ctx.Done():
			timer.Stop()
			return context.Cause(ctx)
		case <-timer.C:
		}
		if err := c.passed(ctx, c.record.Name, c.source, c.reader); err != nil {
			return err
		}
		c.offset = head.Next - 1
		written, err := c.writtenSince(ctx, c.offset)
		switch {
		case err != nil:
			return err
		case written == "":
			c.note("info", "quiet", fmt.Sprintf("nobody writes, and everything up to offset %d is in the target", c.offset))
			return c.store(ctx, catalog.CutoverRunning)
		case time.Now().After(deadline):
			return stillWritten(written)
		}
		c.report(CutoverStep{"quiet", "waiting: " + written})
	}
}

func stillWritten(what string) error {
	return &engine.Fault{Code: "still-written", Message: "somebody still writes to the source: " + what, Fix: "stop the writers, or have them kept out with --stop-writers, and cut over again"}
}

// writtenSince says what was written to the tables after an offset, as far as the source has
// come by now; empty where nothing was.
func (c *cutover) writtenSince(ctx context.Context, offset int64) (string, error) {
	filter, err := c.record.Definition.Filter()
	if err != nil {
		return "", err
	}
	reader := c.Store.Reader(c.source.ID, offset+1, journal.ReaderOptions{Wants: filter.AdmitsTable})
	for {
		batch, err := reader.TryNext(ctx)
		if err != nil || batch == nil {
			return "", base.Answer(err, "source", c.source.Name)
		}
		var e change.Event
		for batch.Next(&e) {
			switch e.Operation {
			case change.Insert, change.Update, change.Delete, change.Truncate, change.Definition:
				return fmt.Sprintf("%s of %s at %s, offset %d", e.Operation, e.Table, e.Transaction.CommittedAt.Format(time.RFC3339), e.Offset), nil
			default:
			}
		}
		if err := batch.Err(); err != nil {
			return "", base.Answer(err, "source", c.source.Name)
		}
	}
}

// undo takes back what a cut over did that has failed for a reason.
func (c *cutover) undo(ctx context.Context, why error) error {
	if c.over {
		return why
	}
	if ctx.Err() != nil {
		why = errors.New("the call for it was ended")
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), undoTime)
	defer cancel()
	text := "the cut over has ended without effect: " + why.Error()
	if c.stopped && c.plan.StopWriters {
		if err := runAll(ctx, c.engine.(engine.Scripter), c.inventor.Writers().Allow, c.plan.As, c.plan.AsPassword); err != nil {
			c.note("error", "undo", "the source's writers are still kept out: "+err.Error()+"; `rillmark cutover "+c.record.Name+" --abort` tries again")
			c.store(ctx, catalog.CutoverAborted) //nolint:errcheck // the reason is the error to show
			return why
		}
		c.stopped = false
		text += "; the source's writers may write again"
	}
	c.note("warn", "undo", text)
	if err := c.store(ctx, catalog.CutoverAborted); err != nil {
		return errors.Join(why, err)
	}
	return why
}

// AbortCutover lets a source's writers in again that a cut over keeps out which was cut off,
// or whose end is to be taken back.
func (s *Comparing) AbortCutover(ctx context.Context, name string, plan CutoverPlan) error {
	m, err := s.moverOf(ctx, name)
	if err != nil {
		return err
	}
	if _, busy := s.cutting.LoadOrStore(m.record.ID, true); busy {
		return &engine.Fault{Code: base.CodeRunning, Message: fmt.Sprintf("outlet %q is being cut over", name), Fix: "end that command: it puts things back"}
	}
	defer s.cutting.Delete(m.record.ID)
	last, err := s.Catalog.Cutover(ctx, m.record.ID)
	if err != nil {
		return base.Answer(err, "outlet", name)
	}
	if last == nil || !last.Stopped && last.State != catalog.CutoverRunning {
		return &engine.Fault{Code: "nothing-to-abort", Message: fmt.Sprintf("no cut over of outlet %q keeps writers out", name)}
	}
	if last.Stopped {
		password, err := s.Catalog.Keeper.Expand(plan.AsPassword)
		if err != nil {
			return &definition.Invalid{Location: "as_password", Message: err.Error()}
		}
		if err := runAll(ctx, m.engine.(engine.Scripter), m.inventor.Writers().Allow, plan.As, password); err != nil {
			return refusedAs(err, "name a login that may, with --as and --as-password")
		}
	}
	s.Note(ctx, "info", "outlet/"+name, "cutover", "the source's writers may write again")
	return base.Answer(s.Catalog.SetCutover(ctx, m.record.ID, catalog.CutoverAborted, false, last.Offset), "outlet", name)
}

func unequalWords(v *Verification) string {
	var wrong []string
	for _, t := range v.Tables {
		switch {
		case t.Skipped != "":
			wrong = append(wrong, t.Table+" cannot be compared: "+t.Skipped)
		case !t.Equal():
			wrong = append(wrong, fmt.Sprintf("%s: %d missing, %d extra, %d different", t.Table, t.Missing, t.Extra, t.Different))
		}
	}
	return base.SomeOf(wrong)
}

// setCounters sets the numbers of the columns that the outlet hands on.
func (c *cutover) setCounters(ctx context.Context, all []move.Counter) ([]move.CounterSet, error) {
	d := c.record.Definition
	rows, err := c.Forms(ctx, &d)
	if err != nil {
		return nil, err
	}
	var there []move.Counter
	var left []move.CounterSet
	for _, one := range all {
		name, as := rows.Goes(one.Table, one.Column)
		if as != shape.Keep {
			left = append(left, move.CounterSet{Counter: one, Note: "the outlet does not hand the column on as it is"})
			continue
		}
		if name != one.Column {
			one.As = name
		}
		there = append(there, one)
	}
	set, err := c.counters.SetCounters(ctx, there)
	return append(set, left...), err
}

func countersWords(all []move.CounterSet) string {
	var undone []string
	for _, one := range all {
		if !one.Done {
			undone = append(undone, one.Table+"."+one.Column+": "+one.Note)
		}
	}
	text := fmt.Sprintf("%d of %d counters are set in the target", len(all)-len(undone), len(all))
	if len(undone) > 0 {
		text += "; not " + base.SomeOf(undone)
	}
	return text
}
