package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/stretchr/testify/require"

	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// TestALateRefusal: what was long at work and then failed says so, though the time of its answer has
// passed meanwhile.
func TestALateRefusal(t *testing.T) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		lines := newLines(w)
		lines.control.SetWriteDeadline(time.Now().Add(-time.Second)) //nolint:errcheck // it can
		lines.end(r, &engine.Fault{Code: "cannot-verify", Message: "its source is not read"}, nil, func(p *Problem) any { return p })
	}))
	defer web.Close()
	response, err := http.Get(web.URL)
	require.NoError(t, err)
	defer response.Body.Close() //nolint:errcheck // it was only read
	raw, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.Contains(t, string(raw), "its source is not read")
	require.GreaterOrEqual(t, response.StatusCode, 400)
}

// TestSlowBodies: reading a body has a deadline. A body that arrives in time leaves no
// deadline on the handler's work.
func TestSlowBodies(t *testing.T) {
	s := &Server{streams: make(chan struct{}, 1), bodyTime: 100 * time.Millisecond}
	read := make(chan error, 1)
	web := httptest.NewServer(s.bounded(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, err := io.ReadAll(r.Body)
		read <- err
		w.WriteHeader(http.StatusNoContent)
	})))
	defer web.Close()
	conn, err := net.Dial("tcp", web.Listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close() //nolint:errcheck // it was only written to
	_, err = conn.Write([]byte("POST /v1/sources/a HTTP/1.1\r\nHost: a\r\nContent-Length: 10\r\n\r\n{"))
	require.NoError(t, err)
	require.ErrorIs(t, <-read, os.ErrDeadlineExceeded)
	response, err := http.Post(web.URL, "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, response.StatusCode)
	require.NoError(t, <-read)
}

// TestAnswersWithoutAnEnd: the number of open streams is limited, and a closed stream
// makes room for another.
func TestAnswersWithoutAnEnd(t *testing.T) {
	s := &Server{streams: make(chan struct{}, 2), bodyTime: time.Minute}
	begun, end := make(chan struct{}), make(chan struct{})
	web := httptest.NewServer(s.bounded(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if endless(r) {
			w.(http.Flusher).Flush()
			begun <- struct{}{}
			<-end
		}
	})))
	defer web.Close()
	ask := func(path string) int {
		response, err := http.Get(web.URL + path)
		require.NoError(t, err)
		defer response.Body.Close() //nolint:errcheck // it was only read
		if response.StatusCode == http.StatusServiceUnavailable {
			require.Equal(t, "10", response.Header.Get("Retry-After"))
		}
		return response.StatusCode
	}
	for _, path := range []string{"/v1/sources/a/stream", "/v1/sources/a/try"} {
		go http.Get(web.URL + path) //nolint:errcheck,bodyclose // it is held open
		<-begun
	}
	require.Equal(t, http.StatusServiceUnavailable, ask("/v1/outlets/a/stream"))
	require.Equal(t, http.StatusOK, ask("/v1/status"), "requests with an end are still answered")
	close(end)
	require.Eventually(t, func() bool { return len(s.streams) == 0 }, time.Minute, time.Millisecond)
	answered := make(chan int, 1)
	go func() { answered <- ask("/v1/outlets/a/stream") }()
	<-begun
	require.Equal(t, http.StatusOK, <-answered)
}

func TestQueries(t *testing.T) {
	list := &huma.Schema{Type: "array"}
	known := []*huma.Param{{Name: "table", In: "query", Schema: list}, {Name: "from", In: "query", Schema: &huma.Schema{Type: "string"}}, {Name: "name", In: "path"}}
	for query, told := range map[string]string{"": "", "from=1": "", "table=a&table=b": "", "from=1&from=2": "given 2 times", "tables=a": "there are table, from", "name=a": "no parameter", "a=%zz": "malformed", "from=1;table=b": "malformed",
		"from=a%00": "U+0000", "table=a&table=%FF": "not UTF-8"} {
		p := checkAddress(&url.URL{RawQuery: query}, known)
		if told == "" {
			require.Nil(t, p, query)
			continue
		}
		require.NotNil(t, p, query)
		require.Equal(t, http.StatusUnprocessableEntity, p.Status)
		require.Contains(t, p.Detail, told, query)
	}
	require.Contains(t, checkAddress(&url.URL{RawQuery: "a=1"}, nil).Detail, "has no parameters")
	require.Contains(t, checkAddress(&url.URL{Path: "/v1/outlets/a\x00"}, nil).Detail, `the path "/v1/outlets/a\x00" has a character U+0000`)
}

// TestBodiesWithoutText: an escape of U+0000 is found wherever it stands, and a
// backslash before "u0000" is not taken for one.
func TestBodiesWithoutText(t *testing.T) {
	for body, told := range map[string]string{`{"a":"\u0000"}`: "at byte 6", `{"\u0000":1}`: "at byte 2", `["\\\u0000"]`: "at byte 4", `["\\u0000"]`: "", `"\u00001"`: "U+0000", `"\u00010000"`: "", `"\u000`: "invalid character", `"\\`: "unexpected end", ``: "unexpected end"} {
		var v any
		err := readJSON([]byte(body), &v)
		if told == "" {
			require.NoError(t, err, body)
			continue
		}
		require.ErrorContains(t, err, told, body)
	}
}

// TestEventPages: events go through byte by byte, however deep they are nested.
func TestEventPages(t *testing.T) {
	deep := strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000)
	committed := int64(7)
	for _, page := range []EventPage{{Passed: 4}, {Events: []json.RawMessage{json.RawMessage(`{"a": 1.50}`), json.RawMessage(deep)}, Passed: 9, Committed: &committed}} {
		read, err := ParseEventPage(page.AppendJSON(nil))
		require.NoError(t, err)
		require.Equal(t, page, read)
	}
	for _, torn := range []string{"", "{", `{"events":[}`, `{"passed":"a"}`} {
		_, err := ParseEventPage([]byte(torn))
		require.Error(t, err, torn)
	}
	until := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	leased := LeasedEvents{Events: []json.RawMessage{json.RawMessage(`{"a":1}`)}, Lease: "x", First: 1, Last: 2, Until: &until}
	require.Equal(t, `{"events":[{"a":1}],"lease":"x","first":1,"last":2,"until":"2026-11-25T09:00:00Z"}`, string(leased.AppendJSON(nil)))
}

// TestProblems: each fault has its HTTP status and keeps its code.
func TestProblems(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		code   string
	}{
		{&engine.Fault{Code: base.CodeNotFound, Message: "m"}, 404, base.CodeNotFound},
		{&engine.Fault{Code: base.CodeNameTaken, Message: "m"}, 409, base.CodeNameTaken},
		{&engine.Fault{Code: base.CodeRunning, Message: "m"}, 409, base.CodeRunning},
		{&engine.Fault{Code: base.CodeOffsetOutside, Message: "m", Fix: "f"}, 422, base.CodeOffsetOutside},
		{&engine.Fault{Code: base.CodeStateDatabase, Message: "m"}, 503, base.CodeStateDatabase},
		{&definition.Invalid{Location: "tables[0].match", Message: "m"}, 422, base.CodeInvalid},
		{fmt.Errorf("outer: %w", &engine.Fault{Code: base.CodeInUse, Message: "m"}), 409, base.CodeInUse},
	} {
		var p *Problem
		require.True(t, errors.As(problem(c.err), &p), "%v", c.err)
		require.Equal(t, c.status, p.Status, "%v", c.err)
		require.Equal(t, c.code, p.Code, "%v", c.err)
	}
	require.NoError(t, problem(nil))
}

// TestTornAnswers: an aborted answer is an error for the caller. A panic before the
// answer is a 500, and the log has its stack.
func TestTornAnswers(t *testing.T) {
	var log strings.Builder
	logger := slog.New(slog.NewTextHandler(&log, nil))
	web := httptest.NewServer(chi.Chain(middleware.RequestID, tellID, recoverer(logger)).HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/torn" {
			w.Write([]byte("a part")) //nolint:errcheck // the caller is there
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		}
		panic("of a test")
	}))
	defer web.Close()
	response, err := http.Get(web.URL + "/torn")
	require.NoError(t, err)
	_, err = io.ReadAll(response.Body)
	require.Error(t, err, "it must not look whole")
	response, err = http.Get(web.URL + "/other")
	require.NoError(t, err)
	require.Equal(t, http.StatusInternalServerError, response.StatusCode)
	require.Contains(t, log.String(), "TestTornAnswers", "the stack is there")
	id := response.Header.Get(middleware.RequestIDHeader)
	require.NotEmpty(t, id)
	require.Contains(t, log.String(), id, "the caller has what the log says it under")
}

// TestCallers: the log names the client, the console or the API by the request's headers.
func TestCallers(t *testing.T) {
	for agent, want := range map[string]string{"rillmark/1.2": "the client", "curl/8.5 (linux)": "the API, curl/8.5", "": "the API"} {
		var by string
		r := httptest.NewRequest(http.MethodPost, "/", nil)
		r.Header.Set("User-Agent", agent)
		r.RemoteAddr = "127.0.0.1:9"
		named(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { by = base.Caller(r.Context()) })).ServeHTTP(httptest.NewRecorder(), r)
		require.Equal(t, want, by)
		r.RemoteAddr = "10.1.2.3:9"
		r.Header.Set("Sec-Fetch-Site", "same-origin")
		named(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { by = base.Caller(r.Context()) })).ServeHTTP(httptest.NewRecorder(), r)
		require.Contains(t, by, " at 10.1.2.3")
	}
}
