package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"rillmark/internal/engine"
	"rillmark/internal/service"
)

// signOfLife is how often an idle stream says that it is there.
const signOfLife = 15 * time.Second

// eventStream is a response in the form of Server-Sent Events.
type eventStream struct {
	w       http.ResponseWriter
	control *http.ResponseController
	buf     []byte
}

func openStream(w http.ResponseWriter) *eventStream {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	s := &eventStream{w: w, control: http.NewResponseController(w)}
	s.control.Flush() //nolint:errcheck // the caller has gone
	return s
}

// send writes one message; data holds no line feed.
func (s *eventStream) send(event, id string, data []byte) error {
	s.buf = s.buf[:0]
	if id != "" {
		s.buf = append(append(append(s.buf, "id: "...), id...), '\n')
	}
	if event != "" {
		s.buf = append(append(append(s.buf, "event: "...), event...), '\n')
	}
	s.buf = append(append(append(s.buf, "data: "...), data...), "\n\n"...)
	// A reader that takes nothing for so long has gone.
	s.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the write fails
	_, err := s.w.Write(s.buf)
	return err
}

// comment tells a reader that the stream lives, and how far it has come.
func (s *eventStream) comment(passed int64) error {
	s.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the write fails
	_, err := fmt.Fprintf(s.w, ": %d\n\n", passed)
	return err
}

func (s *eventStream) flush() error {
	s.control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then the flush fails
	return s.control.Flush()
}

func (s *Server) streamRoutes() {
	describe := func(path, id, summary string, handler http.HandlerFunc, parameters ...*huma.Param) {
		op := operation(http.MethodGet, path, id, summary, "live")
		op.Parameters = parameters
		op.Responses = map[string]*huma.Response{"200": {Description: "A stream without an end; the field id is the offset", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}
		s.live(op, handler)
	}
	text := &huma.Schema{Type: "string"}
	name := &huma.Param{Name: "name", In: "path", Required: true, Schema: text}
	from := &huma.Param{Name: "from", In: "query", Description: "now, beginning, or the first offset; the header Last-Event-ID goes before it", Schema: text}
	table := &huma.Param{Name: "table", In: "query", Description: "Patterns of tables; may be repeated", Schema: &huma.Schema{Type: "array", Items: text}}
	op := &huma.Param{Name: "operation", In: "query", Description: "Operations; may be repeated", Schema: &huma.Schema{Type: "array", Items: text}}
	describe("/v1/sources/{name}/stream", "streamSource", "Events of a source as they come", s.streamSource, name, from, table, op)
	describe("/v1/outlets/{name}/stream", "streamOutlet", "Events that an outlet lets through, as they come", s.streamOutlet, name, from,
		&huma.Param{Name: "as", In: "query", Description: "cloudevents: each event in that form, whatever the outlet's own is", Schema: &huma.Schema{Type: "string", Enum: []any{"cloudevents"}}})
	describe("/v1/status/stream", "streamStatus", "How everything stands, once a second", s.streamStatus)
}

// streamFrom is where a stream begins; 0 leaves it to the caller.
func (s *Server) streamFrom(r *http.Request, source string) (int64, error) {
	text := r.URL.Query().Get("from")
	if last := r.Header.Get("Last-Event-ID"); last != "" {
		n, err := strconv.ParseInt(last, 10, 64)
		if err != nil || n < 0 {
			return 0, newProblem(http.StatusUnprocessableEntity, service.CodeInvalid, fmt.Sprintf("Last-Event-ID %q is no offset", last))
		}
		return n + 1, nil
	}
	switch text {
	case "":
		return 0, nil
	case "now", "beginning":
		head, err := s.service.Head(r.Context(), source)
		if err != nil {
			return 0, problem(err)
		}
		if text == "now" {
			return head.Next, nil
		}
		return head.First, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, newProblem(http.StatusUnprocessableEntity, service.CodeInvalid, fmt.Sprintf("from %q is no place in a journal: write now, beginning, or an offset", text))
	}
	return n, nil
}

func (s *Server) streamSource(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	query := r.URL.Query()
	filter, err := service.FilterOf(query["table"], query["operation"])
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	from, err := s.streamFrom(r, name)
	if err == nil && from == 0 {
		head, headErr := s.service.Head(r.Context(), name)
		from, err = head.Next, problem(headErr)
	}
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	feed, err := s.service.OpenFeed(r.Context(), name, filter, from)
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	stream(w, r, feed)
}

func (s *Server) streamOutlet(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	record, err := s.service.Catalog.Outlet(r.Context(), name)
	if err != nil {
		answerProblem(w, problem(missing(err, "outlet", name)).(*Problem))
		return
	}
	from, err := s.streamFrom(r, record.Definition.Source)
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	feed, _, err := s.service.OutletFeed(r.Context(), name, from)
	if r.URL.Query().Get("as") == "cloudevents" && err == nil {
		feed.Plain()
	}
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	stream(w, r, feed)
}

// stream sends a feed's events as they come, until the reader has gone. Offsets
// that the filter kept back are made known in comments, at the signs of life.
func stream(w http.ResponseWriter, r *http.Request, feed *service.Feed) {
	out := openStream(w)
	ctx := r.Context()
	for {
		one, err := feed.TryNext(ctx)
		if err != nil {
			if ctx.Err() == nil {
				told, _ := json.Marshal(problem(err))
				out.send("problem", "", told) //nolint:errcheck // the stream ends here
			}
			return
		}
		if one != nil {
			id := "" // a reader goes on behind whole offsets
			if one.Last {
				id = strconv.FormatInt(one.Offset, 10)
			}
			if out.send("", id, one.Body) != nil {
				return
			}
			continue
		}
		if out.flush() != nil {
			return
		}
		if err := feed.Wait(ctx, signOfLife); err != nil {
			var fault *engine.Fault
			if ctx.Err() != nil || errors.As(err, &fault) && fault.Code == service.CodeStopping {
				return
			}
			continue // TryNext tells
		}
		if out.comment(feed.Passed()) != nil {
			return
		}
	}
}

func (s *Server) streamStatus(w http.ResponseWriter, r *http.Request) {
	out := openStream(w)
	var last *service.Status
	for {
		st, err := s.service.NextStatus(r.Context(), last)
		if err != nil {
			return
		}
		last = st
		encoded, err := json.Marshal(st)
		if err != nil || out.send("", "", encoded) != nil || out.flush() != nil {
			return
		}
	}
}
