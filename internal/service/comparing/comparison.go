package comparing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
	"rillmark/internal/verify"
)

// comparisonRecord is what is kept of a comparison until it is complete.
type comparisonRecord struct {
	Began time.Time `json:"began"`
	// Version is that of the outlet's definition.
	Version  int64                      `json:"version"`
	Tables   []string                   `json:"tables"`
	Sample   float64                    `json:"sample"`
	Progress map[string]verify.Progress `json:"progress"`
	// Differences are those that were found, by table, as of that table's progress.
	Differences map[string][]verify.Difference `json:"differences"`
}

// keptComparison is a comparison whose progress is on record, or of which nothing is kept.
type keptComparison struct {
	catalog *catalog.Catalog
	outlet  int64
	keeps   bool
	mu      sync.Mutex
	record  comparisonRecord
	newest  map[string][]verify.Difference // those behind the progress on record, too
	many    int                            // how many those are
	written time.Time
	unsaid  bool // there is progress that is not on record
}

// keptComparison begins a comparison, or takes up the last one that was not completed: its
// tables and its sample are then in the plan.
func (s *Comparing) keptComparison(ctx context.Context, outlet *catalog.Outlet, plan *ComparePlan) (*keptComparison, error) {
	k := &keptComparison{catalog: s.Catalog, outlet: outlet.ID, keeps: plan.Keeps, newest: make(map[string][]verify.Difference),
		record: comparisonRecord{Began: time.Now(), Version: outlet.Version, Tables: plan.Tables, Sample: plan.Sample, Progress: make(map[string]verify.Progress), Differences: make(map[string][]verify.Difference)}}
	if !plan.Resume {
		return k, nil
	}
	raw, err := s.Catalog.Comparison(ctx, outlet.ID)
	switch {
	case errors.Is(err, catalog.ErrNotFound):
		return nil, &engine.Fault{Code: "no-comparison", Message: fmt.Sprintf("no comparison of outlet %q has been left incomplete", outlet.Name), Fix: "`rillmark verify " + outlet.Name + "` begins one"}
	case err != nil:
		return nil, base.Answer(err, "outlet", outlet.Name)
	}
	if err := json.Unmarshal(raw, &k.record); err != nil {
		return nil, fmt.Errorf("reading how far the last comparison had come: %w", err)
	}
	if k.record.Version != outlet.Version {
		return nil, &engine.Fault{Code: "no-comparison", Message: fmt.Sprintf("outlet %q has another definition than when the last comparison began", outlet.Name), Fix: "`rillmark verify " + outlet.Name + "` begins anew"}
	}
	plan.Tables, plan.Sample = k.record.Tables, k.record.Sample
	for table, some := range k.record.Differences {
		k.newest[table] = slices.Clone(some)
		k.many += len(some)
	}
	return k, nil
}

// differences are the first that were found before.
func (k *keptComparison) differences() []verify.Difference {
	all := []verify.Difference{}
	for _, table := range slices.Sorted(maps.Keys(k.record.Differences)) {
		all = append(all, k.record.Differences[table]...)
	}
	return all[:min(len(all), maxDifferences)]
}

// from is where the comparison of a table goes on; nil at its beginning.
func (k *keptComparison) from(table string) *verify.Progress {
	k.mu.Lock() // others are compared, and keep their progress, already
	defer k.mu.Unlock()
	if p, known := k.record.Progress[table]; known {
		return &p
	}
	return nil
}

// found notes a difference.
func (k *keptComparison) found(one verify.Difference) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.keeps && k.many < maxDifferences {
		k.newest[one.Table] = append(k.newest[one.Table], one)
		k.many++
	}
}

// saver keeps the progress of one table; nil where nothing is kept.
func (k *keptComparison) saver(table string) func(context.Context, verify.Progress) error {
	if !k.keeps {
		return nil
	}
	return func(ctx context.Context, p verify.Progress) error { return k.save(ctx, table, p) }
}

const (
	// saveTime is what keeping the progress may take.
	saveTime = 5 * time.Second
	// saveApart lies between two times that it is kept.
	saveApart = 2 * time.Second
)

func (k *keptComparison) save(ctx context.Context, table string, p verify.Progress) error {
	if !k.keeps {
		return nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.record.Progress[table], k.unsaid = p, true
	if some := k.newest[table]; len(some) > 0 {
		k.record.Differences[table] = slices.Clone(some)
	}
	if time.Since(k.written) < saveApart {
		return nil // of many small tables each one would write all
	}
	return k.write(ctx)
}

// cut puts the rest of the progress on record, where the comparison is not completed.
func (k *keptComparison) cut(ctx context.Context) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.unsaid || !k.keeps {
		return nil
	}
	return k.write(context.WithoutCancel(ctx))
}

// write puts the progress on record; the lock is held.
func (k *keptComparison) write(ctx context.Context) error {
	raw, err := json.Marshal(k.record)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, saveTime)
	defer cancel()
	if err := k.catalog.SetComparison(ctx, k.outlet, raw); err != nil {
		return err
	}
	k.written, k.unsaid = time.Now(), false
	return nil
}

// end forgets the progress: the comparison is complete.
func (k *keptComparison) end(ctx context.Context) error {
	if !k.keeps {
		return nil
	}
	return k.catalog.EndComparison(ctx, k.outlet)
}
