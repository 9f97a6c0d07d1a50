package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/service/base"
	"rillmark/internal/service/comparing"
	"rillmark/internal/service/explaining"
	"rillmark/internal/verify"
)

// CompareLine is one line of the answer when an outlet is verified: it holds one of its
// members.
type CompareLine struct {
	Table   *verify.TableVerdict    `json:"table,omitempty" doc:"How the comparison of a table stands, about once a second, and when it is done"`
	Result  *comparing.Verification `json:"result,omitempty" doc:"The last line: what was found"`
	Problem *Problem                `json:"problem,omitempty" doc:"The last line where the comparison could not be completed"`
}

func (s *Server) verifyRoutes() {
	op := operation(http.MethodPost, "/v1/outlets/{name}/verify", "verifyOutlet", "Compare the rows that an outlet keeps in a database with the source's, while both change", "outlets")
	op.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
		{Name: "table", In: "query", Description: "A pattern of the tables to compare, all of the outlet's without it; may be repeated", Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}},
		{Name: "fix", In: "query", Description: "true: what differs is loaded again for this outlet alone", Schema: &huma.Schema{Type: "boolean"}},
		{Name: "sample", In: "query", Description: "Which share of the rows of large tables is compared, in percent, in blocks drawn at random; all without it", Schema: &huma.Schema{Type: "number"}},
		{Name: "resume", In: "query", Description: "true: go on with the last comparison that was not completed, with its tables and its sample", Schema: &huma.Schema{Type: "boolean"}}}
	registry := s.api.OpenAPI().Components.Schemas
	op.Responses = map[string]*huma.Response{"200": {Description: "Lines of JSON, as they come", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: huma.SchemaFromType(registry, typeOf[CompareLine]())}}}}
	s.live(op, s.verifyOutlet)
}

func (s *Server) whyRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/outlets/{name}/why", "whyOutlet", "What became of one event at an outlet, and by what", "outlets"), func(ctx context.Context, in *struct {
		Named
		Offset int64 `query:"offset" required:"true" minimum:"1"`
	}) (*body[explaining.Why], error) {
		w, err := s.service.Explaining.Why(ctx, in.Name, in.Offset)
		if err != nil {
			return nil, problem(err)
		}
		return &body[explaining.Why]{*w}, nil
	})
}

// comparePlan reads what is to be compared.
func comparePlan(query url.Values) (plan comparing.ComparePlan, fix bool, err error) {
	plan = comparing.ComparePlan{Tables: query["table"], Keeps: true}
	for name, into := range map[string]*bool{"fix": &fix, "resume": &plan.Resume} {
		switch given := query.Get(name); given {
		case "", "false":
		case "true":
			*into = true
		default:
			return plan, false, fmt.Errorf("%s is %q: it is true or false", name, given)
		}
	}
	if given := query.Get("sample"); given != "" {
		percent, err := strconv.ParseFloat(given, 64)
		if err != nil || !(percent > 0 && percent <= 100) {
			return plan, false, fmt.Errorf("sample is %q: it is a number of percent, above 0 and up to 100", given)
		}
		if percent < 100 {
			plan.Sample = percent / 100
		}
	}
	if plan.Resume && (len(plan.Tables) > 0 || plan.Sample > 0) {
		return plan, false, errors.New("resume goes on with the tables and the sample of the comparison that was not completed: leave both out")
	}
	return plan, fix, nil
}

func (s *Server) verifyOutlet(w http.ResponseWriter, r *http.Request) {
	plan, fix, err := comparePlan(r.URL.Query())
	if err != nil {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, err.Error()))
		return
	}
	lines := newLines(w)
	result, err := s.service.Comparing.Verify(r.Context(), chi.URLParam(r, "name"), plan, func(now verify.TableVerdict) {
		lines.write(CompareLine{Table: &now}) //nolint:errcheck // a caller who has gone ends it by the context
	})
	if err == nil && fix && !result.Equal {
		err = s.service.Comparing.Fix(r.Context(), result)
	}
	lines.end(r, err, CompareLine{Result: result}, func(p *Problem) any { return CompareLine{Problem: p} })
}
