package service

import (
	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/netguard"
	"rillmark/internal/postgres"
)

// engineKind is an engine that this version has: its name, an engine of no source whose
// interfaces say what it offers, and how one is made of a record whose secrets are open.
type engineKind struct {
	name  change.Engine
	title string
	bare  engine.Engine
	make  func(*Service, *catalog.Source) (engine.Engine, error)
}

// engineKinds is the one list of engines.
var engineKinds = []engineKind{
	{change.PostgreSQL, "PostgreSQL", (*postgres.Config)(nil), newPostgreSQL},
}

// EngineKind is what an engine is and offers.
type EngineKind struct {
	Name         change.Engine       `json:"name" doc:"As a source's definition names it"`
	Title        string              `json:"title"`
	Capabilities []engine.Capability `json:"capabilities" doc:"scripts: an administrator's scripts; trial: following without storing; condition: reloads of the rows that a condition chooses; retained_log: how much log the source keeps for us"`
}

// Engines are the engines that this version has.
func (s *Service) Engines() []EngineKind {
	all := make([]EngineKind, len(engineKinds))
	for i, k := range engineKinds {
		all[i] = EngineKind{k.name, k.title, engine.Capabilities(k.bare)}
	}
	return all
}

// buildEngine makes a source's engine of its record, with its secrets opened.
func (s *Service) buildEngine(record *catalog.Source) (engine.Engine, error) {
	opened := *record
	d := &opened.Definition
	for _, one := range []any{&d.Connection, &d.HashKey, &d.Slot, &d.Publication} {
		if err := s.Catalog.Keeper.OpenAll(one); err != nil {
			return nil, &engine.Fault{Code: "secret", Message: "what the source's definition refers to cannot be read", Cause: err}
		}
	}
	for _, k := range engineKinds {
		if string(k.name) == d.Engine {
			return k.make(s, &opened)
		}
	}
	return nil, &engine.Fault{Code: "not-supported", Message: "this version has no engine " + d.Engine, Fix: "`rillmark source engines` lists those that it has"}
}

func newPostgreSQL(s *Service, record *catalog.Source) (engine.Engine, error) {
	d := &record.Definition
	connection, err := postgres.Connection(d.Connection.Host, d.Connection.Port, d.Connection.Database, d.Connection.User, d.Connection.Password, d.Connection.TLS, d.Connection.Root)
	if err != nil {
		return nil, err
	}
	config := &postgres.Config{Source: record.Name, Connection: connection, Load: d.Loads(), LoadOnly: d.Mode == "load-only", Slot: d.Slot, Publication: d.Publication,
		HashKey: []byte(d.HashKey), Dial: s.guard.Dialer(netguard.KindPostgreSQL), LoadSessions: d.LoadSessions, LargestValue: d.LargestValue,
		HeartbeatEvery: s.Config.Source.HeartbeatEvery, RefreshEvery: s.Config.Source.RefreshEvery,
		SilenceAfter: s.Config.Source.SilenceAfter, ChunkBytes: s.Config.Source.ChunkBytes}
	if config.Rules, err = d.Rules(); err != nil {
		return nil, err
	}
	if d.FromPosition != "" {
		if config.From, err = postgres.ParseLSN(d.FromPosition); err != nil {
			return nil, err
		}
	}
	return config, nil
}
