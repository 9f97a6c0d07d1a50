package base

import (
	"context"
	"errors"
	"fmt"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/shape"
)

// Forms are an outlet's forms of rows, with the key of hashed values; nil where rows go out
// as they are.
func (s *Common) Forms(ctx context.Context, d *definition.Outlet) (*shape.Rows, error) {
	d, err := s.WithForms(ctx, d)
	if err != nil {
		return nil, err
	}
	rows, err := d.RowForms()
	if err != nil {
		return nil, err
	}
	return rows, s.keyed(ctx, d, rows)
}

// WithForms is an outlet with the shared forms that it names in their places.
func (s *Common) WithForms(ctx context.Context, d *definition.Outlet) (*definition.Outlet, error) {
	return d.WithForms(func(name string) (*definition.Form, error) { return s.NamedForm(ctx, name) })
}

// NamedForm is a shared form that an outlet names. One that is not there is a fault of the
// outlet's definition.
func (s *Common) NamedForm(ctx context.Context, name string) (*definition.Form, error) {
	record, err := s.Catalog.Form(ctx, name)
	switch answer := Answer(err, "form", name); {
	case errors.Is(err, catalog.ErrNotFound):
		return nil, &definition.Invalid{Location: "forms", Message: answer.Error()}
	case err != nil:
		return nil, answer
	}
	return &record.Definition, nil
}

// keyed gives forms the key of hashed values, where they hash.
func (s *Common) keyed(ctx context.Context, d *definition.Outlet, rows *shape.Rows) error {
	if !d.Hashes() {
		return nil
	}
	record, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return Answer(err, "source", d.Source)
	}
	source := record.Definition.Clone()
	if err := s.Catalog.Keeper.OpenAll("source/"+record.Name, hashKey{&source}, &source.HashKey); err != nil {
		return &engine.Fault{Code: "secret", Message: "the source's hash_key cannot be read", Cause: err}
	}
	rows.HashKey = []byte(source.HashKey)
	return nil
}

// Shape is how an outlet's events are put into messages.
func (s *Common) Shape(ctx context.Context, d *definition.Outlet) (encode.Shape, error) {
	d, err := s.WithForms(ctx, d)
	if err != nil {
		return encode.Shape{}, err
	}
	shaped, err := d.Shape(s.Config.PublicURL)
	if err != nil {
		return shaped, err
	}
	return shaped, s.keyed(ctx, d, shaped.Rows)
}

// UnfitForm is the answer to a definition whose form of rows does not fit a table.
func UnfitForm(err error) error {
	unfit := (*shape.Unfit)(nil)
	if !errors.As(err, &unfit) {
		return err
	}
	at := unfit.At
	if unfit.New >= 0 {
		at += fmt.Sprintf(".new[%d].is", unfit.New)
	}
	return &definition.Invalid{Location: at, Message: err.Error()}
}

// Formed are versions as they go out. One that does not fit is an error at the field rows.
func Formed(rows *shape.Rows, versions []*change.Schema) ([]*change.Schema, error) {
	if rows == nil {
		return versions, nil
	}
	formed := make([]*change.Schema, len(versions))
	for i, v := range versions {
		var err error
		if formed[i], err = rows.Schema(v); err != nil {
			return nil, UnfitForm(err)
		}
	}
	return formed, nil
}

// hashKey is the one secret of a source that forms need: the others may not be there.
type hashKey struct{ *definition.Source }

// EachSecret implements the catalog's view of secrets.
func (h hashKey) EachSecret(change func(name, secret string) string) {
	h.Source.EachSecret(func(name, secret string) string {
		if name != "hash_key" {
			return secret
		}
		return change(name, secret)
	})
}
