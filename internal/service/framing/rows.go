package framing

import (
	"context"
	"fmt"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
)

// Rows fits rows of format parquet to what their destination has. It may be used by several
// goroutines.
type Rows struct {
	outlet *definition.Outlet
	to     func() (destination.Destination, error)
	fits   fits[encode.RowForm]
}

// FitsRows reports whether rows of an outlet are fitted to what its destination has.
func FitsRows(d *definition.Outlet) bool {
	wants, can := d.Settings.(destination.RowsFitted)
	return can && wants.FitsRows()
}

// RowsOf is for a definition that has been validated; nil where rows are fitted to nothing. to makes
// its destination, each time that it is looked at.
func RowsOf(d *definition.Outlet, to func() (destination.Destination, error)) *Rows {
	if !FitsRows(d) {
		return nil
	}
	r := &Rows{outlet: d, to: to}
	r.fits.look = r.look
	return r
}

// Fit fits rows of a version.
func (r *Rows) Fit(ctx context.Context, s *change.Schema) (encode.RowForm, error) {
	one, err := r.fits.get(ctx, s)
	if err != nil {
		return nil, err
	}
	return one.form, one.refusal(r.outlet, "model", s)
}

// Newest is what rows of a version's table are fitted to, as it is now, in the format's own notation.
func (r *Rows) Newest(ctx context.Context, s *change.Schema) (string, error) {
	one, err := r.look(ctx, s)
	if err != nil {
		return "", err
	}
	return one.text, nil
}

// Checks are what a person has to know of the fit of some versions.
func (r *Rows) Checks(ctx context.Context, versions []*change.Schema) []change.Check {
	return r.fits.checks(ctx, versions)
}

// Misfits says what of a version's rows does not fit, and to what; empty where all does.
func (r *Rows) Misfits(ctx context.Context, s *change.Schema) (string, string, error) {
	one, err := r.look(ctx, s)
	if err != nil {
		return "", "", err
	}
	return encode.Misfits(one.says), one.to, nil
}

func (r *Rows) look(ctx context.Context, s *change.Schema) (*fit[encode.RowForm], error) {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	to, err := r.to()
	if err != nil {
		return nil, err
	}
	fitter, can := to.(destination.RowFitter)
	if !can {
		return nil, fmt.Errorf("%s has nothing that rows could be fitted to", r.outlet.Destination)
	}
	found, err := fitter.FitRow(ctx, s)
	if err != nil {
		return nil, err
	}
	one := &fit[encode.RowForm]{form: found.Form, fits: found.Form != nil, to: found.To, newest: found.To, text: found.Text, says: found.Notes}
	if one.fits {
		one.tellsDeletes(r.outlet, found.Form.Takes("_operation"))
	}
	return one, nil
}
