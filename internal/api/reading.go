package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"runtime"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/catalog"
	"rillmark/internal/change"
	"rillmark/internal/jsontext"
	"rillmark/internal/service"
	"rillmark/internal/service/base"
	"rillmark/internal/service/reading"
)

// EventPage is a run of events, each in the form in which it is delivered.
type EventPage struct {
	Events []json.RawMessage `json:"events" doc:"CloudEvents in structured JSON"`
	// Passed covers events that the filter kept back.
	Passed    int64  `json:"passed" doc:"The newest offset that this page covers; commit it, or go on reading after it"`
	Committed *int64 `json:"committed,omitempty" doc:"The outlet's committed offset, which reading does not move"`
}

// AppendJSON writes the page; each event goes in as it is, however deep its
// documents are nested.
func (p EventPage) AppendJSON(dst []byte) []byte {
	dst = appendEvents(append(dst, `{"events":`...), p.Events)
	dst = strconv.AppendInt(append(dst, `,"passed":`...), p.Passed, 10)
	if p.Committed != nil {
		dst = strconv.AppendInt(append(dst, `,"committed":`...), *p.Committed, 10)
	}
	return append(dst, '}')
}

func appendEvents(dst []byte, events []json.RawMessage) []byte {
	dst = append(dst, '[')
	for i, e := range events {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, e...)
	}
	return append(dst, ']')
}

// ParseEventPage reads what AppendJSON wrote.
func ParseEventPage(raw []byte) (p EventPage, err error) {
	err = jsontext.Members(raw, func(name, value []byte) (err error) {
		switch string(name) {
		case `"events"`:
			return jsontext.Elements(value, func(e []byte) error {
				p.Events = append(p.Events, e)
				return nil
			})
		case `"passed"`:
			p.Passed, err = strconv.ParseInt(string(value), 10, 64)
		case `"committed"`:
			var n int64
			n, err = strconv.ParseInt(string(value), 10, 64)
			p.Committed = &n
		}
		return err
	})
	return p, err
}

func eventPage(p *reading.Page) EventPage {
	out := EventPage{Events: make([]json.RawMessage, len(p.Events)), Passed: p.Passed}
	for i, e := range p.Events {
		out.Events[i] = e
	}
	return out
}

// SchemaVersion is a version of a table's schema.
type SchemaVersion struct {
	Fingerprint string          `json:"fingerprint"`
	Source      string          `json:"source"`
	Table       string          `json:"table"`
	FirstSeen   *time.Time      `json:"first_seen,omitempty" doc:"Of a source's version"`
	Guessed     bool            `json:"guessed" doc:"The catalogue had gone on when the log was read: nullability, key and labels may be of a later moment"`
	Columns     []change.Column `json:"columns"`
}

// SpanQuery is a part of a journal.
type SpanQuery struct {
	From  string `query:"from" maxLength:"80" doc:"The place of the first event: beginning, now, an offset, time:2026-11-23T09:00:00Z or mark:NAME"`
	Until string `query:"until" maxLength:"80" doc:"The place before which it ends, as in from; without it there is no end"`
}

func (q *SpanQuery) span() reading.Span { return reading.Span{From: q.From, Until: q.Until} }

type FilterQuery struct {
	Tables     []string `query:"table,explode" doc:"Patterns of tables"`
	Operations []string `query:"operation,explode" doc:"Operations"`
}

func (s *Server) readingRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/sources/{name}/events", "readSource", "Events of a source's journal, from its oldest or a place on", "reading"), func(ctx context.Context, in *struct {
		Named
		FilterQuery
		SpanQuery
		Limit int `query:"limit" minimum:"1" maximum:"10000" default:"100"`
	}) (*body[EventPage], error) {
		filter, err := reading.FilterOf(in.Tables, in.Operations)
		if err != nil {
			return nil, problem(err)
		}
		page, err := s.service.Reading.ReadSource(ctx, in.Name, filter, in.span(), in.Limit)
		if err != nil {
			return nil, problem(err)
		}
		return &body[EventPage]{eventPage(page)}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/events", "readOutlet", "Events of a pull outlet, after its committed offset or from a place on; the offset does not move", "reading"), func(ctx context.Context, in *struct {
		Named
		SpanQuery
		Limit int `query:"limit" minimum:"1" maximum:"10000" default:"100"`
		Wait  int `query:"wait" minimum:"0" maximum:"60" doc:"Seconds to wait for a first event"`
	}) (*body[EventPage], error) {
		page, err := s.service.Reading.ReadOutlet(ctx, in.Name, in.span(), in.Limit, time.Duration(in.Wait)*time.Second)
		if err != nil {
			return nil, problem(err)
		}
		out := eventPage(page)
		out.Committed = &page.Committed
		return &body[EventPage]{out}, nil
	})
	type committed struct {
		Committed int64 `json:"committed" minimum:"0" doc:"The newest offset that is dealt with"`
	}
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/commit", "commitOutlet", "Move a pull outlet's committed offset forward", "reading"), func(ctx context.Context, in *struct {
		Named
		Body committed
	}) (*body[committed], error) {
		at, err := s.service.Reading.Commit(ctx, in.Name, in.Body.Committed)
		if err != nil {
			return nil, problem(err)
		}
		return &body[committed]{committed{at}}, nil
	})
	type progress struct {
		Offset int64 `json:"offset" minimum:"0" doc:"The newest offset that the consumer has dealt with, by its own account"`
	}
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/progress", "reportProgress", "Say how far a consumer is that keeps its own offset: behind, retention and metrics go by it; reading starts where the consumer asks", "reading"), func(ctx context.Context, in *struct {
		Named
		Body progress
	}) (*body[progress], error) {
		if err := s.service.Reading.Report(ctx, in.Name, in.Body.Offset); err != nil {
			return nil, problem(err)
		}
		return &body[progress]{in.Body}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/schemas", "listSchemas", "Schema versions", "schemas"), func(ctx context.Context, in *struct {
		Source string `query:"source" doc:"Of one source"`
	}) (*body[items[SchemaVersion]], error) {
		versions, err := s.service.Journals.SchemaVersions(ctx, in.Source)
		if err != nil {
			return nil, problem(err)
		}
		out := items[SchemaVersion]{Items: make([]SchemaVersion, len(versions))}
		for i, v := range versions {
			out.Items[i] = SchemaVersion{v.Schema.Fingerprint().String(), v.Source, v.Schema.Table, &v.FirstSeen, v.Schema.Guessed, v.Schema.Columns}
		}
		return &body[items[SchemaVersion]]{out}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/schemas/{fingerprint}/diff", "diffSchemas", "What changed from another version to this one, column by column", "schemas"), func(ctx context.Context, in *struct {
		Fingerprint string `path:"fingerprint"`
		From        string `query:"from" required:"true" doc:"The earlier version"`
	}) (*body[items[change.ColumnDiff]], error) {
		var versions [2]*change.Schema
		for i, text := range []string{in.From, in.Fingerprint} {
			f, err := change.ParseFingerprint(text)
			if err != nil {
				return nil, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, err.Error())
			}
			if versions[i], err = s.service.Journals.Schema(ctx, f); err != nil {
				return nil, noVersion(err, text)
			}
		}
		if versions[0].Table != versions[1].Table {
			return nil, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, in.From+" is a version of "+versions[0].Table+", "+in.Fingerprint+" one of "+versions[1].Table)
		}
		return &body[items[change.ColumnDiff]]{items[change.ColumnDiff]{change.Diff(versions[0], versions[1])}}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/schemas/{fingerprint}", "getSchema", "A schema version as JSON Schema 2020-12, as Avro schema, or as its definition", "schemas"), func(ctx context.Context, in *struct {
		Fingerprint string `path:"fingerprint"`
		Form        string `query:"form" enum:"json-schema,avro,definition" default:"json-schema"`
	}) (*struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}, error) {
		f, err := change.ParseFingerprint(in.Fingerprint)
		if err != nil {
			return nil, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, err.Error())
		}
		version, err := s.service.Journals.Schema(ctx, f)
		if err != nil {
			return nil, noVersion(err, in.Fingerprint)
		}
		var document any = version
		kind := "application/json"
		switch in.Form {
		case "json-schema":
			document, kind = version.JSONSchema(s.service.Config.PublicURL+"/v1/schemas/"+in.Fingerprint), "application/schema+json"
		case "avro":
			document = version.AvroSchema()
		}
		encoded, err := json.MarshalIndent(document, "", "  ")
		return &struct {
			ContentType string `header:"Content-Type"`
			Body        []byte
		}{kind, append(encoded, '\n')}, err
	})
}

// noVersion distinguishes a missing schema version from a state database that does
// not answer.
func noVersion(err error, fingerprint string) error {
	if errors.Is(err, catalog.ErrNotFound) {
		return newProblem(http.StatusNotFound, base.CodeNotFound, "there is no schema version "+fingerprint)
	}
	return problem(base.Answer(err, "schema", fingerprint))
}

// Version says what runs.
type Version struct {
	Version string `json:"version"`
	Go      string `json:"go"`
}

func (s *Server) runRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/status", "getStatus", "How everything stands", "running"), func(ctx context.Context, _ *struct{}) (*body[service.Status], error) {
		return &body[service.Status]{*s.service.Overview.Now(ctx)}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/version", "getVersion", "What runs", "running"), func(context.Context, *struct{}) (*body[Version], error) {
		return &body[Version]{Version{s.version, runtime.Version()}}, nil
	})
	huma.Register(s.api, operation(http.MethodGet, "/v1/log", "readLog", "The log of the run, newest first", "running"), func(ctx context.Context, in *struct {
		Subject string    `query:"subject" doc:"Such as source/circulation"`
		Since   time.Time `query:"since" doc:"Not older than this; a day without it"`
		Limit   int       `query:"limit" minimum:"1" maximum:"5000" default:"200"`
	}) (*body[items[catalog.LogEntry]], error) {
		if in.Since.IsZero() {
			in.Since = time.Now().Add(-24 * time.Hour)
		}
		entries, err := s.service.Overview.Log(ctx, in.Subject, in.Since, in.Limit)
		if err != nil {
			return nil, problem(err)
		}
		return &body[items[catalog.LogEntry]]{items[catalog.LogEntry]{entries}}, nil
	})
}
