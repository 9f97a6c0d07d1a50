package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/shape"
)

// oldRowsTime bounds how long somebody who stores an outlet waits for its source to say what the
// log has of old rows. Where it does not answer, nothing is said.
const oldRowsTime = 3 * time.Second

// oldRow is what an outlet's definition needs of old rows that the source's log does not carry.
type oldRow struct{ Table, Says, Fix string }

// oldRows says of which tables the log carries the old row's key alone, while the outlet's
// condition, key or partition looks at other columns.
func (s *Outlets) oldRows(ctx context.Context, d *definition.Outlet, versions []*change.Schema) []oldRow {
	ctx, cancel := context.WithTimeout(ctx, oldRowsTime)
	defer cancel()
	tables, err := s.sources.Tables(ctx, d.Source, nil)
	if err != nil {
		return nil
	}
	filter, err := d.Filter()
	if err != nil {
		return nil
	}
	var found []oldRow
	for _, v := range versions {
		at := slices.IndexFunc(tables, func(t engine.Table) bool {
			return t.Name == v.Table || t.CapturedAs == v.Table
		})
		if at < 0 || tables[at].Identity != "key" && tables[at].Identity != "index" || !filter.AdmitsTable(v.Table) {
			continue
		}
		fix := "ALTER TABLE " + v.Table + " REPLICA IDENTITY FULL"
		if columns := beyondKey(v, s.conditionColumns(filter, v)); len(columns) > 0 {
			found = append(found, oldRow{v.Table, fmt.Sprintf("its condition looks at %s, and the log carries the old row's key alone: an update of a row that was outside of it, and stays there, comes as a delete, and one that enters it as an update", strings.Join(columns, ", ")), fix})
		}
		if columns := beyondKey(v, templateColumns(d)); len(columns) > 0 {
			found = append(found, oldRow{v.Table, fmt.Sprintf("its messages' key or partition is made of %s, which deletes do not have: the log carries the old row's key alone", strings.Join(columns, ", ")), fix})
		}
	}
	return found
}

// conditionColumns are those that an outlet's conditions on a table look at.
func (s *Outlets) conditionColumns(filter *shape.Filter, v *change.Schema) (names []string) {
	conditions, err := filter.Conditions(v)
	if err != nil {
		return nil // storing it has said so
	}
	for _, one := range conditions {
		for _, i := range one.Uses() {
			names = append(names, v.Columns[i].Name)
		}
	}
	return names
}

// templateColumns are those of which an outlet makes keys and partitions of messages.
func templateColumns(d *definition.Outlet) (names []string) {
	for _, text := range []string{d.Key, d.Partition} {
		if template, err := shape.ParseTemplate(text); err == nil && text != "" {
			names = append(names, template.Columns()...)
		}
	}
	return names
}

// beyondKey are the columns of a version among some that are not of its key.
func beyondKey(v *change.Schema, names []string) (beyond []string) {
	for _, name := range names {
		if c := v.Column(name); c != nil && c.Key == 0 && !slices.Contains(beyond, name) {
			beyond = append(beyond, name)
		}
	}
	return beyond
}
