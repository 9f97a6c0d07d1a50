package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
	"rillmark/internal/settings"
)

// Add stores a destination.
func (s *Destinations) Add(ctx context.Context, name string, d definition.Destination) error {
	if err := definition.CheckName("a destination", name); err != nil {
		return err
	}
	if err := s.valid(&d); err != nil {
		return err
	}
	if err := s.Catalog.AddDestination(ctx, name, d); err != nil {
		return base.Answer(err, "destination", name)
	}
	s.Note(ctx, "info", "destination/"+name, "added", "destination added")
	return nil
}

// Edit stores a new definition in place of version; outlets that
// deliver to it go on with it.
func (s *Destinations) Edit(ctx context.Context, name string, version int64, d definition.Destination) error {
	if err := s.valid(&d); err != nil {
		return err
	}
	old, err := s.Catalog.Destination(ctx, name)
	if err != nil {
		return base.Answer(err, "destination", name)
	}
	if old.Definition.Kind != d.Kind {
		return &definition.Invalid{Location: "kind", Message: "a destination stays of its kind: add another one instead"}
	}
	if err := s.Catalog.EditDestination(ctx, name, version, d); err != nil {
		return base.Answer(err, "destination", name)
	}
	if now, err := s.Catalog.Destination(ctx, name); err == nil {
		s.NoteEdited(ctx, "destination/"+name, now.Version, old.Definition, now.Definition)
	}
	var again sync.WaitGroup
	for _, one := range s.running.Outlets() {
		if one.Record.Definition.Destination == name {
			again.Go(func() {
				if goOn, err := s.running.OutletStill(one.Record.Name); err != nil {
					s.RunLog.Write("error", "outlet/"+one.Record.Name, "stuck", err.Error()) // it has the new one once it has ended
				} else {
					goOn()
				}
			})
		}
	}
	again.Wait()
	return nil
}

// Remove removes a destination that no outlet uses.
func (s *Destinations) Remove(ctx context.Context, name string) error {
	if err := s.Catalog.RemoveDestination(ctx, name); err != nil {
		return base.Answer(err, "destination", name)
	}
	s.Note(ctx, "info", "destination/"+name, "removed", "destination removed")
	return nil
}

// environment is what destinations of a kind are given.
func (s *Destinations) environment(kind string) (destination.Environment, error) {
	mode, err := s.Config.FileMode()
	return destination.Environment{Dial: s.Guard.Dialer(kind), FilesRoot: s.Config.FilesRoot, FileMode: mode,
		Allowed: func(address string) error { return s.Guard.Check(kind, "tcp", address) }}, err
}

func (s *Destinations) valid(d *definition.Destination) error {
	if err := d.Validate(); err != nil {
		return err
	}
	env, err := s.environment(d.Kind)
	if err != nil {
		return err
	}
	return d.CheckHere(env)
}

// Check checks a definition, or a stored one where d is nil.
func (s *Destinations) Check(ctx context.Context, name string, d *definition.Destination) ([]change.Check, error) {
	if d == nil {
		record, err := s.Catalog.Destination(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "destination", name)
		}
		d = &record.Definition
	} else if err := s.Catalog.UnsealDestination(ctx, name, d); err != nil {
		return nil, base.Answer(err, "destination", name)
	}
	if err := s.valid(d); err != nil {
		return nil, err
	}
	any := &definition.Outlet{Destination: name}
	if err := any.Validate(); err != nil {
		return nil, err
	}
	if err := any.ValidateFor(d); err != nil {
		return nil, err
	}
	to, err := s.build(name, *d, any, nil)
	if err != nil {
		return nil, err
	}
	s.Note(ctx, "info", "destination/"+name, "checked", "checked: "+d.Kind+" "+d.Where())
	return s.Concealed(to.Check(ctx)), nil
}

// buildFor makes an outlet's destination of both records.
func (s *Destinations) buildFor(d definition.Outlet, topics []string) (destination.Destination, error) {
	ctx, cancel := context.WithTimeout(s.Work, 10*time.Second)
	defer cancel()
	to, err := s.Catalog.Destination(ctx, d.Destination)
	if err != nil {
		return nil, err
	}
	return s.build(to.Name, to.Definition, &d, topics)
}

// build makes a destination of its definition, with its secrets opened, for an outlet
// that fits it.
func (s *Destinations) build(name string, d definition.Destination, o *definition.Outlet, topics []string) (destination.Destination, error) {
	d = d.Clone()
	if err := s.Catalog.Keeper.OpenAll("destination/"+name, &d, d.Settings); err != nil {
		return nil, &engine.Fault{Code: "secret", Message: "what the destination's definition refers to cannot be read", Cause: err}
	}
	if err := d.Validate(); err != nil { // now that references are what they name
		var wrong *settings.Invalid
		if errors.As(err, &wrong) {
			return nil, &engine.Fault{Code: "secret", Message: "what the reference in " + wrong.Location + " stands for cannot be used there", Fix: "see what the variable or the file holds: it is not shown"}
		}
		return nil, err
	}
	env, err := s.environment(d.Kind)
	if err != nil {
		return nil, err
	}
	return kinds.Named(d.Kind).Make(env, destination.Definition{Settings: d.Settings, Outlet: o.Settings, Format: o.Format, Topics: topics})
}
