package service

import (
	"rillmark/internal/capture/rules"
	"rillmark/internal/catalog"
	"rillmark/internal/engine"
	"rillmark/internal/engine/engines"
)

// build makes a source's engine of its record, with its secrets opened.
func (s *Sources) build(record *catalog.Source) (engine.Engine, error) {
	d := record.Definition.Clone()
	kind := engines.Named(d.Engine)
	if kind == nil {
		return nil, &engine.Fault{Code: "not-supported", Message: "this version has no engine " + d.Engine, Fix: "`rillmark source engines` lists those that it has"}
	}
	if err := s.Catalog.Keeper.OpenAll("source/"+record.Name, &d, d.Connection.Connection, &d.HashKey); err != nil {
		return nil, &engine.Fault{Code: "secret", Message: "what the source's definition refers to cannot be read", Cause: err}
	}
	chosen, err := d.Rules()
	if err != nil {
		return nil, err
	}
	origins, err := rules.ParseOrigins(d.LeaveOutOrigins)
	if err != nil {
		return nil, err
	}
	c := s.Config.Source
	return kind.Make(engine.Environment{Dial: s.Guard.Dialer(d.Engine), HeartbeatEvery: c.HeartbeatEvery, RefreshEvery: c.RefreshEvery, SilenceAfter: c.SilenceAfter, ChunkBytes: c.ChunkBytes},
		engine.Definition{Source: record.Name, Connection: d.Connection.Connection, Rules: chosen, HashKey: []byte(d.HashKey), Load: d.Loads(), LoadOnly: d.Mode == "load-only",
			From: d.FromPosition, LoadSessions: d.LoadSessions, LargestValue: d.LargestValue, LeaveOut: origins})
}
