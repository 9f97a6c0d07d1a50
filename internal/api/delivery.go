package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"sort"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/outlet"
	"rillmark/internal/service"
	"rillmark/internal/service/base"
	"rillmark/internal/service/explaining"
)

// Counted is how many events of a table and type went out.
type Counted struct {
	Table string `json:"table"`
	Type  string `json:"type"`
	Count int64  `json:"count"`
}

// OutletHistory is an outlet's last hour, and its counts.
type OutletHistory struct {
	Points []outlet.Point `json:"points" doc:"Steps of ten seconds, oldest first; steps in which nothing happened are left out"`
	Counts []Counted      `json:"counts" doc:"What went out since the service started"`
	Lost   []catalog.Lost `json:"lost" doc:"Offsets that retention took before they were delivered, the newest first"`
}

// OutletChecks are the checks of an outlet's destination, and of its source.
type OutletChecks struct {
	Items  []change.Check `json:"items"`
	Source []change.Check `json:"source,omitempty" doc:"Where it was asked for"`
}

// LetterChoice chooses dead letters.
type LetterChoice struct {
	IDs   []int64 `json:"ids,omitempty" doc:"These; all that the rest chooses without it"`
	Table string  `json:"table,omitempty"`
	Error string  `json:"error,omitempty" doc:"A part of the error's text"`
	All   bool    `json:"all,omitempty" doc:"Needed where nothing else chooses"`
}

func (c *LetterChoice) filter() (catalog.LetterFilter, error) {
	if len(c.IDs) == 0 && c.Table == "" && c.Error == "" && !c.All {
		return catalog.LetterFilter{}, &definition.Invalid{Location: "ids", Message: "choose dead letters by ids, table or error, or say all"}
	}
	return catalog.LetterFilter{IDs: c.IDs, Table: c.Table, Error: c.Error}, nil
}

func (s *Server) deliveryRoutes() {
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/check", "checkOutlet", "Check a definition's destination with what the outlet needs there, or a stored outlet's without a body", "outlets"), func(ctx context.Context, in *struct {
		Named
		Source bool               `query:"source" doc:"Check its source, too"`
		Body   *definition.Outlet `required:"false"`
	}) (*body[OutletChecks], error) {
		checks, source, err := s.service.Outlets.Check(ctx, in.Name, in.Body, in.Source)
		if err != nil {
			return nil, problem(err)
		}
		return &body[OutletChecks]{OutletChecks{checks, source}}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/scripts", "getOutletScripts", "The scripts that prepare an outlet's database and take that away, for a definition, or for a stored outlet without a body", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body *definition.Outlet `required:"false"`
	}) (*body[service.TargetScripts], error) {
		scripts, err := s.service.Outlets.Scripts(ctx, in.Name, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.TargetScripts]{*scripts}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/preview", "previewOutlet", "Exactly what a definition would send for real events of the journal, or a stored outlet without a body; nothing is sent", "outlets"), func(ctx context.Context, in *struct {
		Named
		From   int64              `query:"from" minimum:"0" doc:"The first offset; the newest events without it"`
		Limit  int                `query:"limit" minimum:"1" maximum:"200" default:"10"`
		Tables bool               `query:"tables" doc:"Check the tables of a database, too"`
		Body   *definition.Outlet `required:"false"`
	}) (*body[explaining.Previews], error) {
		found, err := s.service.Explaining.Preview(ctx, in.Name, in.Body, in.From, in.Limit)
		if err == nil && in.Tables {
			found.Tables, err = s.service.Outlets.TargetTables(ctx, in.Name, in.Body)
		}
		if err != nil {
			return nil, problem(err)
		}
		return &body[explaining.Previews]{*found}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/preview", "previewDraft", "What an outlet would send that is not stored yet, to a destination that need not be either; nothing is sent or stored", "outlets"), func(ctx context.Context, in *struct {
		From  int64 `query:"from" minimum:"0" doc:"The first offset; the newest events without it"`
		Limit int   `query:"limit" minimum:"1" maximum:"200" default:"10"`
		Body  struct {
			Outlet      definition.Outlet       `json:"outlet"`
			Destination *definition.Destination `json:"destination,omitempty" doc:"In place of a stored one"`
		}
	}) (*body[explaining.Previews], error) {
		found, err := s.service.Explaining.PreviewDraft(ctx, &in.Body.Outlet, in.Body.Destination, in.From, in.Limit)
		if err != nil {
			return nil, problem(err)
		}
		return &body[explaining.Previews]{*found}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/run", "runOutletOnce", "Let a paused outlet deliver what there is now, or up to a place, and end it then", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body *struct {
			Until string `json:"until,omitempty" maxLength:"80" doc:"The place before which it ends: now without it; else an offset, time:2026-11-23T09:00:00Z or mark:NAME"`
		} `required:"false"`
	}) (*body[service.RunOnce], error) {
		until := ""
		if in.Body != nil {
			until = in.Body.Until
		}
		plan, err := s.service.Outlets.RunOnce(ctx, in.Name, until)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.RunOnce]{*plan}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/history", "getOutletHistory", "An outlet's last hour, its counts, and what it has lost", "outlets"), func(ctx context.Context, in *Named) (*body[OutletHistory], error) {
		points, counts, lost, err := s.service.Overview.OutletHistory(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		out := OutletHistory{Points: points, Counts: make([]Counted, 0, len(counts)), Lost: lost}
		for of, n := range counts {
			out.Counts = append(out.Counts, Counted{of.Table, of.Type, n})
		}
		sort.Slice(out.Counts, func(i, j int) bool {
			a, b := out.Counts[i], out.Counts[j]
			return a.Table < b.Table || a.Table == b.Table && a.Type < b.Type
		})
		return &body[OutletHistory]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/flow", "getOutletFlow", "What became of the events that an outlet has read, table by table, and the time it took", "outlets"), func(ctx context.Context, in *struct {
		Named
		Minutes int `query:"minutes" minimum:"1" maximum:"60" default:"60" doc:"How far back"`
	}) (*body[explaining.OutletFlow], error) {
		flow, err := s.service.Explaining.Flow(ctx, in.Name, in.Minutes)
		if err != nil {
			return nil, problem(err)
		}
		return &body[explaining.OutletFlow]{*flow}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/asyncapi", "getOutletDocument", "An AsyncAPI 3 document of what an outlet sends", "outlets"), func(ctx context.Context, in *Named) (*struct{ Body map[string]any }, error) {
		doc, err := s.service.Explaining.AsyncAPI(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		return &struct{ Body map[string]any }{doc}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/schemas", "listOutletSchemas", "The schema versions that an outlet's own shape has made", "schemas"), func(ctx context.Context, in *Named) (*body[items[SchemaVersion]], error) {
		record, err := s.service.Outlets.Get(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		versions, err := s.service.Outlets.Schemas(ctx, record)
		if err != nil {
			return nil, problem(err)
		}
		out := items[SchemaVersion]{Items: make([]SchemaVersion, len(versions))}
		for i, v := range versions {
			out.Items[i] = SchemaVersion{Fingerprint: v.Fingerprint().String(), Source: record.Definition.Source, Table: v.Table, Guessed: v.Guessed, Columns: v.Columns}
		}
		return &body[items[SchemaVersion]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/avro-schemas/{fingerprint}", "getAvroSchema", "The Avro schema that a single-object encoded value names", "schemas"), func(ctx context.Context, in *struct {
		Fingerprint string `path:"fingerprint" pattern:"^[0-9a-f]{16}$" patternDescription:"sixteen hexadecimal digits" doc:"CRC-64-AVRO, most significant digit first"`
	}) (*struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}, error) {
		f, err := strconv.ParseUint(in.Fingerprint, 16, 64)
		if err != nil {
			return nil, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, err.Error())
		}
		version, err := s.service.Journals.AvroSchema(ctx, f)
		if err != nil {
			if !errors.Is(err, catalog.ErrNotFound) {
				return nil, problem(base.Answer(err, "schema", in.Fingerprint))
			}
			return nil, newProblem(http.StatusNotFound, base.CodeNotFound, "no outlet has sent anything under the Avro schema "+in.Fingerprint)
		}
		encoded, err := json.MarshalIndent(version.AvroSchema(), "", "  ")
		return &struct {
			ContentType string `header:"Content-Type"`
			Body        []byte
		}{"application/json", append(encoded, '\n')}, err
	})
	s.letterRoutes()
	s.markRoutes()
	s.leaseRoutes()
}

func (s *Server) letterRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/dead-letters", "listDeadLetters", "Events that an outlet could not deliver, and those that wait behind them, by offset", "dead letters"), func(ctx context.Context, in *struct {
		Named
		Table string `query:"table"`
		State string `query:"state" enum:"dead,behind"`
		Error string `query:"error" doc:"A part of the error's text"`
		After int64  `query:"after" minimum:"0" doc:"The offset behind which the list goes on"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[service.LetterPage], error) {
		page, err := s.service.DeadLetters.List(ctx, in.Name, catalog.LetterFilter{Table: in.Table, State: in.State, Error: in.Error, After: in.After, Limit: in.Limit})
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.LetterPage]{*page}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/dead-letters/{id}", "getDeadLetter", "One dead letter with its event, and what would be sent for it now", "dead letters"), func(ctx context.Context, in *struct {
		Named
		ID int64 `path:"id"`
	}) (*body[service.OpenLetter], error) {
		open, err := s.service.DeadLetters.Open(ctx, in.Name, in.ID)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.OpenLetter]{*open}, nil
	})
	type chosen struct {
		Chosen int64 `json:"chosen" doc:"How many events that is, those that wait behind them included"`
	}
	for verb, one := range map[string]struct {
		id, summary string
		do          func(context.Context, string, catalog.LetterFilter) (int64, error)
	}{
		"retry":   {"retryDeadLetters", "Have dead letters tried again, in the order of their rows, with those that wait behind them", s.service.DeadLetters.Retry},
		"discard": {"discardDeadLetters", "Forget dead letters for good", s.service.DeadLetters.Discard},
	} {
		huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/dead-letters/"+verb, one.id, one.summary, "dead letters"), func(ctx context.Context, in *struct {
			Named
			Body LetterChoice
		}) (*body[chosen], error) {
			filter, err := in.Body.filter()
			if err != nil {
				return nil, problem(err)
			}
			n, err := one.do(ctx, in.Name, filter)
			if err != nil {
				return nil, problem(err)
			}
			return &body[chosen]{chosen{n}}, nil
		})
	}
}

func (s *Server) markRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/marks", "listMarks", "Named places in journals", "marks"), func(ctx context.Context, in *struct {
		Source string `query:"source" doc:"Of one source"`
	}) (*body[items[catalog.Mark]], error) {
		marks, err := s.service.Journals.Marks(ctx, in.Source)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[catalog.Mark]]{items[catalog.Mark]{append([]catalog.Mark{}, marks...)}}, nil
	})
	huma.Register(s.api, operation(http.MethodPut, "/v1/sources/{name}/marks/{mark}", "setMark", "Name a place in a source's journal, or move the name there", "marks"), func(ctx context.Context, in *struct {
		Named
		Mark string `path:"mark"`
		Body *struct {
			At     string `json:"at,omitempty" maxLength:"80" doc:"now without it; else beginning, an offset, time:2026-11-23T09:00:00Z or mark:NAME"`
			Reason string `json:"reason,omitempty" maxLength:"500"`
		} `required:"false"`
	}) (*body[catalog.Mark], error) {
		at, reason := "", ""
		if in.Body != nil {
			at, reason = in.Body.At, in.Body.Reason
		}
		mark, err := s.service.Journals.SetMark(ctx, in.Name, in.Mark, at, reason)
		if err != nil {
			return nil, problem(err)
		}
		return &body[catalog.Mark]{*mark}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/sources/{name}/marks/{mark}", "removeMark", "Forget a mark", "marks"), func(ctx context.Context, in *struct {
		Named
		Mark string `path:"mark"`
	}) (*struct{}, error) {
		return nil, problem(s.service.Journals.RemoveMark(ctx, in.Name, in.Mark))
	})
}

// LeasedEvents are events that one of several readers has been handed.
type LeasedEvents struct {
	Events []json.RawMessage `json:"events"`
	Lease  string            `json:"lease,omitempty" doc:"Say it when they are dealt with; absent where there is nothing to read"`
	First  int64             `json:"first"`
	Last   int64             `json:"last"`
	Until  *time.Time        `json:"until,omitempty" doc:"After that another reader may have them"`
}

// AppendJSON writes the events as they are; see [EventPage.AppendJSON].
func (l LeasedEvents) AppendJSON(dst []byte) []byte {
	rest := l
	rest.Events = nil
	encoded, err := json.Marshal(rest)
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	dst = appendEvents(append(dst, `{"events":`...), l.Events)
	return append(dst, bytes.TrimPrefix(encoded, []byte(`{"events":null`))...)
}

func (s *Server) leaseRoutes() {
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/leases", "leaseOutlet", "Have events of a pull outlet that no other reader has, for a time", "reading"), func(ctx context.Context, in *struct {
		Named
		Body struct {
			Reader  string `json:"reader" minLength:"1" maxLength:"100" doc:"Who reads, for people"`
			Limit   int    `json:"limit,omitempty" minimum:"1" maximum:"10000" default:"100"`
			Seconds int    `json:"seconds,omitempty" minimum:"1" maximum:"3600" default:"60" doc:"For how long"`
			Wait    int    `json:"wait,omitempty" minimum:"0" maximum:"60" doc:"Seconds to wait for a first event"`
		}
	}) (*body[LeasedEvents], error) {
		limit, seconds := in.Body.Limit, in.Body.Seconds
		if limit == 0 {
			limit = 100
		}
		if seconds == 0 {
			seconds = 60
		}
		page, err := s.service.Reading.Lease(ctx, in.Name, in.Body.Reader, limit, time.Duration(seconds)*time.Second, time.Duration(in.Body.Wait)*time.Second)
		if err != nil {
			return nil, problem(err)
		}
		out := LeasedEvents{Events: eventPage(&page.Page).Events, Lease: page.Lease.Token, First: page.Lease.First, Last: page.Lease.Last}
		if out.Lease != "" {
			out.Until = &page.Lease.Until
		}
		return &body[LeasedEvents]{out}, nil
	})
	type leaseEnded struct {
		Committed int64 `json:"committed" doc:"The outlet's committed offset: all up to it are dealt with"`
	}
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/leases/{lease}/done", "endLease", "Say that a lease's events are dealt with", "reading"), func(ctx context.Context, in *struct {
		Named
		Lease string `path:"lease"`
		Body  *struct {
			Events int64 `json:"events,omitempty" minimum:"0" doc:"How many they were, for the counts"`
		} `required:"false"`
	}) (*body[leaseEnded], error) {
		n := int64(0)
		if in.Body != nil {
			n = in.Body.Events
		}
		at, err := s.service.Reading.EndLease(ctx, in.Name, in.Lease, n)
		if err != nil {
			return nil, problem(err)
		}
		return &body[leaseEnded]{leaseEnded{at}}, nil
	})
	type leaseUntil struct {
		Until time.Time `json:"until"`
	}
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/leases/{lease}/extend", "extendLease", "Have a lease for longer", "reading"), func(ctx context.Context, in *struct {
		Named
		Lease string `path:"lease"`
		Body  struct {
			Seconds int `json:"seconds" minimum:"1" maximum:"3600"`
		}
	}) (*body[leaseUntil], error) {
		at, err := s.service.Reading.ExtendLease(ctx, in.Name, in.Lease, time.Duration(in.Body.Seconds)*time.Second)
		if err != nil {
			return nil, problem(err)
		}
		return &body[leaseUntil]{leaseUntil{at}}, nil
	})
	huma.Register(s.api, operation(http.MethodDelete, "/v1/outlets/{name}/leases/{lease}", "giveBackLease", "Let other readers have a lease's events at once", "reading"), func(ctx context.Context, in *struct {
		Named
		Lease string `path:"lease"`
	}) (*struct{}, error) {
		return nil, problem(s.service.Reading.GiveBackLease(ctx, in.Name, in.Lease))
	})
}
