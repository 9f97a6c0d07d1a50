package api

import (
	"context"
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
	"rillmark/internal/service/base"
	"rillmark/internal/service/reading"
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

// comment shows a reader that the stream is alive, and how far it has come.
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
		op.Responses = map[string]*huma.Response{"200": {Description: "Messages as they come; the field id is the offset", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}
		s.live(op, handler)
	}
	text := &huma.Schema{Type: "string"}
	name := &huma.Param{Name: "name", In: "path", Required: true, Schema: text}
	from := &huma.Param{Name: "from", In: "query", Description: "Where it begins: beginning, now, an offset, time:2026-11-23T09:00:00Z or mark:NAME; the header Last-Event-ID goes before it", Schema: text}
	until := &huma.Param{Name: "until", In: "query", Description: "The place before which it ends, with a message of the kind end; without it there is no end", Schema: text}
	table := &huma.Param{Name: "table", In: "query", Description: "Patterns of tables; may be repeated", Schema: &huma.Schema{Type: "array", Items: text}}
	op := &huma.Param{Name: "operation", In: "query", Description: "Operations; may be repeated", Schema: &huma.Schema{Type: "array", Items: text}}
	describe("/v1/sources/{name}/stream", "streamSource", "Events of a source as they come", s.streamSource, name, from, until, table, op,
		&huma.Param{Name: "changes", In: "query", Description: "each, or combined: of each row what its changes between from and until come to", Schema: &huma.Schema{Type: "string", Enum: []any{"each", "combined"}}})
	describe("/v1/outlets/{name}/stream", "streamOutlet", "Events that an outlet lets through, as they come", s.streamOutlet, name, from, until,
		&huma.Param{Name: "as", In: "query", Description: "cloudevents: each event in that form, whatever the outlet's own is", Schema: &huma.Schema{Type: "string", Enum: []any{"cloudevents"}}})
	describe("/v1/status/stream", "streamStatus", "How everything stands, once a second", s.streamStatus)
}

// spanOf is the part of a journal that a stream is asked for.
func spanOf(r *http.Request) (reading.Span, error) {
	span := reading.Span{From: r.URL.Query().Get("from"), Until: r.URL.Query().Get("until")}
	if last := r.Header.Get("Last-Event-ID"); last != "" {
		n, err := strconv.ParseInt(last, 10, 64)
		if err != nil || n < 0 {
			return span, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("Last-Event-ID %q is no offset", last))
		}
		span.From = strconv.FormatInt(n+1, 10)
	}
	return span, nil
}

func (s *Server) streamSource(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	filter, err := reading.FilterOf(query["table"], query["operation"])
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	span, err := spanOf(r)
	if err != nil {
		answerProblem(w, err.(*Problem))
		return
	}
	if span.From == "" {
		span.From = "now"
	}
	changes := query.Get("changes")
	if changes != "" && changes != "each" && changes != "combined" {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("changes %q: there are each and combined", changes)))
		return
	}
	feed, err := s.service.Reading.OpenFeed(r.Context(), chi.URLParam(r, "name"), filter, span)
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	if changes != "combined" {
		stream(w, r, feed)
		return
	}
	if span.Until == "" {
		answerProblem(w, newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, "combined changes lie between two places: give until, too"))
		return
	}
	out := openStream(w)
	out.end(feed.EachNet(r.Context(), func(body []byte) error { return out.send("", "", body) }), r.Context(), feed)
}

func (s *Server) streamOutlet(w http.ResponseWriter, r *http.Request) {
	span, err := spanOf(r)
	if err != nil {
		answerProblem(w, err.(*Problem))
		return
	}
	feed, _, err := s.service.Reading.OutletFeed(r.Context(), chi.URLParam(r, "name"), span)
	if err != nil {
		answerProblem(w, problem(err).(*Problem))
		return
	}
	if r.URL.Query().Get("as") == "cloudevents" {
		feed.Plain()
	}
	stream(w, r, feed)
}

// end says to a stream's reader how it ended: with an error, or at the end that was asked
// for.
func (s *eventStream) end(err error, ctx context.Context, feed *reading.Feed) {
	kind, told := "end", []byte(fmt.Sprintf(`{"passed":%d}`, feed.Passed()))
	if err != nil {
		if ctx.Err() != nil {
			return
		}
		kind = "problem"
		told, _ = json.Marshal(problem(err))
	}
	if s.send(kind, "", told) == nil {
		s.flush() //nolint:errcheck // the stream ends here
	}
}

// stream sends a feed's events as they come, until the reader has gone. Offsets
// that the filter kept back are made known in comments, at the signs of life.
func stream(w http.ResponseWriter, r *http.Request, feed *reading.Feed) {
	out := openStream(w)
	ctx := r.Context()
	// A reader that is cut off before its first event goes on from here.
	if out.comment(feed.Passed()) != nil {
		return
	}
	for {
		one, err := feed.TryNext(ctx)
		if err != nil {
			out.end(err, ctx, feed)
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
		if feed.Ended() {
			out.end(nil, ctx, feed)
			return
		}
		if out.flush() != nil {
			return
		}
		if err := feed.Wait(ctx, signOfLife); err != nil {
			var fault *engine.Fault
			if ctx.Err() != nil || errors.As(err, &fault) && fault.Code == base.CodeStopping {
				return
			}
			continue // TryNext has the error
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
		st, err := s.service.Overview.Next(r.Context(), last)
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
