package mariadb

import (
	"context"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/catalogue"
	"rillmark/internal/mariadb/loads"
	"rillmark/internal/mariadb/statement"
)

// child is a table whose rows the server may change with those of another, by a foreign
// key: it logs none of that.
type child struct {
	table              *loads.Table
	key                string // the foreign key's name
	onDelete, onUpdate bool
}

// cascades looks for such tables, through others that lie between.
func (r *run) cascades(ctx context.Context, reader *catalogue.Reader) error {
	all, err := reader.Cascades(ctx)
	if err != nil {
		return err
	}
	r.under(func() { r.relate(all) })
	return nil
}

// relate notes which tables change with others; the lock is held.
func (r *run) relate(all []catalogue.Cascade) {
	r.foreign, r.children = all, make(map[string][]child)
	for _, first := range all {
		for _, one := range beyond(all, first) {
			if t := r.tables[one.Child]; t != nil && t.ChosenBy != nil {
				r.children[first.Parent] = append(r.children[first.Parent], child{t, one.Name, first.OnDelete, first.OnUpdate})
			}
		}
	}
}

// reference looks at the foreign keys of tables that a statement has made, altered or renamed. The
// lock is held.
func (r *run) reference(ctx context.Context, e statement.Effect) error {
	switch e.Kind {
	case statement.Rename:
		// Foreign keys go with their tables, on either side. Reading all of the server's again would
		// take seconds where there are many tables, and the log waits here.
		for i, from := range e.Tables {
			r.renamed(change.TableName(from.Database, from.Name), e.To[i])
		}
	case statement.Create, statement.Alter:
		for _, name := range e.Tables {
			if err := r.referenceOf(ctx, name); err != nil {
				return err
			}
		}
	default:
	}
	return nil
}

// renamed gives a table its new name in the foreign keys that are known; the lock is held.
func (r *run) renamed(from string, as statement.Table) {
	to, touched := change.TableName(as.Database, as.Name), false
	all := slices.Clone(r.foreign)
	for i := range all {
		one := &all[i]
		if one.Child == from {
			one.Child, touched = to, true
		}
		if one.Parent == from {
			one.Parent, touched = to, true
		}
	}
	if !touched {
		return
	}
	if r.tables[to] == nil && r.rule(to) != nil && !isOurs(as.Database) {
		r.newTable(to, as) // it arrives next
	}
	r.relate(all)
}

// referenceOf looks at the foreign keys of a table that a statement has just made or altered: its
// rows may change with others' before the next look at all tables. The lock is held.
func (r *run) referenceOf(ctx context.Context, of statement.Table) error {
	its, err := r.reader.CascadesOf(ctx, of.Database, of.Name)
	if err != nil {
		return err
	}
	name := change.TableName(of.Database, of.Name)
	if len(its) > 0 && r.tables[name] == nil && r.rule(name) != nil {
		r.newTable(name, of) // its creation comes next
	}
	others := slices.DeleteFunc(slices.Clone(r.foreign), func(c catalogue.Cascade) bool { return c.Child == name })
	if len(its) > 0 || len(others) < len(r.foreign) {
		r.relate(append(others, its...))
	}
	return nil
}

// beyond are a foreign key and those that it may set off.
func beyond(all []catalogue.Cascade, first catalogue.Cascade) []catalogue.Cascade {
	reached, seen := []catalogue.Cascade{first}, map[string]bool{first.Child: true}
	for i := 0; i < len(reached); i++ {
		for _, next := range all {
			if next.Parent == reached[i].Child && !seen[next.Child] {
				seen[next.Child] = true
				reached = append(reached, next)
			}
		}
	}
	return reached
}

// cascaded marks the tables whose rows may have changed with rows of a parent; the lock is
// held. The log announces such a table at each statement that may change it, and brings no
// row of it: an update that leaves the parent's key alone announces none.
func (r *run) cascaded(b *binding, kind binlog.RowsKind) {
	// A versioned table's row is deleted by an update of its end.
	ends := b.table == nil || b.table.Listed == nil || b.table.Listed.Versioned
	for _, c := range r.children[b.name] {
		if kind == binlog.Delete && !c.onDelete || kind == binlog.Update && !c.onUpdate && (!c.onDelete || !ends) || !r.tx.announced[c.table.State.Table] {
			continue
		}
		if c.table.State.State == engine.StateStale && c.table.State.Cause == change.CauseForeignKey {
			continue // it has been said
		}
		r.states.Rewritten(c.table, change.Reason{Cause: change.CauseForeignKey,
			Text: "rows of " + b.name + " were deleted or changed their key, and the server does not log what its foreign key " + c.key + " changes with them"})
	}
}
