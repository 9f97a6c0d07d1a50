package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/service/base"
	"rillmark/internal/service/comparing"
)

// CutoverLine is one line of the answer when an outlet's tables are cut over to: it holds one
// of its members.
type CutoverLine struct {
	Step    *comparing.CutoverStep   `json:"step,omitempty" doc:"How far it is"`
	Result  *comparing.CutoverResult `json:"result,omitempty" doc:"The last line: it is done"`
	Problem *Problem                 `json:"problem,omitempty" doc:"The last line where it has ended without effect"`
}

func (s *Server) cutoverRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/cutover", "checkCutover", "Whether a system can move to the database that an outlet keeps equal, and what a person has to see to; nothing is changed", "outlets"), func(ctx context.Context, in *struct {
		Named
		FollowBack string `query:"follow_back" maxLength:"40" doc:"Look at this outlet, too, as one that leads back from then on"`
	}) (*body[comparing.CutoverReport], error) {
		report, err := s.service.Comparing.CutoverCheck(ctx, in.Name, in.FollowBack)
		if err != nil {
			return nil, problem(err)
		}
		return &body[comparing.CutoverReport]{*report}, nil
	})
	huma.Register(s.api, operation(http.MethodPost, "/v1/outlets/{name}/cutover/abort", "abortCutover", "Let the source's writers in again that a cut over keeps out", "outlets"), func(ctx context.Context, in *struct {
		Named
		Body comparing.CutoverPlan
	}) (*struct{}, error) {
		return nil, problem(s.service.Comparing.AbortCutover(ctx, in.Name, in.Body))
	})
	op := operation(http.MethodPost, "/v1/outlets/{name}/cutover", "cutOver", "Move to the database that an outlet keeps equal: wait until nobody writes, prove that both sides are equal, set what hands out numbers, and end delivery. If anything fails, or the caller goes, it is taken back", "outlets")
	registry := s.api.OpenAPI().Components.Schemas
	op.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	op.RequestBody = &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": {Schema: huma.SchemaFromType(registry, typeOf[comparing.CutoverPlan]())}}}
	op.Responses = map[string]*huma.Response{"200": {Description: "Lines of JSON, as they come", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: huma.SchemaFromType(registry, typeOf[CutoverLine]())}}}}
	s.live(op, s.cutOver)
}

func (s *Server) cutOver(w http.ResponseWriter, r *http.Request) {
	var plan comparing.CutoverPlan
	decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&plan); err != nil && !errors.Is(err, io.EOF) {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, "the body is no cut over: "+err.Error()))
		return
	}
	if plan.WaitSeconds < 0 || plan.WaitSeconds > 86400 {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, "wait_seconds is outside 1 to 86400"))
		return
	}
	lines := newLines(w)
	result, err := s.service.Comparing.Cutover(r.Context(), chi.URLParam(r, "name"), plan, func(step comparing.CutoverStep) {
		lines.write(CutoverLine{Step: &step}) //nolint:errcheck // a caller who has gone ends it by the context
	})
	lines.end(r, err, CutoverLine{Result: result}, func(p *Problem) any { return CutoverLine{Problem: p} })
}
