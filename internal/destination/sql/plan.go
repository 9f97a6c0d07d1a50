package sql

import (
	"context"
	"errors"
	"slices"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
)

// errPlanned ends what would do more than be looked at.
var errPlanned = errors.New("it would be done")

// Plan is what a writer would run at a change of a table's definition, in its order; nothing is
// run. Where the outlet holds there, the error says why. Without a table there is nothing to do
// yet. The session is closed.
func Plan(ctx context.Context, db Database, options *Options, c destination.Redefinition) (statements []string, err error) {
	defer db.Close() //nolint:errcheck // it was only asked
	w := &Writer{db: db, options: options, outlet: destination.Outlet{Name: c.Outlet, Log: func(_, _, _ string) {}}, plan: &statements, record: &Record{Tables: make(map[string]*TableState)}}
	if w.kept, err = options.Kept(); err != nil {
		return nil, err
	}
	t, err := w.look(ctx, c.Now.Table)
	if err != nil || len(t.Columns) == 0 {
		return nil, db.Explained(err)
	}
	w.record.Tables[t.Source] = t.fresh()
	err = w.redefine(ctx, t, &encode.Message{Table: t.Source, Offset: -1}, c.Before, c.Now, c.Renamed)
	if errors.Is(err, errPlanned) {
		err = nil
	}
	return statements, db.Explained(err)
}

// planned notes statements in place of running them, where they are only planned.
func (w *Writer) planned(statements ...string) bool {
	if w.plan == nil {
		return false
	}
	for _, one := range statements {
		if !slices.Contains(*w.plan, one) {
			*w.plan = append(*w.plan, one)
		}
	}
	return true
}
