package sql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/expression"
)

const (
	// mostNamed is how many tables one line of a check names.
	mostNamed = 5
	// mostInspected is how many tables are looked at.
	mostInspected = 500
)

// Inspect looks at the tables into which rows of schema versions would be written, beside what
// the outlet needs; nothing is changed. Those that are fine share a check. The session is
// closed.
func Inspect(ctx context.Context, db Database, options *Options, outlet destination.Outlet, versions []*change.Schema) []change.Check {
	defer db.Close() //nolint:errcheck // it was only asked
	i := &inspection{Writer: Writer{db: db, options: options, outlet: outlet, record: &Record{Tables: make(map[string]*TableState)}}, places: make(map[string]string)}
	checks, err := i.all(ctx, versions)
	if err != nil {
		return append(checks, change.Check{Name: "tables of the outlet", Verdict: change.Missing, Found: db.Explained(err).Error(), Why: "it is not known whether the source's rows fit"})
	}
	return checks
}

// inspection is a writer that only looks.
type inspection struct {
	Writer
	claimed bool              // there is a table of offsets, where outlets say which tables are theirs
	places  map[string]string // the source's tables by their names here
	found   *findings         // of the table in hand
}

func (i *inspection) all(ctx context.Context, versions []*change.Schema) (checks []change.Check, err error) {
	if i.kept, err = i.options.Kept(); err != nil {
		return nil, err
	}
	offsets := new(Table)
	offsets.Schema, offsets.Name = i.options.OffsetsTable()
	if err := i.db.Look(ctx, offsets); err != nil {
		return nil, err
	}
	i.claimed = len(offsets.Columns) > 0
	var made, fine []string
	for n, version := range versions {
		if n == mostInspected {
			checks = append(checks, change.Check{Name: "more tables", Verdict: change.Note, Found: fmt.Sprintf("%d more tables were not looked at", len(versions)-n)})
			break
		}
		one, isMade, err := i.table(ctx, version)
		var fault *engine.Fault
		switch {
		case errors.As(err, &fault) && fault.Final:
			said := *fault
			said.Fix = ""
			i.found.add(said.Error(), fault.Fix)
			checks = append(checks, i.found.check(version.Table, change.Missing, "the outlet holds before its first row"))
		case err != nil:
			return checks, fmt.Errorf("looking at the table for %s: %w", version.Table, err)
		case one != nil:
			checks = append(checks, *one)
		case isMade:
			made = append(made, i.places[version.Table])
		default:
			fine = append(fine, i.places[version.Table])
		}
	}
	summary := func(name string, tables []string, found string) {
		if len(tables) == 0 {
			return
		}
		shown := strings.Join(tables[:min(len(tables), mostNamed)], ", ")
		if len(tables) > mostNamed {
			shown += fmt.Sprintf(" and %d more", len(tables)-mostNamed)
		}
		checks = append(checks, change.Check{Name: name, Verdict: change.Good, Found: found + shown})
	}
	summary("tables that are there", fine, "they fit the source's rows: ")
	summary("tables that are not there", made, "they will be made: ")
	return checks, nil
}

// table looks at one; the check is nil where there is nothing to say of it.
func (i *inspection) table(ctx context.Context, version *change.Schema) (check *change.Check, made bool, err error) {
	var statements []string
	i.plan, i.found = &statements, new(findings)
	t, err := i.look(ctx, version.Table)
	if err != nil {
		return nil, false, err
	}
	for source, place := range i.places {
		if place == t.SQL {
			return nil, false, i.sameTable(source, version.Table, t.SQL)
		}
	}
	i.places[version.Table] = t.SQL
	if i.claimed {
		if err := i.claim(ctx, t); err != nil {
			return nil, false, err
		}
	}
	if len(t.Columns) == 0 {
		return nil, true, i.planCreate(ctx, t, version)
	}
	for _, note := range t.Notes {
		i.found.add(note, "")
	}
	i.columns(ctx, t, version)
	if err := i.alter(ctx, t, version); err != nil {
		return nil, false, err
	}
	if err := i.keyed(t, version); err != nil {
		return nil, false, err
	}
	if err := i.distinguishes(ctx, t, version); err != nil {
		return nil, false, err
	}
	if len(statements) > 0 {
		i.found.add("it will be altered: "+strings.Join(statements, ";\n"), "")
	}
	if i.outlet.Committed == 0 {
		if err := i.present(ctx, t); err != nil {
			return nil, false, err
		}
	}
	if len(i.found.says) == 0 {
		return nil, false, nil
	}
	note := i.found.check(version.Table, change.Note, "")
	note.Found = t.SQL + "\n" + note.Found
	return &note, false, nil
}

// findings are what is to be known of a table.
type findings struct{ says, fixes []string }

func (f *findings) add(says, fix string) {
	if says != "" {
		f.says = append(f.says, says)
	}
	if fix != "" {
		f.fixes = slices.DeleteFunc(f.fixes, func(known string) bool { return strings.HasPrefix(fix, known) })
		f.fixes = append(f.fixes, fix)
	}
}

// check is all of it in one verdict.
func (f *findings) check(table string, verdict change.Verdict, why string) change.Check {
	return change.Check{Name: "table " + table, Verdict: verdict, Found: strings.Join(f.says, "\n"), Why: why, Fix: strings.Join(f.fixes, "\n")}
}

// planCreate plans how a table is made.
func (i *inspection) planCreate(ctx context.Context, t *Table, version *change.Schema) error {
	err := i.create(ctx, t, version)
	if errors.Is(err, errPlanned) {
		return nil
	}
	return err
}

// columns compares those that are there with what the source's need.
func (i *inspection) columns(ctx context.Context, t *Table, version *change.Schema) {
	var spare, mapped []string
	for _, c := range t.Columns {
		if version.Column(c.Name) == nil && !slices.Contains(t.Keep.Own(), c.Name) {
			spare = append(spare, c.Name)
		}
	}
	for n := range version.Columns {
		c := &version.Columns[n]
		known := t.Column(c.Name)
		if known == nil {
			if like := expression.Similar(c.Name, spare); like != "" {
				i.found.add(fmt.Sprintf("it has no column %q, and %q is none of the source's: they may be one", c.Name, like), "")
				mapped = append(mapped, fmt.Sprintf("{match: %s, name: %s}", c.Name, like))
			}
			continue
		}
		if known.Generated {
			continue
		}
		kind, _, err := i.db.TypeOf(ctx, version, c, onlyPlanned)
		if err != nil {
			continue // altering says it
		}
		wide := *known
		wide.Kind = kind
		switch fitOf(known.Kind, kind, t.AnyCase) {
		case narrower:
			i.found.add(fmt.Sprintf("column %s is %s, narrower than %s: rows with values that do not fit become dead letters, or lose digits", known.Name, known.Kind, kind), i.db.Modify(t, &wide))
		case other:
			i.found.add(fmt.Sprintf("column %s is %s, and would be %s for the source's %s: the database converts what it can, and rows with other values become dead letters", known.Name, known.Kind, kind, c.Type), "")
		case fits:
		}
	}
	if len(mapped) > 0 {
		i.found.add("", fmt.Sprintf("where they are one, write in the outlet's definition: rows: [{match: %s, columns: [%s]}]", version.Table, strings.Join(mapped, ", ")))
	}
}

// keyed refuses a table in which a row's key can be there twice.
func (i *inspection) keyed(t *Table, version *change.Schema) error {
	b := &Binding{Table: t, Source: version, dialect: i.db}
	for _, at := range version.Key() {
		b.Key, b.From, b.Names = append(b.Key, len(b.From)), append(b.From, at), append(b.Names, i.db.Quote(version.Columns[at].Name))
	}
	return b.unique()
}

// present says what becomes of rows that are there before the outlet's own.
func (i *inspection) present(ctx context.Context, t *Table) error {
	filled, err := i.db.Filled(ctx, t, "true")
	switch {
	case err != nil || !filled:
		return err
	case i.options.Present == "refuse":
		return i.hasRows(t)
	case i.options.Present == "keep":
		i.found.add("it has rows, which stay until the table is reloaded", "")
	default:
		i.found.add("it has rows; those that the source does not have go once the load is complete", "")
	}
	return nil
}
