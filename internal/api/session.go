package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"rillmark/internal/catalog"
	"rillmark/internal/service"
	"rillmark/internal/service/base"
)

const (
	sessionCookie = "rillmark_session"
	// sessionFor is how long a person stays signed in.
	sessionFor = 12 * time.Hour
	// lookAgain is how long a session is believed before the state database is asked
	// again: another instance may have ended it.
	lookAgain = 30 * time.Second
	// maxKnown bounds the sessions and addresses that are remembered.
	maxKnown = 1000
)

// Failed logins are answered late: the first after firstWait, each further one of the
// same address within forgiveAfter after twice as long, up to lastWait. Right tokens
// never wait.
const (
	firstWait    = 250 * time.Millisecond
	lastWait     = 4 * time.Second
	forgiveAfter = time.Minute
	// maxWaiting is how many wait at a time; further ones are turned away at once.
	maxWaiting = 64
)

// door decides who may come in.
type door struct {
	service *service.Service
	token   string
	failed  atomic.Int64 // logins since the start

	mu       sync.Mutex
	sessions map[[sha256.Size]byte]seen
	wrong    map[string]*failures // by address
	waiting  int
	told     time.Time // of failures in the log of the run
	untold   int
}

// seen is a session as the state database had it.
type seen struct{ until, at time.Time }

// failures of one address.
type failures struct {
	count int
	last  time.Time
}

func newDoor(s *service.Service) *door {
	return &door{service: s, token: s.Config.Token, sessions: make(map[[sha256.Size]byte]seen), wrong: make(map[string]*failures)}
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// id is what a session is kept under: neither the cookie nor the token can be had
// from it, and it is another one under another token.
func (d *door) id(cookie string) [sha256.Size]byte {
	return sha256.Sum256([]byte("rillmark console session\x00" + cookie + "\x00" + d.token))
}

// session is when the session of a request ends; zero where there is none.
func (d *door) session(r *http.Request) time.Time {
	cookie, err := r.Cookie(sessionCookie)
	if err != nil {
		return time.Time{}
	}
	id := d.id(cookie.Value)
	d.mu.Lock()
	known := d.sessions[id]
	d.mu.Unlock()
	if time.Since(known.at) > lookAgain {
		ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
		defer cancel()
		until, err := d.service.Sessions.Until(ctx, id[:])
		switch {
		case err == nil:
			known = seen{until, time.Now()}
			d.remember(id, known)
		case errors.Is(err, catalog.ErrNotFound):
			d.forget(id)
			return time.Time{}
		}
		// With the state database away, one that was seen is believed until it ends.
	}
	if time.Now().After(known.until) {
		return time.Time{}
	}
	return known.until
}

func (d *door) remember(id [sha256.Size]byte, s seen) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.sessions) >= maxKnown {
		clear(d.sessions) // they are looked up again
	}
	d.sessions[id] = s
}

func (d *door) forget(id [sha256.Size]byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.sessions, id)
}

// authenticate requires the token on every call where one is set. The console's
// own files, which hold no data, and the sign of life go without.
func (d *door) authenticate(next http.Handler) http.Handler {
	if d.token == "" {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		open := r.URL.Path == "/healthz" || r.URL.Path == "/v1/session"
		guarded := !open && (strings.HasPrefix(r.URL.Path, "/v1/") || r.URL.Path == "/metrics" || r.URL.Path == "/readyz")
		if !guarded || bearer && same(given, d.token) || !d.session(r).IsZero() {
			next.ServeHTTP(w, r)
			return
		}
		p := newProblem(http.StatusUnauthorized, "token-required", "this service requires its token")
		p.Fix = "send it as Authorization: Bearer …; the client takes it from RILLMARK_TOKEN"
		if bearer && !d.delay(w, r) {
			return
		}
		w.Header().Set("WWW-Authenticate", `Bearer realm="rillmark"`)
		answerProblem(w, p)
	})
}

// delay counts a failed login, and waits as long as its address has earned; false
// where the request was turned away.
func (d *door) delay(w http.ResponseWriter, r *http.Request) bool {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = r.RemoteAddr
	}
	d.failed.Add(1)
	d.mu.Lock()
	now := time.Now()
	one := d.wrong[from]
	if one == nil || now.Sub(one.last) > forgiveAfter {
		if len(d.wrong) >= maxKnown {
			clear(d.wrong)
		}
		one = new(failures)
		d.wrong[from] = one
	}
	wait := min(firstWait<<min(one.count, 8), lastWait)
	one.count++
	one.last = now
	d.untold++
	tell := 0
	if now.Sub(d.told) > forgiveAfter {
		tell, d.untold, d.told = d.untold, 0, now
	}
	full := d.waiting >= maxWaiting
	if !full {
		d.waiting++
	}
	d.mu.Unlock()
	if tell > 0 {
		d.service.Log("warn", "service", "login-failed", "a wrong token was given from "+from+"; failed logins since the last such line: "+strconv.Itoa(tell))
	}
	if full {
		w.Header().Set("Retry-After", "5")
		answerProblem(w, newProblem(http.StatusTooManyRequests, "too-many-logins", "too many wrong tokens are being given"))
		return false
	}
	defer func() {
		d.mu.Lock()
		d.waiting--
		d.mu.Unlock()
	}()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-r.Context().Done():
		return false
	}
}

// Session is how a person at the console is signed in.
type Session struct {
	Wanted bool       `json:"wanted"`          // the service has a token
	Until  *time.Time `json:"until,omitempty"` // when the session ends; absent without one
}

// open gives the console a cookie for the token that a person typed.
func (d *door) open(w http.ResponseWriter, r *http.Request) {
	var body struct {
		Token string `json:"token"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&body); err != nil {
		answerProblem(w, newProblem(http.StatusBadRequest, "bad-request", "the body is not JSON with a token"))
		return
	}
	if d.token == "" || !same(body.Token, d.token) {
		if d.delay(w, r) {
			answerProblem(w, newProblem(http.StatusUnauthorized, "token-wrong", "this is not the service's token"))
		}
		return
	}
	var secret [32]byte
	rand.Read(secret[:]) // never fails
	cookie := base64.RawURLEncoding.EncodeToString(secret[:])
	id, until := d.id(cookie), time.Now().Add(sessionFor)
	if err := d.service.Sessions.Open(r.Context(), id[:], until); err != nil {
		answerProblem(w, problem(base.Answer(err, "session", "")).(*Problem))
		return
	}
	d.remember(id, seen{until, time.Now()})
	http.SetCookie(w, d.cookie(cookie, int(sessionFor/time.Second)))
	w.WriteHeader(http.StatusNoContent)
}

func (d *door) cookie(value string, seconds int) *http.Cookie {
	return &http.Cookie{Name: sessionCookie, Value: value, Path: "/", HttpOnly: true, MaxAge: seconds,
		SameSite: http.SameSiteStrictMode, Secure: strings.HasPrefix(d.service.Config.PublicURL, "https://")}
}

// look answers whether somebody is signed in.
func (d *door) look(w http.ResponseWriter, r *http.Request) {
	told := Session{Wanted: d.token != ""}
	if until := d.session(r); told.Wanted && !until.IsZero() {
		told.Until = &until
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	json.NewEncoder(w).Encode(told) //nolint:errcheck // the caller has gone
}

// end signs out.
func (d *door) end(w http.ResponseWriter, r *http.Request) {
	if cookie, err := r.Cookie(sessionCookie); err == nil {
		id := d.id(cookie.Value)
		if err := d.service.Sessions.End(r.Context(), id[:]); err != nil {
			answerProblem(w, problem(base.Answer(err, "session", "")).(*Problem))
			return
		}
		d.forget(id)
	}
	http.SetCookie(w, d.cookie("", -1))
	w.WriteHeader(http.StatusNoContent)
}
