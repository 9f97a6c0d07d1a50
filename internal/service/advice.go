package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/expression"
	"rillmark/internal/service/base"
	"rillmark/internal/shape"
)

// maxAdvice bounds what is said at once.
const maxAdvice = 20

// checkColumns refuses templates that name a column which no table that goes out has:
// each message would have an empty text there. Before a source has any table on record
// nothing can be said.
func checkColumns(d *definition.Outlet, versions []*change.Schema, rows *shape.Rows) error {
	if len(versions) == 0 {
		return nil
	}
	filter, err := d.Filter()
	if err != nil {
		return err
	}
	for _, v := range versions {
		if _, err := filter.Conditions(v); err != nil {
			return &definition.Invalid{Location: "where", Message: err.Error()}
		}
	}
	if versions, err = base.Formed(rows, versions); err != nil {
		return err
	}
	has := func(schema *change.Schema, column string) bool {
		return slices.ContainsFunc(schema.Columns, func(c change.Column) bool { return c.Name == column })
	}
	for _, one := range []struct{ at, text string }{{"topic", d.Topic}, {"schema_topic", d.SchemaTopic}, {"key", d.Key}, {"partition", d.Partition}} {
		template, err := shape.ParseTemplate(one.text)
		if err != nil {
			return &definition.Invalid{Location: one.at, Message: err.Error()}
		}
		for _, column := range template.Columns() {
			if !slices.ContainsFunc(versions, func(v *change.Schema) bool { return has(v, column) }) {
				return &definition.Invalid{Location: one.at, Message: fmt.Sprintf("no table that goes out has a column %q", column)}
			}
		}
	}
	r := d.Outbox
	if r == nil {
		return nil
	}
	pattern, err := shape.ParsePattern(r.Table)
	if err != nil {
		return &definition.Invalid{Location: "outbox.table", Message: err.Error()}
	}
	for _, v := range versions {
		if !pattern.Matches(v.Table) {
			continue
		}
		for at, column := range map[string]string{"id": r.ID, "kind": r.Kind, "body": r.Body, "subject": r.Subject, "time": r.Time} {
			if column != "" && !has(v, column) {
				return &definition.Invalid{Location: "outbox." + at, Message: fmt.Sprintf("%s has no column %q", v.Table, column)}
			}
		}
	}
	return nil
}

// Advice is what somebody should know who has just stored an outlet; begins
// says that it is a new one.
func (s *Outlets) Advice(ctx context.Context, name string, begins bool) ([]string, error) {
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return nil, base.Answer(err, "outlet", name)
	}
	d := &record.Definition
	var advice []string
	if begins && (d.From == "" || d.From == "beginning") {
		head, err := s.journals.Head(ctx, d.Source)
		if err != nil {
			return nil, err
		}
		if head.First > 1 {
			advice = append(advice, fmt.Sprintf("the journal begins at offset %d: offsets 1 to %d are no longer kept, so that rows which were loaded or changed there, and not since, do not come; "+
				"`rillmark outlet load %s` has all rows come, to this outlet alone", head.First, head.First-1, name))
		}
	}
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return nil, err
	}
	for _, one := range s.oldRows(ctx, d, versions) {
		advice = append(advice, one.Table+": "+one.Says+". Fix: "+one.Fix)
	}
	shaped, err := s.Shape(ctx, d)
	if err != nil {
		return nil, err
	}
	if versions, err = base.Formed(shaped.Rows, versions); err != nil {
		return nil, err
	}
	for _, v := range versions {
		var renamed []string
		for _, c := range encode.Renamed(shaped, v) {
			renamed = append(renamed, fmt.Sprintf("%q as %q", c.From, c.Name))
		}
		for _, c := range d.ColumnsMissing(v) {
			advice = append(advice, fmt.Sprintf("%s has no column %q, which a template names: its messages have an empty text there; {row.%s|other} says what stands instead", v.Table, c, c))
		}
		if len(renamed) > 0 {
			advice = append(advice, fmt.Sprintf("format %s calls columns of %s otherwise: %s", d.Format, v.Table, strings.Join(renamed, ", ")))
		}
	}
	if len(advice) > maxAdvice {
		advice = append(advice[:maxAdvice], fmt.Sprintf("and %d more like these", len(advice)-maxAdvice))
	}
	return advice, nil
}

// missingTable is a pattern of an outlet's conditions or forms that matches no table.
type missingTable struct {
	at, pattern, says string
	allowed           bool
}

// missingIn says that a pattern matches none of the tables that are known; nil where it does.
func missingIn(known []string, source, pattern string) *missingTable {
	p, err := shape.ParsePattern(pattern)
	if err != nil || len(known) == 0 || slices.ContainsFunc(known, p.Matches) {
		return nil // what is no pattern is said elsewhere
	}
	says := fmt.Sprintf("no table of %s matches %q", source, pattern)
	if like := expression.Similar(pattern, known); like != "" {
		return &missingTable{pattern: pattern, says: says + ": " + like + "?"}
	}
	return &missingTable{pattern: pattern, says: says + "."}
}

// missingTables are the patterns that match no table of which anything is on record, of a source that
// has some. A mistyped one lets out what it should keep back.
func (s *Outlets) missingTables(ctx context.Context, d *definition.Outlet, source int64) ([]missingTable, error) {
	states, err := s.Catalog.TableStates(ctx, source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	ever, err := s.Catalog.SchemaVersions(ctx, d.Source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	known := slices.Collect(maps.Keys(states))
	for i := range ever {
		known = append(known, ever[i].Schema.Table)
	}
	slices.Sort(known)
	known = slices.Compact(known)
	var missing []missingTable
	look := func(at, pattern string) {
		if one := missingIn(known, d.Source, pattern); one != nil {
			one.at, one.allowed = at, slices.Contains(d.AllowMissing, pattern)
			missing = append(missing, *one)
		}
	}
	for _, pattern := range slices.Sorted(maps.Keys(d.Where)) {
		look("where", pattern)
	}
	for i, r := range d.Rows {
		look(fmt.Sprintf("rows[%d].match", i), r.Match)
	}
	return missing, nil
}

// tablesFit refuses patterns that match no table, unless they are allowed to.
func (s *Outlets) tablesFit(ctx context.Context, d *definition.Outlet, source int64) error {
	missing, err := s.missingTables(ctx, d, source)
	if err != nil {
		return err
	}
	for _, one := range missing {
		if !one.allowed {
			return &definition.Invalid{Location: one.at, Message: one.says + " Where that table is still to come, name the pattern in allow_missing, too"}
		}
	}
	return nil
}

// columnsFit is checkColumns with what is on record of the source.
func (s *Outlets) columnsFit(ctx context.Context, d *definition.Outlet) error {
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return err
	}
	rows, err := s.Forms(ctx, d)
	if err != nil {
		return err
	}
	if rows != nil {
		all, err := s.Catalog.SchemaVersions(ctx, d.Source)
		if err != nil {
			return base.Answer(err, "source", d.Source)
		}
		ever := make([]*change.Schema, len(all)) // a column that has gone may be in the journal still
		for i := range all {
			ever[i] = all[i].Schema
		}
		if at, says, is := rows.Unused(ever); is {
			return &definition.Invalid{Location: at, Message: says}
		}
	}
	if err := placesApart(d, versions); err != nil {
		return err
	}
	return checkColumns(d, versions, rows)
}

// placesApart refuses an outlet that would write two tables into one, as far as the source's
// tables are on record.
func placesApart(d *definition.Outlet, versions []*change.Schema) error {
	placer, has := d.Settings.(destination.TablePlacer)
	if !has {
		return nil
	}
	places := make(map[string]string)
	for _, v := range versions {
		place, err := placer.PlaceTable(v.Table)
		if err != nil {
			return &definition.Invalid{Location: d.Kind, Message: err.Error()}
		}
		if other := places[place]; other != "" {
			return &definition.Invalid{Location: d.Kind + ".table", Message: fmt.Sprintf("%s and %s would both be written into %s: write templates that keep them apart, name one of them in renamed_tables, or leave it out", other, v.Table, place)}
		}
		places[place] = v.Table
	}
	return nil
}

// checkRuleKeys refuses a table rule whose key names a column that none of the tables
// has which the rule decides about, as far as the source's tables are on record.
func checkRuleKeys(d *definition.Source, newest map[string]*change.Schema) error {
	rules := base.ParseRules(d.Tables)
	has := make(map[*definition.TableRule]map[string]bool)
	for table, version := range newest {
		rule := rules.Of(table)
		if rule == nil || len(rule.Key) == 0 {
			continue
		}
		if has[rule] == nil {
			has[rule] = make(map[string]bool)
		}
		for _, c := range version.Columns {
			has[rule][c.Name] = true
		}
		for _, name := range version.LeftOut {
			has[rule][name] = true
		}
	}
	for i := range d.Tables {
		rule := &d.Tables[i]
		for _, column := range rule.Key {
			if has[rule] != nil && !has[rule][column] {
				return &definition.Invalid{Location: fmt.Sprintf("tables[%d].key", i), Message: fmt.Sprintf("no table that the rule %s decides about has a column %q", rule.Match, column)}
			}
		}
	}
	return nil
}

// ruleKeysFit is checkRuleKeys with what is on record of the source.
func (s *Sources) ruleKeysFit(ctx context.Context, name string, d *definition.Source) error {
	versions, err := s.Catalog.SchemaVersions(ctx, name)
	if err != nil {
		return base.Answer(err, "source", name)
	}
	newest := make(map[string]*change.Schema)
	for _, v := range versions {
		newest[v.Schema.Table] = v.Schema
	}
	return checkRuleKeys(d, newest)
}
