package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"rillmark/internal/catalog"
	"rillmark/internal/definition"
	"rillmark/internal/service/base"
)

// All lists all shared forms.
func (s *Forms) All(ctx context.Context) ([]*catalog.Form, error) {
	all, err := s.Catalog.Forms(ctx)
	return all, base.Answer(err, "form", "")
}

// Get is one of them.
func (s *Forms) Get(ctx context.Context, name string) (*catalog.Form, error) {
	record, err := s.Catalog.Form(ctx, name)
	return record, base.Answer(err, "form", name)
}

// Add stores a form that outlets can use.
func (s *Forms) Add(ctx context.Context, name string, d definition.Form) error {
	if err := definition.CheckName("a form", name); err != nil {
		return err
	}
	if err := d.Validate(); err != nil {
		return err
	}
	if err := s.Catalog.AddForm(ctx, name, d); err != nil {
		return base.Answer(err, "form", name)
	}
	s.Note(ctx, "info", "form/"+name, "added", "form added")
	return nil
}

// Edit stores a new definition in place of version, if it fits every outlet that uses the form;
// they go on with it.
func (s *Forms) Edit(ctx context.Context, name string, version int64, d definition.Form) error {
	if err := d.Validate(); err != nil {
		return err
	}
	old, err := s.Catalog.Form(ctx, name)
	if err != nil {
		return base.Answer(err, "form", name)
	}
	outlets, err := s.Catalog.Outlets(ctx)
	if err != nil {
		return base.Answer(err, "form", name)
	}
	for _, one := range outlets {
		if !slices.Contains(one.Definition.Forms, name) {
			continue
		}
		if err := s.fits(ctx, &one.Definition, name, &d); err != nil {
			return inOutlet(one.Name, err)
		}
	}
	if err := s.Catalog.EditForm(ctx, name, version, d); err != nil {
		return base.Answer(err, "form", name)
	}
	if now, err := s.Catalog.Form(ctx, name); err == nil {
		s.NoteEdited(ctx, "form/"+name, now.Version, old.Definition, now.Definition)
	}
	return base.Answer(s.running.Reconcile(), "form", name)
}

// fits reports why an outlet cannot be with another definition of one of its forms.
func (s *Forms) fits(ctx context.Context, d *definition.Outlet, name string, form *definition.Form) error {
	formed, err := d.WithForms(func(other string) (*definition.Form, error) {
		if other == name {
			return form, nil
		}
		return s.NamedForm(ctx, other)
	})
	if err != nil {
		return err
	}
	return s.outlets.columnsFit(ctx, formed)
}

// inOutlet says at which outlet a form does not fit.
func inOutlet(name string, err error) error {
	var invalid *definition.Invalid
	if !errors.As(err, &invalid) {
		return err
	}
	return &definition.Invalid{Location: invalid.Location, Message: fmt.Sprintf("outlet %s, which uses the form: %s", name, invalid.Message)}
}

// Remove removes a form that no outlet uses.
func (s *Forms) Remove(ctx context.Context, name string) error {
	if err := s.Catalog.RemoveForm(ctx, name); err != nil {
		return base.Answer(err, "form", name)
	}
	s.Note(ctx, "info", "form/"+name, "removed", "form removed")
	return nil
}
