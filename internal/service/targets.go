package service

import (
	"context"
	"slices"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// TargetTables looks at the tables of a database that a definition, or a stored outlet where d is
// nil, would write; nothing of other kinds of destinations.
func (s *Outlets) TargetTables(ctx context.Context, name string, d *definition.Outlet) ([]change.Check, error) {
	if d == nil {
		record, err := s.Catalog.Outlet(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "outlet", name)
		}
		d = &record.Definition
	}
	if err := d.Validate(); err != nil || d.Destination == "" {
		return nil, err
	}
	if _, err := s.fits(ctx, d); err != nil {
		return nil, err
	}
	to, err := s.destinations.buildFor(*d, nil)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	return s.checkTables(ctx, name, d, to)
}

// checkTables looks at the tables of a destination that has some.
func (s *Outlets) checkTables(ctx context.Context, name string, d *definition.Outlet, to destination.Destination) ([]change.Check, error) {
	tables, has := to.(destination.TableChecker)
	if !has {
		return nil, nil
	}
	versions, err := s.versionsThere(ctx, d)
	if err != nil {
		return nil, err
	}
	rows, err := s.Forms(ctx, d)
	if err != nil {
		return nil, err
	}
	if versions, err = base.Formed(rows, versions); err != nil {
		return nil, err
	}
	return tables.CheckTables(ctx, s.standsAt(ctx, name), versions), nil
}

// TargetScripts are what an administrator runs on an outlet's database.
type TargetScripts struct {
	Setup    string `json:"setup" doc:"Gives the login the least rights that the outlet needs"`
	Teardown string `json:"teardown" doc:"Takes away what was made for the outlet; its tables stay"`
}

// Scripts are those of a definition, or of a stored outlet where d is nil. The database is not
// reached.
func (s *Outlets) Scripts(ctx context.Context, name string, d *definition.Outlet) (*TargetScripts, error) {
	if d == nil {
		record, err := s.Catalog.Outlet(ctx, name)
		if err != nil {
			return nil, base.Answer(err, "outlet", name)
		}
		d = &record.Definition
	}
	if err := d.Validate(); err != nil {
		return nil, err
	}
	unscripted := &engine.Fault{Code: base.CodeInvalid, Message: "the outlet's destination is no database, which a script could prepare"}
	if d.Destination == "" {
		return nil, unscripted
	}
	if _, err := s.fits(ctx, d); err != nil {
		return nil, err
	}
	to, err := s.destinations.buildFor(*d, nil)
	if err != nil {
		return nil, base.Answer(err, "destination", d.Destination)
	}
	scripter, can := to.(destination.Scripter)
	if !can {
		return nil, unscripted
	}
	versions, err := s.versionsThere(ctx, d)
	if err != nil {
		return nil, err
	}
	tables := make([]string, len(versions))
	for i, v := range versions {
		tables[i] = v.Table
	}
	return &TargetScripts{scripter.SetupSQL(name, tables), scripter.TeardownSQL(name, tables)}, nil
}

// noToken is no outlet's.
const noToken = "00000000-0000-0000-0000-000000000000"

// standsAt is an outlet as its destination knows it; one that is not stored has delivered
// nothing.
func (s *Outlets) standsAt(ctx context.Context, name string) destination.Outlet {
	o := destination.Outlet{Name: name, Token: noToken, Log: func(string, string, string) {}}
	record, err := s.Catalog.Outlet(ctx, name)
	if err != nil {
		return o
	}
	if offset, err := s.Catalog.Offset(ctx, record.ID); err == nil {
		o.ID, o.Token, o.Run, o.Committed = record.ID, offset.Token, offset.Run, offset.Committed
	}
	return o
}

// versionsThere are the newest schema versions of an outlet's tables, without those that have
// gone from the source.
func (s *Outlets) versionsThere(ctx context.Context, d *definition.Outlet) ([]*change.Schema, error) {
	versions, err := s.NewestVersions(ctx, d)
	if err != nil {
		return nil, err
	}
	source, err := s.Catalog.Source(ctx, d.Source)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	phases, err := s.Catalog.TablePhases(ctx, source.ID)
	if err != nil {
		return nil, base.Answer(err, "source", d.Source)
	}
	return slices.DeleteFunc(versions, func(v *change.Schema) bool {
		phase, known := phases[v.Table]
		return !known || engine.Away(phase)
	}), nil
}
