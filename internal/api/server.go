// Package api is Rillmark's HTTP interface: JSON under /v1, described at
// /v1/openapi.json, live streams as Server-Sent Events, metrics, health, and the
// console. It holds no logic of its own: package service answers.
package api

import (
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"rillmark/internal/config"
	"rillmark/internal/service"
	"rillmark/internal/service/base"
)

// maxBody bounds a request's body.
const maxBody = 1 << 20

// Server answers for one service.
type Server struct {
	service *service.Service
	version string
	console fs.FS
	router  chi.Router
	api     huma.API
	kinds   []Kind
	engines []Engine
	door    *door
	streams chan struct{} // one place for each answer without an end
	// bodyTime is what a request's body has to come in.
	bodyTime time.Duration
}

// New builds the handler. console is the built console, with index.html at its
// root; nil leaves it out.
func New(s *service.Service, version string, console fs.FS, logger *slog.Logger) *Server {
	server := &Server{service: s, version: version, console: console, router: chi.NewRouter(), door: newDoor(s), streams: make(chan struct{}, maxStreams), bodyTime: bodyTime}
	server.router.Use(middleware.RequestID, tellID, recoverer(logger), server.bounded, server.guardHost, securityHeaders, server.door.authenticate, named)
	server.describe()
	server.routes()
	return server
}

// OpenAPI is the description of the API as JSON, without a service behind it.
func OpenAPI(version string) ([]byte, error) {
	without := service.Describing()
	server := &Server{service: without, version: version, router: chi.NewRouter(), door: newDoor(without)}
	server.describe()
	server.routes()
	return json.MarshalIndent(server.api.OpenAPI(), "", " ")
}

// ServeHTTP implements [http.Handler].
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

func (s *Server) describe() {
	huma.NewError = humaProblem
	huma.DefaultArrayNullable = false // lists that are empty are sent as empty
	config := huma.DefaultConfig("Rillmark", s.version)
	config.Info.Description = "Captures row-level changes from the logs of databases and delivers them with resumable offsets."
	config.OpenAPIPath = "/v1/openapi"
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil // no $schema member in bodies
	asJSON := huma.Format{Unmarshal: readJSON, Marshal: func(w io.Writer, v any) error {
		if own, is := v.(interface{ AppendJSON([]byte) []byte }); is {
			_, err := w.Write(append(own.AppendJSON(nil), '\n'))
			return err
		}
		return huma.DefaultJSONFormat.Marshal(w, v)
	}}
	config.Formats = map[string]huma.Format{"application/json": asJSON, "json": asJSON}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer", Description: "Required where the service has a token"},
	}
	config.Components.Schemas = newRegistry()
	config.Transformers = append(config.Transformers, s.conceal)
	s.api = humachi.New(s.router, config)
	s.api.UseMiddleware(knownOnly(s.api))
}

// conceal takes out of errors what references and sealed texts stand for.
func (s *Server) conceal(_ huma.Context, _ string, v any) (any, error) {
	if p, is := v.(*Problem); is && s.service.Catalog != nil {
		hide := s.service.Catalog.Keeper.Conceal
		p.Detail, p.Fix = hide(p.Detail), hide(p.Fix)
		for i := range p.Errors {
			p.Errors[i].Message = hide(p.Errors[i].Message)
		}
	}
	return v, nil
}

func (s *Server) routes() {
	s.sourceRoutes()
	s.destinationRoutes()
	s.formRoutes()
	s.outletRoutes()
	s.deliveryRoutes()
	s.readingRoutes()
	s.rowHistoryRoutes()
	s.rowsAtRoutes()
	s.runRoutes()
	s.streamRoutes()
	s.trialRoutes()
	s.journalRoutes()
	s.verifyRoutes()
	s.whyRoutes()
	s.cutoverRoutes()
	s.impactRoutes()
	describeFields(s.api.OpenAPI().Components.Schemas)
	s.kinds, s.engines = kindsOf(s.api.OpenAPI().Components.Schemas), enginesOf(s.api.OpenAPI().Components.Schemas)
	s.router.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { answerText(w, http.StatusOK, "alive\n") })
	s.router.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		if err := s.service.Ready(r.Context()); err != nil {
			answerText(w, http.StatusServiceUnavailable, err.Error()+"\n")
			return
		}
		answerText(w, http.StatusOK, "ready\n")
	})
	s.router.Method(http.MethodGet, "/metrics", s.metrics())
	s.router.Get("/v1/session", s.door.look)
	s.router.Post("/v1/session", s.door.open)
	s.router.Delete("/v1/session", s.door.end)
	s.router.NotFound(s.serveConsole)
	s.router.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		answerProblem(w, newProblem(http.StatusMethodNotAllowed, "method", r.Method+" is not for "+r.URL.Path))
	})
}

func answerText(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	w.Write([]byte(text)) //nolint:errcheck // the caller has gone
}

func answerProblem(w http.ResponseWriter, p *Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p) //nolint:errcheck // the caller has gone
}

// tellID gives the caller the request's id, which the log has where the request fails.
func tellID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(middleware.RequestIDHeader, middleware.GetReqID(r.Context()))
		next.ServeHTTP(w, r)
	})
}

// recoverer answers for a handler that panics, with its stack in the log. An answer
// that has begun is torn, so that nobody takes it for a whole one.
func recoverer(logger *slog.Logger) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			watched := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
			defer func() {
				v := recover()
				if v == nil {
					return
				}
				if v == http.ErrAbortHandler {
					panic(v)
				}
				logger.Error("a request failed inside", "request", middleware.GetReqID(r.Context()), "path", r.URL.Path, "panic", v, "stack", string(debug.Stack()))
				if watched.Status() != 0 {
					panic(http.ErrAbortHandler)
				}
				answerProblem(w, newProblem(http.StatusInternalServerError, "internal", "the service failed at this request; its log says more, under "+middleware.GetReqID(r.Context())))
			}()
			if r.Body != nil {
				r.Body = http.MaxBytesReader(w, r.Body, maxBody)
			}
			next.ServeHTTP(watched, r)
		})
	}
}

func securityHeaders(next http.Handler) http.Handler {
	set := middleware.SetHeader("X-Content-Type-Options", "nosniff")
	frame := middleware.SetHeader("X-Frame-Options", "DENY")
	policy := middleware.SetHeader("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:")
	return set(frame(policy(next)))
}

// guardHost refuses, on a service without a token, requests that reach loopback
// under a foreign name or from a foreign page: a web page that a person visits
// must not be able to read or change anything here.
func (s *Server) guardHost(next http.Handler) http.Handler {
	public, _ := url.Parse(s.service.Config.PublicURL)
	known := func(host string) bool {
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.Trim(host, "[]")
		return config.Loopback(host) || public != nil && host == public.Hostname()
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.service.Config.Token == "" && !known(r.Host) {
			answerProblem(w, newProblem(http.StatusForbidden, "foreign-host", "this service answers on this machine's own names only, not as "+r.Host))
			return
		}
		if origin := r.Header.Get("Origin"); origin != "" && r.Method != http.MethodGet && r.Method != http.MethodHead {
			from, err := url.Parse(origin)
			if err != nil || from.Host != r.Host && !(public != nil && from.Host == public.Host) {
				answerProblem(w, newProblem(http.StatusForbidden, "foreign-origin", "a page of another site may not change anything here"))
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// compressed sends the console's text compressed where the browser takes that.
var compressed = middleware.Compress(6, "text/html", "text/css", "text/javascript", "application/javascript", "image/svg+xml")

// serveConsole serves the console's files; any other path is one of its pages.
func (s *Server) serveConsole(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/v1/") || s.console == nil || r.Method != http.MethodGet && r.Method != http.MethodHead {
		answerProblem(w, newProblem(http.StatusNotFound, base.CodeNotFound, "there is nothing at "+r.URL.Path))
		return
	}
	name := strings.TrimPrefix(r.URL.Path, "/")
	if info, err := fs.Stat(s.console, name); name != "" && err == nil && !info.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash
		}
		compressed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.ServeFileFS(w, r, s.console, name) })).ServeHTTP(w, r)
		return
	}
	if _, err := fs.Stat(s.console, "index.html"); err != nil {
		answerText(w, http.StatusNotFound, "this binary was built without the console; `make build` builds both\n")
		return
	}
	w.Header().Set("Cache-Control", "no-cache")
	http.ServeFileFS(w, r, s.console, "index.html")
}

// Serve listens until ctx is done, then calls drain, which ends what only waits, and
// lets requests end for up to grace. What has not ended by then is cut off.
func Serve(ctx context.Context, listener net.Listener, handler http.Handler, drain func(), grace time.Duration) error {
	requests, cancel := context.WithCancel(context.Background())
	defer cancel()
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return requests }}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	drain()
	last, stop := context.WithTimeout(context.Background(), grace)
	defer stop()
	if err := server.Shutdown(last); err != nil {
		cancel()
		server.Close() //nolint:errcheck // what is left has had its time
	}
	<-ended //nolint:errcheck // Shutdown has ended it: there is nothing to say
	return nil
}

// named notes through what a call comes, for the log of the run. It is what the caller
// says of itself.
func named(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		by := "the API"
		agent := r.UserAgent()
		switch {
		case strings.HasPrefix(agent, "rillmark/"):
			by = "the client"
		case r.Header.Get("Sec-Fetch-Site") == "same-origin":
			by = "the console"
		case agent != "":
			first, _, _ := strings.Cut(agent, " ")
			by += ", " + strings.ToValidUTF8(first[:min(len(first), 40)], "")
		}
		if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
			if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
				by += " at " + host
			}
		}
		next.ServeHTTP(w, r.WithContext(base.WithCaller(r.Context(), by)))
	})
}
