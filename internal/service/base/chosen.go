package base

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/shape"
)

// ChosenTables are an outlet's tables, those that patterns choose where there are some, with about
// how many rows each has.
func (s *Common) ChosenTables(ctx context.Context, d *definition.Outlet, patterns []string) (map[string]int64, error) {
	filter, err := d.Filter()
	if err != nil {
		return nil, err
	}
	var chosen shape.Filter
	for i, text := range patterns {
		p, err := shape.ParsePattern(text)
		if err != nil {
			return nil, &definition.Invalid{Location: fmt.Sprintf("tables[%d]", i), Message: err.Error()}
		}
		chosen.Tables = append(chosen.Tables, p)
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return nil, Answer(err, "source", d.Source)
	}
	states, err := s.Catalog.TableStates(ctx, source.ID)
	if err != nil {
		return nil, Answer(err, "source", d.Source)
	}
	tables := make(map[string]int64)
	for name, state := range states {
		if !engine.Away(state.State) && filter.AdmitsTable(name) && chosen.AdmitsTable(name) {
			tables[name] = state.Rows()
		}
	}
	if len(tables) == 0 {
		return nil, &engine.Fault{Code: "no-tables", Message: "there is no such table among those of the outlet", Fix: "`rillmark source tables " + d.Source + "` lists them"}
	}
	return tables, nil
}

// NewestVersions are the newest schema versions of the tables that an outlet
// lets through.
func (s *Common) NewestVersions(ctx context.Context, d *definition.Outlet) ([]*change.Schema, error) {
	filter, err := d.Filter()
	if err != nil {
		return nil, err
	}
	all, err := s.Catalog.SchemaVersions(ctx, d.Source)
	if err != nil {
		return nil, Answer(err, "source", d.Source)
	}
	newest := make(map[string]*change.Schema)
	seen := make(map[string]int64)
	for _, v := range all {
		if at := v.FirstSeen.UnixNano(); filter.AdmitsTable(v.Schema.Table) && at >= seen[v.Schema.Table] {
			newest[v.Schema.Table], seen[v.Schema.Table] = v.Schema, at
		}
	}
	versions := make([]*change.Schema, 0, len(newest))
	for _, v := range newest {
		versions = append(versions, v)
	}
	sort.Slice(versions, func(i, j int) bool { return versions[i].Table < versions[j].Table })
	return versions, nil
}

// Loads says why a source loads no tables.
func Loads(source *catalog.Source) error {
	if source.Definition.Loads() {
		return nil
	}
	return &engine.Fault{Code: CodeInvalid, Message: fmt.Sprintf("source %q is defined to follow only", source.Name), Fix: "set mode to load-and-follow in its definition"}
}

// SomeOf names the first of many.
func SomeOf(names []string) string {
	if len(names) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	return strings.Join(names, ", ")
}
