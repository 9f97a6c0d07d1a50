package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/service"
	"rillmark/internal/service/base"
	"rillmark/internal/verify"
)

// CompareLine is one line of the answer when an outlet is verified: it holds one of its
// members.
type CompareLine struct {
	Table   *verify.TableVerdict  `json:"table,omitempty" doc:"How the comparison of a table stands, about once a second, and when it is done"`
	Result  *service.Verification `json:"result,omitempty" doc:"The last line: what was found"`
	Problem *Problem              `json:"problem,omitempty" doc:"The last line where the comparison could not be completed"`
}

func (s *Server) verifyRoutes() {
	op := operation(http.MethodPost, "/v1/outlets/{name}/verify", "verifyOutlet", "Compare the rows that an outlet keeps in a database with the source's, while both change", "outlets")
	op.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
		{Name: "table", In: "query", Description: "A pattern of the tables to compare, all of the outlet's without it; may be repeated", Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}},
		{Name: "fix", In: "query", Description: "true: what differs is loaded again for this outlet alone", Schema: &huma.Schema{Type: "boolean"}}}
	registry := s.api.OpenAPI().Components.Schemas
	op.Responses = map[string]*huma.Response{"200": {Description: "Lines of JSON, as they come", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: huma.SchemaFromType(registry, typeOf[CompareLine]())}}}}
	s.live(op, s.verifyOutlet)
}

func (s *Server) whyRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/why", "whyOutlet", "What became of one event at an outlet, and by what", "outlets"), func(ctx context.Context, in *struct {
		Named
		Offset int64 `query:"offset" required:"true" minimum:"1"`
	}) (*body[service.Why], error) {
		w, err := s.service.Outlets.Why(ctx, in.Name, in.Offset)
		if err != nil {
			return nil, problem(err)
		}
		return &body[service.Why]{*w}, nil
	})
}

func (s *Server) verifyOutlet(w http.ResponseWriter, r *http.Request) {
	fix := false
	switch given := r.URL.Query().Get("fix"); given {
	case "", "false":
	case "true":
		fix = true
	default:
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("fix is %q: it is true or false", given)))
		return
	}
	lines := newLines(w)
	result, err := s.service.Outlets.Verify(r.Context(), chi.URLParam(r, "name"), r.URL.Query()["table"], func(now verify.TableVerdict) {
		lines.write(CompareLine{Table: &now}) //nolint:errcheck // a caller who has gone ends it by the context
	})
	if err == nil && fix && !result.Equal {
		err = s.service.Outlets.Fix(r.Context(), result)
	}
	lines.end(r, err, CompareLine{Result: result}, func(p *Problem) any { return CompareLine{Problem: p} })
}
