package cli

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

// refusal is a problem document that the service answered with.
type refusal struct{ api.Problem }

func (r *refusal) Error() string { return faultText(r.Detail, r.Fix) }

// request builds one call; body, where not nil, is marshalled unless it is bytes.
func (a *app) request(ctx context.Context, method, path string, body any) (*http.Request, error) {
	base, err := url.Parse(a.server)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, usage("--server %q is no address of a service: write http://127.0.0.1:7450", a.server)
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
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.server, "/")+path, reader)
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", "rillmark/"+Version)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if token := os.Getenv("RILLMARK_TOKEN"); token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	return r, nil
}

func (a *app) send(r *http.Request) (*http.Response, error) {
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		if r.Context().Err() != nil {
			return nil, context.Cause(r.Context())
		}
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return nil, &coded{exitUnreachable, fmt.Errorf("no service answers at %s: %w. Fix: start one with `rillmark serve`, or say where it is with --server", a.server, err)}
	}
	if response.StatusCode < 400 {
		return response, nil
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	raw, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	refused := new(refusal)
	if err := json.Unmarshal(raw, &refused.Problem); err != nil || refused.Detail == "" {
		return nil, &coded{exitFailed, fmt.Errorf("%s answers %s, not as Rillmark does", a.server, response.Status)}
	}
	code := exitRefused
	if response.StatusCode >= 500 {
		code = exitFailed
	}
	return nil, &coded{code, refused}
}

// call makes one call and reads its answer into into, where that is not nil. It
// returns the answer as it came.
func (a *app) call(ctx context.Context, method, path string, body, into any) ([]byte, error) {
	r, err := a.request(ctx, method, path, body)
	if err != nil {
		return nil, err
	}
	return a.finish(r, into)
}

func (a *app) finish(r *http.Request, into any) ([]byte, error) {
	response, err := a.send(r)
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
			return nil, fmt.Errorf("%s answers in a form that this client does not know: %w", a.server, err)
		}
	}
	return raw, nil
}

// events reads a live stream until ctx is done. take gets each event's data,
// which is good during the call only. Where the connection is lost it is opened
// again, behind the last event that came.
func (a *app) events(ctx context.Context, path string, resumes bool, take func(data []byte) error) error {
	last, lost := "", false
	for {
		r, err := a.request(ctx, http.MethodGet, path, nil)
		if err != nil {
			return err
		}
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		response, err := a.send(r)
		var c *coded
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && lost && errors.As(err, &c) && c.code == exitUnreachable:
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
			return &coded{exitUnreachable, errors.New("the stream was interrupted before its end: what was shown is a part")}
		}
		if !lost {
			fmt.Fprintln(a.err, "the stream was interrupted; it goes on when the service answers again") //nolint:errcheck // a closed terminal
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
				refused := new(refusal)
				if err := json.Unmarshal(value, &refused.Problem); err != nil {
					return last, err
				}
				return last, &coded{exitFailed, refused}
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
