package comparing

import (
	"context"
	"errors"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/shape"
	"rillmark/internal/verify"
)

// formedRows are a table's rows in the form in which an outlet hands them on.
type formedRows struct {
	verify.Side
	rows *shape.Rows
	from *change.Schema
	to   *change.Schema
}

// forming puts a table's rows into their form.
func forming(of verify.Side, rows *shape.Rows) (verify.Side, error) {
	if rows == nil {
		return of, nil
	}
	f := &formedRows{Side: of, rows: rows.Clone(), from: of.Schema()}
	f.rows.RowsAlone = true // no row says which event brought it
	var err error
	if f.to, err = f.rows.Schema(f.from); err != nil {
		return nil, verify.Incomparable(err.Error())
	}
	if f.to == f.from {
		return of, nil
	}
	if slices.ContainsFunc(f.to.Key(), func(i int) bool {
		return f.to.Columns[i].Treatment == change.Hashed && !treatedBefore(f.from, f.to.Key(), i)
	}) {
		return nil, verify.Incomparable("its key is hashed on the way, so that the rows cannot be read in the same order")
	}
	return f, nil
}

// treatedBefore reports whether a column of the key was treated at the source already.
func treatedBefore(from *change.Schema, key []int, i int) bool {
	return from.Columns[from.Key()[slices.Index(key, i)]].Treatment != ""
}

// Schema implements [verify.Side].
func (f *formedRows) Schema() *change.Schema { return f.to }

func (f *formedRows) form(rows [][]change.Value) ([][]change.Value, error) {
	for i := range rows {
		formed, err := f.rows.Row(f.from, rows[i])
		var refused *shape.Refused // the row is a dead letter, and so not in the target
		if err != nil && !errors.As(err, &refused) {
			return nil, verify.Incomparable(err.Error())
		}
		rows[i] = formed
	}
	return rows, nil
}

// After implements [verify.Side].
func (f *formedRows) After(ctx context.Context, after, upTo []string) (verify.Page, error) {
	page, err := f.Side.After(ctx, after, upTo)
	if err == nil {
		page.Rows, err = f.form(page.Rows)
	}
	return page, err
}

// These implements [verify.Side].
func (f *formedRows) These(ctx context.Context, keys [][]string) ([][]change.Value, error) {
	rows, err := f.Side.These(ctx, keys)
	if err != nil {
		return nil, err
	}
	return f.form(rows)
}
