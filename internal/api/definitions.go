package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/service"
)

// Record is a definition with what is kept beside it.
type Record[D any] struct {
	Name       string    `json:"name"`
	Version    int64     `json:"version" doc:"Give it back as If-Match when changing the definition"`
	Running    bool      `json:"running" doc:"Whether it is to run"`
	Reason     string    `json:"reason,omitempty"`
	CreatedAt  time.Time `json:"created_at"`
	UpdatedAt  time.Time `json:"updated_at"`
	Where      string    `json:"where,omitempty" doc:"Of a source or a destination: where it is, in a few words"`
	Definition D         `json:"definition"`
	Warnings   []string  `json:"warnings,omitempty" doc:"In the answer to storing it: what somebody should know"`
	// AddedTables are those of [service.Outlets.AddedTables].
	AddedTables []string `json:"added_tables,omitempty" doc:"In the answer to changing an outlet: tables that have come to it. What they have had so far comes by a load for this outlet alone"`
}

func recordOf[D any](r *catalog.Record[D]) Record[D] {
	return Record[D]{Name: r.Name, Version: r.Version, Running: r.Running, Reason: r.Reason, CreatedAt: r.CreatedAt, UpdatedAt: r.UpdatedAt, Definition: r.Definition}
}

func sourceRecord(r *catalog.Source) Record[definition.Source] {
	shown := recordOf(r)
	shown.Definition = shown.Definition.Clone()
	shown.Definition.EachSecret(func(_, secret string) string { return catalog.Show(secret) })
	if c := shown.Definition.Connection.Connection; c != nil {
		shown.Where = c.Where()
	}
	return shown
}

func destinationRecord(r *catalog.Destination) Record[definition.Destination] {
	shown := recordOf(r)
	shown.Definition = shown.Definition.Clone()
	shown.Definition.EachSecret(func(_, secret string) string { return catalog.Show(secret) })
	shown.Where = shown.Definition.Where()
	return shown
}

type (
	body[T any] struct{ Body T }
	// Named is exported because huma fills embedded structs only then.
	Named struct {
		Name string `path:"name"`
	}
	tagged[T any] struct {
		ETag string `header:"ETag"`
		Body T
	}
	put[D any] struct {
		Named
		IfMatch string `header:"If-Match" doc:"The version that the change was made to; needed where the name exists"`
		Body    D
	}
	checkInput[D any] struct {
		Named
		Body D
	}
	reasonInput struct {
		Named
		Body *struct {
			Reason string `json:"reason,omitempty" maxLength:"500"`
		} `required:"false"`
	}
	items[T any] struct {
		Items []T `json:"items"`
	}
)

func (r *reasonInput) reason() string {
	if r.Body == nil {
		return ""
	}
	return r.Body.Reason
}

func operation(method, path, id, summary, tag string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: maxBody}
}

func etag(version int64) string { return `"` + strconv.FormatInt(version, 10) + `"` }

// version reads If-Match, with or without its quotes.
func (p *put[D]) version() (int64, error) {
	text := strings.Trim(strings.TrimPrefix(p.IfMatch, "W/"), `"`)
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		fault := newProblem(http.StatusPreconditionRequired, "version-required", "a change names the version it changes, in the header If-Match")
		fault.Fix = "read the definition and send its version along"
		return 0, fault
	}
	return n, nil
}

// putRoutes are the two ways of storing a definition: a new one, and another
// version of one.
func putRoutes[D any](s *Server, plural, noun string, add func(context.Context, string, D) error, edit func(context.Context, string, int64, D) error, get func(context.Context, string) (Record[D], error), advise func(ctx context.Context, name string, begins bool) ([]string, error), added func(ctx context.Context, before, after D) ([]string, error)) {
	advised := func(ctx context.Context, name string, begins bool) (*tagged[Record[D]], error) {
		r, err := get(ctx, name)
		if err == nil && advise != nil {
			r.Warnings, err = advise(ctx, name, begins)
		}
		return &tagged[Record[D]]{etag(r.Version), r}, problem(err)
	}
	title := strings.ToUpper(noun[:1]) + noun[1:]
	created := operation(http.MethodPost, "/v1/"+plural+"/{name}", "add"+title, "Add a "+noun, plural)
	created.DefaultStatus = http.StatusCreated
	huma.Register(s.api, created, func(ctx context.Context, in *checkInput[D]) (*tagged[Record[D]], error) {
		if err := add(ctx, in.Name, in.Body); err != nil {
			return nil, problem(err)
		}
		return advised(ctx, in.Name, true)
	})
	huma.Register(s.api, operation(http.MethodPut, "/v1/"+plural+"/{name}", "edit"+title, "Change a "+noun, plural), func(ctx context.Context, in *put[D]) (*tagged[Record[D]], error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		before, err := get(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		if err := edit(ctx, in.Name, version, in.Body); err != nil {
			return nil, problem(err)
		}
		answer, err := advised(ctx, in.Name, false)
		if err == nil && added != nil {
			answer.Body.AddedTables, err = added(ctx, before.Definition, answer.Body.Definition)
			err = problem(err)
		}
		return answer, err
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/"+plural+"/{name}", "get"+title, "One "+noun, plural), func(ctx context.Context, in *Named) (*tagged[Record[D]], error) {
		r, err := get(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		return &tagged[Record[D]]{etag(r.Version), r}, nil
	})
}

func (s *Server) sourceRoutes() {
	get := func(ctx context.Context, name string) (Record[definition.Source], error) {
		r, err := s.service.Sources.Get(ctx, name)
		if err != nil {
			return Record[definition.Source]{}, err
		}
		return sourceRecord(r), nil
	}
	putRoutes(s, "sources", "source", s.service.Sources.Add, s.service.Sources.Edit, get, nil, nil)
	huma.Register(s.api, operation(http.MethodGet, "/v1/sources", "listSources", "All sources", "sources"), func(ctx context.Context, _ *struct{}) (*body[items[Record[definition.Source]]], error) {
		all, err := s.service.Sources.All(ctx)
		if err != nil {
			return nil, problem(err)
		}
		out := items[Record[definition.Source]]{Items: make([]Record[definition.Source], len(all))}
		for i, r := range all {
			out.Items[i] = sourceRecord(r)
		}
		return &body[items[Record[definition.Source]]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/engines", "listEngines", "The kinds of databases that can be sources, with what each offers and a JSON Schema of its connection", "sources"), func(context.Context, *struct{}) (*body[items[Engine]], error) {
		return &body[items[Engine]]{items[Engine]{s.engines}}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/check", "checkSource", "Check a definition before it is stored, or a stored one without a body", "sources"), func(ctx context.Context, in *struct {
		Named
		Body *definition.Source `required:"false"`
	}) (*body[items[change.Check]], error) {
		checks, err := s.service.Sources.Check(ctx, in.Name, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[change.Check]]{items[change.Check]{checks}}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/scripts", "writeSourceScripts", "The scripts for an administrator, for a definition before it is stored, or for a stored one without a body", "sources"), func(ctx context.Context, in *struct {
		Named
		Body *definition.Source `required:"false"`
	}) (*body[service.Scripts], error) {
		scripts, err := s.service.Sources.Scripts(ctx, in.Name, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.Scripts]{*scripts}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/scripts/run", "runSourceScript", "Run one of the scripts on the source's database, whole or not at all", "sources"), func(ctx context.Context, in *struct {
		Named
		Body service.ScriptRun
	}) (*struct{}, error) {
		return nil, problem(s.service.Sources.RunScript(ctx, in.Name, in.Body))
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/sources/{name}/tables", "listSourceTables", "The tables of a source's database", "sources"), func(ctx context.Context, in *Named) (*body[items[engine.Table]], error) {
		tables, err := s.service.Sources.Tables(ctx, in.Name, nil)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[engine.Table]]{items[engine.Table]{tables}}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/tables", "listTablesOf", "The tables of a definition's database, before it is stored", "sources"), func(ctx context.Context, in *struct {
		Named
		Body definition.Source
	}) (*body[items[engine.Table]], error) {
		tables, err := s.service.Sources.Tables(ctx, in.Name, &in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[engine.Table]]{items[engine.Table]{tables}}, nil
	})
	for _, running := range []bool{true, false} {
		verb := map[bool]string{true: "resume", false: "pause"}[running]
		summary := map[bool]string{true: "Start or resume capture", false: "Pause capture"}[running]
		huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/"+verb, verb+"Source", summary, "sources"), func(ctx context.Context, in *reasonInput) (*struct{}, error) {
			return nil, problem(s.service.Sources.SetRunning(ctx, in.Name, running, in.reason()))
		})
	}
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/run", "runSourceOnce", "Let a paused source load what is to be loaded and follow what was committed by now, and pause it then", "sources"), func(ctx context.Context, in *Named) (*body[service.SourceRun], error) {
		begun, err := s.service.Sources.RunOnce(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.SourceRun]{*begun}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/tables/{table}/reload", "reloadTable", "Read a table's rows anew, or a part of them", "sources"), func(ctx context.Context, in *struct {
		Named
		Table string `path:"table"`
		Body  *struct {
			Where string `json:"where,omitempty" doc:"A condition in the source's own SQL; without it, all rows" maxLength:"4000"`
		} `required:"false"`
	}) (*struct{}, error) {
		where := ""
		if in.Body != nil {
			where = in.Body.Where
		}
		return nil, problem(s.service.Sources.Reload(ctx, in.Name, in.Table, where))
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/reset", "resetSource", "Begin capture anew where its stream cannot go on: a new slot, a load of all tables, and a new generation of the journal, whose old events stay", "sources"), func(ctx context.Context, in *reasonInput) (*body[service.SourceReset], error) {
		reset, err := s.service.Sources.Reset(ctx, in.Name, in.reason())
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.SourceReset]{*reset}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/sources/{name}", "removeSource", "Remove a source with its journal", "sources"), func(ctx context.Context, in *struct {
		Named
		Forget bool `query:"forget" doc:"Leave what was made on the database there, for one that is gone"`
	}) (*body[service.Removal], error) {
		removal, err := s.service.Sources.Remove(ctx, in.Name, in.Forget)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.Removal]{*removal}, nil
	})
}

func (s *Server) destinationRoutes() {
	get := func(ctx context.Context, name string) (Record[definition.Destination], error) {
		r, err := s.service.Destinations.Get(ctx, name)
		if err != nil {
			return Record[definition.Destination]{}, err
		}
		return destinationRecord(r), nil
	}
	putRoutes(s, "destinations", "destination", s.service.Destinations.Add, s.service.Destinations.Edit, get, nil, nil)
	huma.Register(s.api, operation(http.MethodGet, "/v1/destinations", "listDestinations", "All destinations", "destinations"), func(ctx context.Context, _ *struct{}) (*body[items[Record[definition.Destination]]], error) {
		all, err := s.service.Destinations.All(ctx)
		if err != nil {
			return nil, problem(err)
		}
		out := items[Record[definition.Destination]]{Items: make([]Record[definition.Destination], len(all))}
		for i, r := range all {
			out.Items[i] = destinationRecord(r)
		}
		return &body[items[Record[definition.Destination]]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/kinds", "listKinds", "The kinds of destinations, with JSON Schemas of what is defined of each", "destinations"), func(context.Context, *struct{}) (*body[items[Kind]], error) {
		return &body[items[Kind]]{items[Kind]{s.kinds}}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/destinations/{name}/check", "checkDestination", "Check a definition before it is stored, or a stored one without a body", "destinations"), func(ctx context.Context, in *struct {
		Named
		Body *definition.Destination `required:"false"`
	}) (*body[items[change.Check]], error) {
		checks, err := s.service.Destinations.Check(ctx, in.Name, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[change.Check]]{items[change.Check]{checks}}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/destinations/{name}", "removeDestination", "Remove a destination that no outlet uses", "destinations"), func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, problem(s.service.Destinations.Remove(ctx, in.Name))
	})
}

func (s *Server) formRoutes() {
	get := func(ctx context.Context, name string) (Record[definition.Form], error) {
		r, err := s.service.Forms.Get(ctx, name)
		if err != nil {
			return Record[definition.Form]{}, err
		}
		return recordOf(r), nil
	}
	putRoutes(s, "forms", "form", s.service.Forms.Add, s.service.Forms.Edit, get, nil, nil)
	huma.Register(s.api, operation(http.MethodGet, "/v1/forms", "listForms", "All forms of rows that outlets share", "forms"), func(ctx context.Context, _ *struct{}) (*body[items[Record[definition.Form]]], error) {
		all, err := s.service.Forms.All(ctx)
		if err != nil {
			return nil, problem(err)
		}
		out := items[Record[definition.Form]]{Items: make([]Record[definition.Form], len(all))}
		for i, r := range all {
			out.Items[i] = recordOf(r)
		}
		return &body[items[Record[definition.Form]]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/forms/{name}", "removeForm", "Remove a form that no outlet uses", "forms"), func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, problem(s.service.Forms.Remove(ctx, in.Name))
	})
}

func (s *Server) outletRoutes() {
	get := func(ctx context.Context, name string) (Record[definition.Outlet], error) {
		r, err := s.service.Outlets.Get(ctx, name)
		if err != nil {
			return Record[definition.Outlet]{}, err
		}
		return recordOf(r), nil
	}
	putRoutes(s, "outlets", "outlet", s.service.Outlets.Add, s.service.Outlets.Edit, get, s.service.Outlets.Advice, s.service.Outlets.AddedTables)
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets", "listOutlets", "All outlets", "outlets"), func(ctx context.Context, _ *struct{}) (*body[items[Record[definition.Outlet]]], error) {
		all, err := s.service.Outlets.All(ctx)
		if err != nil {
			return nil, problem(err)
		}
		out := items[Record[definition.Outlet]]{Items: make([]Record[definition.Outlet], len(all))}
		for i, r := range all {
			out.Items[i] = recordOf(r)
		}
		return &body[items[Record[definition.Outlet]]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/pause", "pauseOutlet", "Pause delivery", "outlets"), func(ctx context.Context, in *reasonInput) (*struct{}, error) {
		return nil, problem(s.service.Outlets.SetRunning(ctx, in.Name, false, in.reason(), 0))
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/resume", "resumeOutlet", "Resume delivery", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body *struct {
			Reason  string `json:"reason,omitempty" maxLength:"500"`
			LetPass int64  `json:"let_pass,omitempty" minimum:"0" doc:"Of an outlet that holds before changes of tables: those up to this offset may pass"`
		} `required:"false"`
	}) (*struct{}, error) {
		if in.Body == nil {
			return nil, problem(s.service.Outlets.SetRunning(ctx, in.Name, true, "", 0))
		}
		return nil, problem(s.service.Outlets.SetRunning(ctx, in.Name, true, in.Body.Reason, in.Body.LetPass))
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/load", "loadOutlet", "Have the source's rows read again for this outlet alone, in order with all else; no other outlet notices", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body *service.LoadPlan `required:"false"`
	}) (*body[service.LoadAsked], error) {
		var plan service.LoadPlan
		if in.Body != nil {
			plan = *in.Body
		}
		asked, err := s.service.Outlets.Load(ctx, in.Name, plan)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.LoadAsked]{*asked}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/rewind", "rewindOutlet", "Set an outlet back, or forward", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body struct {
			To     string `json:"to" minLength:"1" maxLength:"80" doc:"beginning, now, the offset that is delivered next, time:2026-11-23T09:00:00Z, or mark:NAME"`
			Until  string `json:"until,omitempty" maxLength:"80" doc:"The place before which delivery ends, as in to; a paused outlet runs up to there. Without an end where it is absent"`
			Return bool   `json:"return,omitempty" doc:"With until: go back then to the offset that is committed now, and on from there if the outlet runs; else it pauses at the end"`
			DryRun bool   `json:"dry_run,omitempty" doc:"Only say what it would do"`
		}
	}) (*body[service.Rewind], error) {
		plan, err := s.service.Outlets.Rewind(ctx, in.Name, service.RewindPlan{To: in.Body.To, Until: in.Body.Until, Return: in.Body.Return, DryRun: in.Body.DryRun})
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.Rewind]{*plan}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/outlets/{name}", "removeOutlet", "Remove an outlet with its offset; what it delivered stays", "outlets"), func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, problem(s.service.Outlets.Remove(ctx, in.Name))
	})
}
