package framing

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
)

// lake is a destination that has something which rows are fitted to.
type lake struct {
	destination.Destination
	fit   destination.RowFit
	err   error
	asked int
}

func (l *lake) FitRow(context.Context, *change.Schema) (destination.RowFit, error) {
	l.asked++
	return l.fit, l.err
}

type wanted bool

func (wanted) Validate(encode.Format, destination.Settings) error { return nil }
func (w wanted) FitsRows() bool                                   { return bool(w) }

type form struct{ has string }

func (f *form) Form([]change.Value, bool) (any, error) { return f, nil }
func (f *form) Takes(column string) bool               { return column == f.has }

// TestRows: rows keep their form while what they are fitted to is the same or cannot be read, get
// another one with it, and are refused, or made dead letters, where they do not fit.
func TestRows(t *testing.T) {
	loans := change.NewSchema("postgresql", "public.loans", []change.Column{{Name: "id", Type: "bigint", Rule: change.RuleInteger, Bits: 64}}, nil, false)
	to := &lake{err: errors.New("there is none")}
	d := &definition.Outlet{Destination: "lake", Format: encode.FormatParquet, Operations: []string{"insert"}, Settings: wanted(true)}
	rows := RowsOf(d, func() (destination.Destination, error) { return to, nil })
	later := func() { rows.fits.of[loans.Fingerprint()].until = time.Time{} }
	_, err := rows.Fit(t.Context(), loans)
	require.ErrorIs(t, err, to.err)

	first, same, second := &form{}, &form{}, &form{}
	to.err, to.fit = nil, destination.RowFit{To: "the model a", Text: "a", Notes: []encode.FieldFit{{Field: "id", Misfit: true, Says: "too narrow"}, {Field: "x", Says: "null"}, {Field: "y", Says: "null"}}}
	_, err = rows.Fit(t.Context(), loans)
	require.ErrorContains(t, err, "rows of public.loans do not fit the model a: id: too narrow")
	require.Equal(t, []change.Check{{Name: "schema of public.loans", Verdict: change.Missing, Found: "rows do not fit the model a: id: too narrow", Why: "no row can be sent; beside that, x, y: null", Fix: HowToFit}},
		rows.Checks(t.Context(), []*change.Schema{loans}))
	d.SchemaChanges = "dead-letter"
	var letter *encode.EncodeError
	_, err = rows.Fit(t.Context(), loans)
	require.ErrorAs(t, err, &letter)

	later()
	to.fit.Form, to.fit.Notes = first, nil
	got, err := rows.Fit(t.Context(), loans)
	require.NoError(t, err)
	require.Same(t, first, got)
	asked := to.asked
	_, err = rows.Fit(t.Context(), loans)
	require.NoError(t, err)
	require.Equal(t, asked, to.asked, "it is not asked for each event")
	for _, change := range []func(){func() { to.fit.Form = same }, func() { to.err = errors.New("away") }} {
		change()
		later()
		got, err = rows.Fit(t.Context(), loans)
		require.NoError(t, err)
		require.Same(t, first, got)
		require.Greater(t, to.asked, asked)
	}
	later()
	to.err, to.fit.Form, to.fit.Text = nil, second, "b"
	got, err = rows.Fit(t.Context(), loans)
	require.NoError(t, err)
	require.Same(t, second, got)

	d.Operations = nil
	why, what, err := rows.Misfits(t.Context(), loans)
	require.NoError(t, err)
	require.Equal(t, "the model a", what)
	require.Contains(t, why, "a deleted row looks like any other: leave deletes out")
	second.has = "_operation"
	why, _, err = rows.Misfits(t.Context(), loans)
	require.NoError(t, err)
	require.Empty(t, why)

	require.Nil(t, RowsOf(&definition.Outlet{Settings: wanted(false)}, nil))
	require.Nil(t, RowsOf(&definition.Outlet{}, nil))
	d.Settings = wanted(true)
	_, err = RowsOf(d, func() (destination.Destination, error) { return nil, nil }).Fit(t.Context(), loans)
	require.ErrorContains(t, err, "lake has nothing that rows could be fitted to")
}
