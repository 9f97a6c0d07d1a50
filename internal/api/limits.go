package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/service/base"
)

// What a request may take. Answers without an end (streams, trials, reading a whole
// journal) have a deadline for each write instead.
const (
	readTime  = 90 * time.Second // for an answer to GET or HEAD, and for leases: both may wait a minute
	workTime  = 10 * time.Minute // for all else: a set-up may wait for locks
	writeTime = 10 * time.Second // for each write of an answer without an end
	// bodyTime is what a whole body has to come in.
	bodyTime = 20 * time.Second
	// maxStreams bounds the answers without an end that are open at a time.
	maxStreams = 200
)

// endless reports whether an answer goes on until the caller has enough.
func endless(r *http.Request) bool {
	path := r.URL.Path
	return strings.HasSuffix(path, "/stream") || strings.HasSuffix(path, "/try") || strings.HasSuffix(path, "/verify") || strings.HasSuffix(path, "/rows") || r.Method == http.MethodPost && strings.HasSuffix(path, "/cutover")
}

// bounded gives each request its deadlines.
func (s *Server) bounded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		if r.ContentLength != 0 { // one that is there, or of unknown length
			control.SetReadDeadline(time.Now().Add(s.bodyTime)) //nolint:errcheck // then there is none
			r.Body = &timedBody{ReadCloser: r.Body, control: control}
		}
		if endless(r) {
			select {
			case s.streams <- struct{}{}:
				defer func() { <-s.streams }()
			default:
				w.Header().Set("Retry-After", "10")
				answerProblem(w, newProblem(http.StatusServiceUnavailable, "too-many-streams", fmt.Sprintf("%d answers without an end are open; there may be no more", cap(s.streams))))
				return
			}
			control.SetWriteDeadline(time.Now().Add(writeTime)) //nolint:errcheck // then there is none
			next.ServeHTTP(w, r)
			return
		}
		most := workTime
		if r.Method == http.MethodGet || r.Method == http.MethodHead || strings.HasSuffix(r.URL.Path, "/leases") {
			most = readTime
		}
		ctx, cancel := context.WithTimeout(r.Context(), most)
		defer cancel()
		control.SetWriteDeadline(time.Now().Add(most + writeTime)) //nolint:errcheck // then there is none
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// timedBody is a body that has to come within its time. With its end the deadline
// goes, or it would end what the handler does with it.
type timedBody struct {
	io.ReadCloser
	control *http.ResponseController
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err == io.EOF {
		b.control.SetReadDeadline(time.Time{}) //nolint:errcheck // the next request sets its own
	}
	return n, err
}

// knownOnly refuses what a route does not know in its query, rather than answer
// another question than was asked, and what no name can hold in its path.
func knownOnly(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		address := ctx.URL()
		if p := checkAddress(&address, ctx.Operation().Parameters); p != nil {
			huma.WriteErr(api, ctx, p.Status, p.Detail) //nolint:errcheck // the caller has gone
			return
		}
		next(ctx)
	}
}

// checkAddress compares a query with a route's parameters, and looks for what the
// state database takes in no text: U+0000, and bytes that are not UTF-8. Nil where
// all is well.
func checkAddress(u *url.URL, parameters []*huma.Param) *Problem {
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("the query %q is malformed: %v", u.RawQuery, err))
	}
	if why := notText(u.Path); why != "" {
		return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("the path %q %s", u.Path, why))
	}
	for name, values := range query {
		for _, value := range values {
			if why := notText(value); why != "" {
				return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("%s is %.100q, which %s", name, value, why))
			}
		}
	}
	var names []string
	for _, p := range parameters {
		if p.In == "query" {
			names = append(names, p.Name)
			if values := query[p.Name]; len(values) > 1 && p.Schema != nil && p.Schema.Type != "array" {
				return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("%s is given %d times, and can be given once", p.Name, len(values)))
			}
		}
	}
	for name := range query {
		if !slices.Contains(names, name) {
			told := "this route has no parameters"
			if len(names) > 0 {
				told = "there are " + strings.Join(names, ", ")
			}
			return newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, fmt.Sprintf("there is no parameter %q here: %s", name, told))
		}
	}
	return nil
}

// notText says why a text cannot be stored; empty where it can.
func notText(s string) string {
	switch {
	case !utf8.ValidString(s):
		return "is not UTF-8"
	case strings.ContainsRune(s, 0):
		return "has a character U+0000"
	}
	return ""
}

// readJSON reads a body, and refuses one with a U+0000 in a text, which the state
// database takes nowhere.
func readJSON(body []byte, v any) error {
	for i := 0; i+5 < len(body); i++ {
		if body[i] != '\\' {
			continue
		}
		if string(body[i+1:i+6]) == "u0000" {
			return fmt.Errorf("a text has a character U+0000, at byte %d: leave it out", i)
		}
		i++ // an escaped backslash begins no escape
	}
	return json.Unmarshal(body, v)
}

// live registers a route that is described by hand, with the same care for its query.
func (s *Server) live(op huma.Operation, handler http.HandlerFunc) {
	s.router.Method(op.Method, op.Path, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p := checkAddress(r.URL, op.Parameters); p != nil {
			answerProblem(w, p)
			return
		}
		handler(w, r)
	}))
	s.api.OpenAPI().AddOperation(&op)
}
