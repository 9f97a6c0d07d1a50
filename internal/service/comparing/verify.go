package comparing

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"rillmark/internal/capture"
	"rillmark/internal/catalog"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/outlet"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
	"rillmark/internal/verify"
)

// Verification is what a comparison of an outlet's tables with the source's has found.
type Verification struct {
	Outlet string                `json:"outlet"`
	Equal  bool                  `json:"equal" doc:"Whether every table was compared and nothing differs"`
	Tables []verify.TableVerdict `json:"tables"`
	// Differences are the first of them.
	Differences []verify.Difference `json:"differences" doc:"The first 1,000"`
	Seconds     float64             `json:"seconds" doc:"How long it took"`
	Sample      float64             `json:"sample,omitempty" doc:"Which share of the rows of large tables was compared, from 0 to 1; all without it"`
	// ResumedFrom is when the comparison began that this one went on with.
	ResumedFrom *time.Time `json:"resumed_from,omitempty" doc:"When the comparison began that this one went on with"`
	// Fixes are the loads for this outlet alone that were asked for.
	Fixes []Fix `json:"fixes,omitempty" doc:"Where that was asked for: what is loaded again for the outlet alone, so that its tables become equal"`
}

const (
	// maxDifferences are kept; the counts go on.
	maxDifferences = 1000
	// comparedAtOnce is how many tables are compared at the same time.
	comparedAtOnce = 2
)

// ComparePlan is what a comparison reads.
type ComparePlan struct {
	// Tables are patterns of tables, all of the outlet's without any.
	Tables []string
	// Sample is which share of the rows of large tables is compared; 0 for all.
	Sample float64
	// Keeps has it put on record how far it has come, so that another one can go on there;
	// Resume goes on with the last one that was not completed.
	Keeps, Resume bool
}

// Verify compares the rows that an outlet keeps with the source's, by content, while both
// change. report hears how it stands, about once a second and a table.
func (s *Comparing) Verify(ctx context.Context, name string, plan ComparePlan, report func(verify.TableVerdict)) (*Verification, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	d := record.Definition
	if d.Destination == "" {
		return nil, cannotCompare("its consumers read it, and what they keep is not known here")
	}
	if len(d.Operations) > 0 || d.Changes == "inserts" {
		return nil, cannotCompare("it does not take every operation: its tables are not meant to be equal to the source's")
	}
	to, err := s.Destination(d)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	comparer, can := to.(destination.Comparer)
	if !can {
		return nil, cannotCompare("its destination keeps no tables that could be read")
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	built, err := s.Engine(source)
	if err != nil {
		return nil, err
	}
	reader, can := built.(engine.Comparer)
	if !can {
		return nil, engine.Lacks(built.Name(), engine.CanCompare)
	}
	kept, err := s.keptComparison(ctx, record, &plan)
	if err != nil {
		return nil, err
	}
	tables, err := s.ChosenTables(ctx, &d, plan.Tables)
	if err != nil {
		return nil, err
	}
	if err := s.passed(ctx, name, source, reader); err != nil {
		return nil, err
	}
	rows, err := s.Forms(ctx, &d)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	v := &Verification{Outlet: name, Equal: true, Tables: make([]verify.TableVerdict, len(tables)), Differences: kept.differences(), Sample: plan.Sample}
	if plan.Resume {
		v.ResumedFrom = &kept.record.Began
	}
	var mu sync.Mutex
	group, working := guard.WithContext(ctx)
	group.SetLimit(comparedAtOnce)
	for i, table := range slices.Sorted(maps.Keys(tables)) {
		filter, err := d.Filter() // one for each: it is not safe for several goroutines
		if err != nil {
			return nil, err
		}
		group.Go(func() error {
			told := time.Now()
			found, err := s.compare(working, comparer, reader, table, filter, rows, &verify.Comparison{Table: table, Sample: plan.Sample, Estimate: tables[table], From: kept.from(table), Save: kept.saver(table), Guarded: guard.Run,
				Passed: func(ctx context.Context) error { return s.passed(ctx, name, source, reader) },
				Report: func(now verify.TableVerdict) {
					mu.Lock()
					defer mu.Unlock()
					if now.Estimate = tables[table]; time.Since(told) > time.Second {
						told = time.Now()
						report(now)
					}
				},
				Found: func(one verify.Difference) {
					mu.Lock()
					defer mu.Unlock()
					kept.found(one)
					if len(v.Differences) < maxDifferences {
						v.Differences = append(v.Differences, one)
					}
				}})
			if err == nil {
				err = kept.save(working, table, verify.Progress{Verdict: found})
			}
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			v.Tables[i], v.Equal = found, v.Equal && found.Equal()
			report(found)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		if kept := kept.cut(ctx); kept != nil && ctx.Err() == nil {
			err = errors.Join(err, kept)
		}
		return nil, err
	}
	v.Seconds = time.Since(began).Seconds()
	if err := kept.end(ctx); err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	return v, base.Answer(s.noteVerified(ctx, record.ID, v, len(plan.Tables) == 0 && plan.Sample == 0), "outlet", name)
}

func cannotCompare(why string) error {
	return &engine.Fault{Code: "cannot-verify", Message: "the outlet cannot be verified: " + why, Fix: "outlets to tables of a database can be, with all operations"}
}

// cannotNow is of an outlet that could be compared if it, or its source, went on.
func cannotNow(why, fix string) error {
	return &engine.Fault{Code: "cannot-verify", Message: "the outlet cannot be verified now: " + why, Fix: fix}
}

// phaseWords are a phase, and what is wrong where that is known.
func phaseWords(phase, fault string) string {
	if fault == "" {
		return " (" + phase + ")"
	}
	return " (" + phase + "): " + fault
}

// compare compares one table.
func (s *Comparing) compare(ctx context.Context, to destination.Comparer, from engine.Comparer, table string, filter *shape.Filter, rows *shape.Rows, c *verify.Comparison) (verify.TableVerdict, error) {
	if c.From != nil && c.From.Verdict.Done {
		return c.From.Verdict, nil
	}
	skipped := func(err error) (verify.TableVerdict, error) {
		if why := verify.Incomparable(""); errors.As(err, &why) {
			return verify.TableVerdict{Table: table, Skipped: string(why), Done: true}, nil
		}
		return verify.TableVerdict{}, err
	}
	source, err := from.CompareRows(ctx, table)
	if errors.Is(err, verify.ErrNoTable) {
		return skipped(verify.Incomparable("it is no longer at the source"))
	}
	if err != nil {
		return skipped(fmt.Errorf("reading %s at the source: %w", table, err))
	}
	defer source.Close()
	if source, err = choosing(source, filter); err == nil {
		source, err = forming(source, rows)
	}
	if err != nil {
		return skipped(err)
	}
	target, err := to.CompareRows(ctx, table, source.Schema())
	if errors.Is(err, verify.ErrNoTable) {
		return skipped(verify.Incomparable("the target has no such table"))
	}
	if err != nil {
		return skipped(err)
	}
	defer target.Close()
	c.Source, c.Target, c.Ordered = source, target, verify.OrderAgrees(source.Schema(), target.Schema())
	found, err := c.Run(ctx)
	if err != nil {
		return skipped(err)
	}
	return found, nil
}

// lookAgain is how often it is asked how far capture and delivery are.
const lookAgain = 20 * time.Millisecond

// longestFault is for how long a fault of capture or delivery may last while somebody waits for a
// comparison.
const longestFault = time.Minute

// faulty follows the phases of capture or delivery.
type faulty struct{ since time.Time }

// lasts reports whether a phase does not pass by itself, or has not for longestFault. The words for
// phases are those of sources and of outlets.
func (f *faulty) lasts(phase string) bool {
	switch phase {
	case outlet.PhaseFailed, outlet.PhasePaused:
		return true
	case outlet.PhaseWaiting, capture.PhaseStandby:
		if f.since.IsZero() {
			f.since = time.Now()
		}
	case capture.PhaseStarting: // comes between tries: it ends no fault, and is none
	default:
		f.since = time.Time{}
	}
	return !f.since.IsZero() && time.Since(f.since) > longestFault
}

// passed returns once an outlet has delivered all that its source has committed until now.
func (s *Comparing) passed(ctx context.Context, name string, source *catalog.Source, reader engine.Comparer) error {
	present, err := reader.Present(ctx)
	if err != nil {
		return err
	}
	ticker := time.NewTicker(lookAgain)
	defer ticker.Stop()
	var ofSource, ofOutlet faulty
	reaches := int64(0) // once capture has come there: the newest offset that was in the journal then
	for {
		from, to := s.Running.Capturing(source.Name), s.Running.Delivering(name)
		switch {
		case from == nil:
			return cannotNow("its source is paused, or another instance captures it", "`rillmark source resume "+source.Name+"`, and verify again")
		case to == nil:
			return cannotNow("it is paused, or another instance delivers it", "`rillmark outlet resume "+name+"`, and verify again")
		}
		reading, delivering := from.Status(), to.Status()
		if ofSource.lasts(reading.Phase) {
			return cannotNow("its source is not read"+phaseWords(reading.Phase, reading.Error), "`rillmark source show "+source.Name+"` says what to do")
		}
		if ofOutlet.lasts(delivering.Phase) {
			return cannotNow("it does not deliver"+phaseWords(delivering.Phase, delivering.Error), "`rillmark outlet show "+name+"` says what to do")
		}
		if reaches == 0 && from.Reached(present) {
			head, err := s.Store.Head(ctx, source.ID)
			if err != nil {
				return base.Answer(err, "source", source.Name)
			}
			reaches = max(head.Next-1, 1)
		}
		if reaches > 0 && to.Status().Committed >= reaches {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ticker.C:
		}
	}
}

// noteVerified puts the result on record; whole says that all tables were compared.
func (s *Comparing) noteVerified(ctx context.Context, outlet int64, v *Verification, whole bool) error {
	rows, level := int64(0), "info"
	var wrong, proven []string
	for _, t := range v.Tables {
		rows += t.Rows
		if t.Equal() && !t.Sampled {
			proven = append(proven, t.Table)
		}
		switch {
		case t.Skipped != "":
			wrong = append(wrong, t.Table+": "+t.Skipped)
		case !t.Equal():
			wrong = append(wrong, fmt.Sprintf("%s: %d missing, %d extra, %d different, %d undecided", t.Table, t.Missing, t.Extra, t.Different, t.Undecided))
		}
	}
	text := fmt.Sprintf("verified: %d rows of %d tables are equal", rows, len(v.Tables))
	if v.Sample > 0 {
		text += fmt.Sprintf(" (a sample of %g %%)", 100*v.Sample)
	}
	if len(wrong) > 0 {
		level, text = "warn", fmt.Sprintf("verified %d rows of %d tables: %s", rows, len(v.Tables), strings.Join(wrong, "; "))
	}
	s.Note(ctx, level, "outlet/"+v.Outlet, "verified", text)
	if err := s.Catalog.SetProven(ctx, outlet, proven); err != nil {
		return err
	}
	if !whole {
		return nil // it says nothing of the other tables
	}
	s.Running.Changed()
	return s.Catalog.SetVerified(ctx, outlet, catalog.Verified{At: time.Now(), Equal: v.Equal, Rows: rows, Tables: len(v.Tables), Finding: strings.Join(wrong, "; ")})
}
