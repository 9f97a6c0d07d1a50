package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"reflect"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/definition"
	"rillmark/internal/service"
	"rillmark/internal/service/base"
)

// TrialLine is one line of a trial's answer: it holds one of its members.
type TrialLine struct {
	Ready   bool                 `json:"ready,omitempty" doc:"From here on every change comes"`
	Event   json.RawMessage      `json:"event,omitempty" doc:"An event as it would be delivered"`
	Counts  []service.TrialCount `json:"counts,omitempty" doc:"The last line: how many events of each table and operation came"`
	Done    bool                 `json:"done,omitempty" doc:"With the last line: nothing is left behind on the source"`
	Problem *Problem             `json:"problem,omitempty" doc:"The last line where the trial failed"`
}

func (s *Server) trialRoutes() {
	op := operation(http.MethodPost, "/v1/sources/{name}/try", "trySource", "Follow the tables of a definition for a while, before it is stored or without a body a stored one's, and leave nothing behind", "sources")
	op.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
		{Name: "seconds", In: "query", Description: "How long, from when the source is followed; 60 without it, 600 at most", Schema: &huma.Schema{Type: "integer"}}}
	registry := s.api.OpenAPI().Components.Schemas
	op.RequestBody = &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": {Schema: registry.Schema(typeOf[definition.Source](), true, "")}}}
	op.Responses = map[string]*huma.Response{"200": {Description: "Lines of JSON, as they come", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: huma.SchemaFromType(registry, typeOf[TrialLine]())}}}}
	s.live(op, s.trySource)
}

func (s *Server) trySource(w http.ResponseWriter, r *http.Request) {
	seconds := 60
	if text := r.URL.Query().Get("seconds"); text != "" {
		var err error
		if seconds, err = strconv.Atoi(text); err != nil {
			answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, "seconds "+strconv.Quote(text)+" is no number"))
			return
		}
	}
	d, wrong := s.readSource(http.MaxBytesReader(w, r.Body, 1<<20))
	if wrong != nil {
		answerProblem(w, wrong)
		return
	}
	lines := newLines(w)
	counts, err := s.service.Sources.Try(r.Context(), chi.URLParam(r, "name"), d, time.Duration(seconds)*time.Second,
		func() { lines.write(TrialLine{Ready: true}) }, //nolint:errcheck // a caller who has gone ends the trial by the context
		func(encoded []byte) error { // as it is, however deep it is nested
			return lines.raw(append(append([]byte(`{"event":`), encoded...), '}'))
		})
	lines.end(r, err, TrialLine{Counts: counts, Done: true}, func(p *Problem) any { return TrialLine{Problem: p} })
}

// readSource reads a definition as huma reads those of other calls; nil for no body.
func (s *Server) readSource(body io.Reader) (*definition.Source, *Problem) {
	unreadable := func(err error) *Problem {
		return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, "the definition cannot be read: "+err.Error())
	}
	raw, err := io.ReadAll(body)
	if err != nil {
		return nil, unreadable(err)
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, nil
	}
	var parsed any
	if err := json.Unmarshal(raw, &parsed); err != nil {
		return nil, unreadable(err)
	}
	registry := s.api.OpenAPI().Components.Schemas
	var found huma.ValidateResult
	huma.Validate(registry, registry.Schema(typeOf[definition.Source](), true, ""), huma.NewPathBuffer([]byte("body"), len("body")), huma.ModeWriteToServer, parsed, &found)
	if len(found.Errors) > 0 {
		var p *Problem
		if errors.As(humaProblem(http.StatusUnprocessableEntity, "validation failed", found.Errors...), &p) {
			return nil, p
		}
		return nil, unreadable(found.Errors[0])
	}
	d := new(definition.Source)
	if err := json.Unmarshal(raw, d); err != nil {
		return nil, unreadable(err)
	}
	return d, nil
}

func typeOf[T any]() reflect.Type { return reflect.TypeOf((*T)(nil)).Elem() }
