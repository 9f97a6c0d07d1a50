// Package impact says beforehand what a change of a table's definition would do: to the events
// of its source, and to each outlet that takes them.
//
// The statement runs on an empty copy of the table in a scratch database ([engine.Rehearser]).
// What comes of it goes through the very parts that a delivery is made of, outlet by outlet, in
// outlets.go: filter, form of rows, templates, schema registry, tables of the target.
package impact

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"rillmark/internal/capture/rules"
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/service/base"
)

// Impact works out what changes of definitions would do.
type Impact struct {
	*base.Common
	// Engine makes a source's engine, Destination an outlet's destination.
	Engine      func(*catalog.Source) (engine.Engine, error)
	Destination func(definition.Outlet) (destination.Destination, error)
}

// Verdict is what becomes of an outlet, or of a source.
type Verdict string

// The verdicts, the worst last.
const (
	Unaffected Verdict = "unaffected" // what goes out stays as it is
	Differs    Verdict = "differs"    // it goes on, and what goes out is different
	Loses      Verdict = "loses"      // it goes on, and something no longer comes
	Holds      Verdict = "holds"      // it stops there until somebody acts
)

var severity = map[Verdict]int{Unaffected: 0, Differs: 1, Loses: 2, Holds: 3}

// worse is the worse of two verdicts.
func worse(a, b Verdict) Verdict {
	if severity[b] > severity[a] {
		return b
	}
	return a
}

// Finding is one thing that would happen.
type Finding struct {
	Verdict Verdict `json:"verdict" enum:"unaffected,differs,loses,holds"`
	Says    string  `json:"says"`
	Fix     string  `json:"fix,omitempty" doc:"What to do about it, before or after"`
}

// SchemaImpact is what a statement would do.
type SchemaImpact struct {
	Source    string  `json:"source"`
	Statement string  `json:"statement"`
	Table     string  `json:"table"`
	Name      string  `json:"name,omitempty" doc:"The table's name afterwards; nothing where it is gone"`
	Verdict   Verdict `json:"verdict" enum:"unaffected,differs,loses,holds" doc:"The worst of all: unaffected, differs (what goes out is different), loses (something no longer comes), holds (something stops until somebody acts)"`
	// Changes say what the schema event would say.
	Changes  []string       `json:"changes" doc:"What the schema event would say"`
	Findings []Finding      `json:"findings" doc:"What would happen at the source"`
	Outlets  []OutletImpact `json:"outlets" doc:"The source's outlets, the worst verdict first, then by name; none where the source itself holds"`
	// Also are further tables that the statement changes.
	Also []SchemaImpact `json:"also,omitempty" doc:"The same of further tables, where the statement changes a type that several have"`
}

// Worst is the worst verdict of all tables.
func (s *SchemaImpact) Worst() Verdict {
	worst := s.Verdict
	for i := range s.Also {
		worst = worse(worst, s.Also[i].Verdict)
	}
	return worst
}

// OutletImpact is what would become of one outlet.
type OutletImpact struct {
	Outlet      string    `json:"outlet"`
	Destination string    `json:"destination,omitempty" doc:"Its kind; nothing for one that consumers read"`
	Verdict     Verdict   `json:"verdict" enum:"unaffected,differs,loses,holds"`
	Findings    []Finding `json:"findings"`
	Statements  []string  `json:"statements,omitempty" doc:"What the outlet would run in the target's database"`
}

// askedAtOnce is how many outlets are looked at, and their targets asked, at the same time.
const askedAtOnce = 8

// Of says what a statement on a table of a source would do, and does nothing.
func (i *Impact) Of(ctx context.Context, source, statement string) (*SchemaImpact, error) {
	record, err := i.Catalog.Source(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	built, err := i.Engine(record)
	if err != nil {
		return nil, err
	}
	rehearser, can := built.(engine.Rehearser)
	if !can {
		return nil, engine.Lacks(built.Name(), engine.CanRehearse)
	}
	scratch := i.Config.Scratch[string(built.Name())]
	if scratch == "" {
		return nil, &engine.Fault{Code: "no-scratch", Message: fmt.Sprintf("the service has no scratch database of %s, where the statement could be tried", built.Name()),
			Fix: fmt.Sprintf("name an empty database as scratch.%s in the service's configuration, and start it again", built.Name())}
	}
	all, err := rehearser.Rehearse(ctx, scratch, strings.TrimSuffix(strings.TrimSpace(statement), ";"))
	if err != nil {
		return nil, err
	}
	outlets, err := i.Catalog.Outlets(ctx)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	outlets = slices.DeleteFunc(outlets, func(one *catalog.Outlet) bool { return one.Definition.Source != source || one.Broken != nil })
	var report *SchemaImpact
	states, err := i.Catalog.TableStates(ctx, record.ID)
	if err != nil {
		return nil, base.Answer(err, "source", source)
	}
	chosen, err := record.Definition.Rules()
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		after := afterRewrite(r, &record.Definition, chosen, states[r.Table])
		one, err := i.table(ctx, source, statement, r, after, outlets)
		switch {
		case err != nil:
			return nil, err
		case report == nil:
			report = one
		default:
			report.Also = append(report.Also, *one)
		}
	}
	return report, nil
}

// table says what a statement would do with one of the tables that it changes.
func (i *Impact) table(ctx context.Context, source, statement string, r *engine.Rehearsal, after string, outlets []*catalog.Outlet) (*SchemaImpact, error) {
	report := &SchemaImpact{Source: source, Statement: statement, Table: r.Table, Name: r.Name, Verdict: Unaffected, Changes: changes(r), Findings: atSource(r, after), Outlets: []OutletImpact{}}
	for _, f := range report.Findings {
		report.Verdict = worse(report.Verdict, f.Verdict)
	}
	if r.Exposes != "" {
		return report, nil // nothing goes out before the rules are changed; they decide what does then
	}
	report.Outlets = make([]OutletImpact, len(outlets))
	var group errgroup.Group // a target that does not answer keeps no other waiting
	group.SetLimit(askedAtOnce)
	for n, one := range outlets {
		group.Go(func() error {
			var found *OutletImpact
			err := guard.Run(func() (err error) {
				found, err = i.outlet(ctx, one, r)
				return err
			})
			if err != nil {
				// One that cannot be looked at says nothing of the others.
				found = &OutletImpact{Outlet: one.Name, Findings: []Finding{}}
				found.add(Differs, "what would become of it could not be worked out: "+err.Error(), "")
			}
			report.Outlets[n] = *found
			return nil
		})
	}
	group.Wait() //nolint:errcheck // none of them fails
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	for _, found := range report.Outlets {
		report.Verdict = worse(report.Verdict, found.Verdict)
	}
	slices.SortStableFunc(report.Outlets, func(a, b OutletImpact) int { return severity[b.Verdict] - severity[a.Verdict] })
	return report, nil
}

// same reports whether a rehearsal has changed nothing that events would show.
func same(r *engine.Rehearsal) bool {
	return r.After != nil && r.Name == r.Table && r.Before.Fingerprint() == r.After.Fingerprint() && len(r.Renamed) == 0 && !r.Rewrites
}

// changes are what the schema event would say.
func changes(r *engine.Rehearsal) []string {
	switch {
	case r.Name == "":
		return []string{"the table is gone"}
	case r.After == nil:
		return []string{"the table is now " + r.Name}
	}
	said := change.Changes(r.Before, r.After, r.Renamed)
	if r.Name != r.Table {
		said = append([]string{"the table is now " + r.Name}, said...)
	}
	return said
}

// afterRewrite is what the source does with a table whose rows change without an event each.
func afterRewrite(r *engine.Rehearsal, source *definition.Source, chosen rules.Set, state *engine.TableState) string {
	rule := chosen.For(r.Table)
	switch {
	case !source.Loads():
		return "the table is stale, since the source loads nothing"
	case rule == nil || state == nil:
		return "the table is loaded again"
	}
	about := fmt.Sprintf("about %d rows", state.Rows())
	switch {
	case rule.ReloadRewritten:
		return "the table is loaded again, " + about
	case rule.Reloads(state.Rows(), true):
		return fmt.Sprintf("the table is loaded again, %s (reload_up_to is %d)", about, rule.ReloadUpTo)
	case rule.ReloadUpTo > 0:
		return fmt.Sprintf("the table, %s, is stale until somebody reloads it (reload_up_to is %d)", about, rule.ReloadUpTo)
	}
	return "the table, " + about + ", is stale until somebody reloads it"
}

// mostOfAValue bounds, in bytes, how much of a value is shown.
const mostOfAValue = 60

// fillings say which values rows get that are there already.
func fillings(r *engine.Rehearsal) []Finding {
	var findings []Finding
	for i := range r.After.Columns {
		name := r.After.Columns[i].Name
		value, is := r.Filled[name]
		if !is {
			continue
		}
		told := string(value)
		if len(told) > mostOfAValue {
			told = strings.ToValidUTF8(told[:mostOfAValue], "") + "…"
		}
		findings = append(findings, Finding{Differs, fmt.Sprintf("rows that are there have %s in %s: the schema event says so in filled, and nothing is loaded again", told, name), ""})
	}
	return findings
}

// atSource is what would happen to the events themselves; after is what follows a rewrite.
func atSource(r *engine.Rehearsal, after string) []Finding {
	findings := []Finding{}
	switch {
	case r.Name == "":
		findings = append(findings, Finding{Loses, "the table is gone: no event of it comes any more; what the journal has of it stays", ""})
	case r.After == nil:
		findings = append(findings, Finding{Loses, fmt.Sprintf("no table rule chooses %s: no event of it comes any more", r.Name), "add the new name to the source's table rules before"})
	case r.Name != r.Table:
		findings = append(findings, Finding{Differs, fmt.Sprintf("its events come as those of %s from there on, after a load of it", r.Name), ""})
	}
	if r.Exposes != "" {
		return append(findings, Finding{Holds, fmt.Sprintf("the private column %q would have another name, about which no table rule decides: the source holds before it, and every outlet waits", r.Exposes), "add a rule for the new name to the source, and ask again"})
	}
	if r.InsertsOnly && len(r.Before.Key()) > 0 {
		findings = append(findings, Finding{Loses, "its key goes: updates and deletes are in no event from there on, and the table is stale until it has one again", "ALTER TABLE … REPLICA IDENTITY FULL beforehand, or give it another key in the same transaction"})
	}
	if r.Rewrites && r.After != nil && r.Name == r.Table {
		findings = append(findings, Finding{Differs, "rows change without an event each: " + after, ""})
	}
	if r.After != nil && r.Name == r.Table && !r.Rewrites {
		findings = append(findings, fillings(r)...)
	}
	return findings
}
