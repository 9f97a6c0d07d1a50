package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/service/reading"
)

// VerifyLine is one line of the answer when a journal is verified: it holds one of
// its members.
type VerifyLine struct {
	Progress *reading.JournalReport `json:"progress,omitempty" doc:"How far it is, once a second"`
	Report   *reading.JournalReport `json:"report,omitempty" doc:"The last line: what was found"`
	Problem  *Problem               `json:"problem,omitempty" doc:"The last line where the journal could not be read to its end"`
}

func (s *Server) journalRoutes() {
	op := operation(http.MethodPost, "/v1/sources/{name}/journal/verify", "verifyJournal", "Read all of a source's journal, and say what of it is damaged", "sources")
	op.Parameters = []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	registry := s.api.OpenAPI().Components.Schemas
	op.Responses = map[string]*huma.Response{"200": {Description: "Lines of JSON, as they come", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: huma.SchemaFromType(registry, typeOf[VerifyLine]())}}}}
	s.live(op, s.verifyJournal)
}

func (s *Server) verifyJournal(w http.ResponseWriter, r *http.Request) {
	lines := newLines(w)
	var told time.Time
	report, err := s.service.Journals.Verify(r.Context(), chi.URLParam(r, "name"), func(now *reading.JournalReport) {
		if time.Since(told) < time.Second {
			return
		}
		told = time.Now()
		lines.write(VerifyLine{Progress: now}) //nolint:errcheck // a caller who has gone ends it by the context
	})
	lines.end(r, err, VerifyLine{Report: report}, func(p *Problem) any { return VerifyLine{Problem: p} })
}

// lineWriter answers in lines of JSON, as they come.
type lineWriter struct {
	w       http.ResponseWriter
	control *http.ResponseController
	began   bool
}

func newLines(w http.ResponseWriter) *lineWriter {
	return &lineWriter{w: w, control: http.NewResponseController(w)}
}

func (l *lineWriter) write(v any) error {
	encoded, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return l.raw(encoded)
}

func (l *lineWriter) raw(encoded []byte) error {
	if !l.began {
		l.w.Header().Set("Content-Type", "application/x-ndjson")
		l.w.Header().Set("Cache-Control", "no-store")
		l.began = true
	}
	l.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the write fails
	if _, err := l.w.Write(append(encoded, '\n')); err != nil {
		return err
	}
	return l.control.Flush()
}

// end writes the last line: what was asked for, or where it failed why, in a line of its own
// once lines have gone out.
func (l *lineWriter) end(r *http.Request, err error, last any, failed func(*Problem) any) {
	var refused *Problem
	switch {
	case r.Context().Err() != nil:
	case err == nil:
		l.write(last) //nolint:errcheck // the answer ends here
	case errors.As(problem(err), &refused) && l.began:
		l.write(failed(refused)) //nolint:errcheck // the answer ends here
	case refused != nil:
		l.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the write fails
		answerProblem(l.w, refused)
	}
}
