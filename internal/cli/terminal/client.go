package terminal

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"rillmark/internal/api"
)

// Refusal is a problem document that the service answered with.
type Refusal struct{ api.Problem }

// Error implements error.
func (r *Refusal) Error() string { return faultText(r.Detail, r.Fix) }

// Request builds one call; body, where not nil, is marshalled unless it is bytes.
func (s *Session) Request(ctx context.Context, method, path string, body any) (*http.Request, error) {
	base, err := url.Parse(s.Server)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, Usage("--server %q is no address of a service: write http://127.0.0.1:7450", s.Server)
	}
	var reader io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		reader = bytes.NewReader(b)
	default:
		encoded, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		reader = bytes.NewReader(encoded)
	}
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(s.Server, "/")+path, reader)
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", "rillmark/"+s.version)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if token := os.Getenv("RILLMARK_TOKEN"); token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	return r, nil
}

// Send makes a call; an answer that is a refusal is an error with its exit code. The caller
// closes the body.
func (s *Session) Send(r *http.Request) (*http.Response, error) {
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		if r.Context().Err() != nil {
			return nil, context.Cause(r.Context())
		}
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return nil, &Coded{ExitUnreachable, fmt.Errorf("no service answers at %s: %w. Fix: start one with `rillmark serve`, or say where it is with --server", s.Server, err)}
	}
	if response.StatusCode < 400 {
		return response, nil
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	raw, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	refused := new(Refusal)
	if err := json.Unmarshal(raw, &refused.Problem); err != nil || refused.Detail == "" {
		return nil, &Coded{ExitFailed, fmt.Errorf("%s answers %s, not as Rillmark does", s.Server, response.Status)}
	}
	code := ExitRefused
	if response.StatusCode >= 500 {
		code = ExitFailed
	}
	return nil, &Coded{code, refused}
}

// Call makes one call and reads its answer into into, where that is not nil. It
// returns the answer as it came.
func (s *Session) Call(ctx context.Context, method, path string, body, into any) ([]byte, error) {
	r, err := s.Request(ctx, method, path, body)
	if err != nil {
		return nil, err
	}
	return s.Finish(r, into)
}

// Finish is Call for a request that is made already.
func (s *Session) Finish(r *http.Request, into any) ([]byte, error) {
	response, err := s.Send(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	raw, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	if into != nil {
		if err := json.Unmarshal(raw, into); err != nil {
			return nil, fmt.Errorf("%s answers in a form that this client does not know: %w", s.Server, err)
		}
	}
	return raw, nil
}

// Events reads a live stream until ctx is done. take gets each event's data,
// which is good during the call only. Where the connection is lost it is opened
// again, behind the last event that came.
func (s *Session) Events(ctx context.Context, path string, resumes bool, take func(data []byte) error) error {
	last, lost := "", false
	for {
		r, err := s.Request(ctx, http.MethodGet, path, nil)
		if err != nil {
			return err
		}
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		response, err := s.Send(r)
		var c *Coded
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && lost && errors.As(err, &c) && c.Code == ExitUnreachable:
		case err != nil:
			return err
		default:
			lost = false
			last, err = follow(response.Body, last, take)
			response.Body.Close() //nolint:errcheck // it was only read
			if errors.Is(err, errEnd) {
				return nil
			}
			if err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			return nil
		}
		if !resumes {
			return &Coded{ExitUnreachable, errors.New("the stream was interrupted before its end: what was shown is a part")}
		}
		if !lost {
			fmt.Fprintln(s.Err, "the stream was interrupted; it goes on when the service answers again") //nolint:errcheck // a closed terminal
			lost = true
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// errEnd is the end that a stream was asked for.
var errEnd = errors.New("the stream has ended")

// follow reads one connection's events and returns the last one's id. Its error
// is that the service refuses, or take's.
func follow(body io.Reader, last string, take func(data []byte) error) (string, error) {
	in := bufio.NewReaderSize(body, 64<<10)
	id, kind := "", ""
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			return last, nil
		}
		field, value, _ := bytes.Cut(bytes.TrimRight(line, "\r\n"), []byte(": "))
		switch string(field) {
		case "id":
			id = string(value)
		case "event":
			kind = string(value)
		case "data":
			if kind == "end" {
				return last, errEnd
			}
			if kind == "problem" {
				refused := new(Refusal)
				if err := json.Unmarshal(value, &refused.Problem); err != nil {
					return last, err
				}
				return last, &Coded{ExitFailed, refused}
			}
			if err := take(value); err != nil {
				return last, err
			}
			if id != "" {
				last = id
			}
		case "":
			id, kind = "", ""
			if len(value) > 0 {
				last = string(value) // a sign of life says how far the stream is
			}
		}
	}
}
