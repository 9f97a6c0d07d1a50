// Package registry registers Avro schemas where a broker's ordinary consumers
// look them up: a registry that takes a schema for a subject by POST and gives
// it a number.
package registry

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/sr"

	"rillmark/internal/engine"
	"rillmark/internal/farend"
	"rillmark/internal/netguard"
)

// Refused is a fault of a schema that the registry does not take as the next one of its
// subject.
type Refused struct{ *engine.Fault }

// Unwrap has the fault be found.
func (r *Refused) Unwrap() error { return r.Fault }

// Client talks to one registry.
type Client struct {
	client  *sr.Client
	mu      sync.Mutex
	refused map[string]refusal // by subject and schema, for a moment: events come by thousands
}

type refusal struct {
	err   error
	until time.Time
}

// refusedFor is how long the registry is not asked again for what it has refused.
const refusedFor = time.Second

// mostAnswer is what a registry's answer may have, in bytes.
const mostAnswer = 8 << 20

// New makes a client of the registry at an address. TLS is how its certificate is
// checked; the system's own roots are trusted where it is nil.
func New(address string, secure *tls.Config, dial netguard.Dial) (*Client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if secure != nil {
		transport.TLSClientConfig = secure
	}
	transport.DialContext, transport.Proxy = dial, nil // the address that is dialled is looked at
	transport.IdleConnTimeout = 10 * time.Second
	client, err := sr.NewClient(sr.URLs(address), sr.UserAgent("rillmark"), sr.HTTPClient(&http.Client{Timeout: 10 * time.Second, Transport: farend.Transport(transport, mostAnswer)}))
	return &Client{client: client, refused: make(map[string]refusal)}, err
}

// Register stores a schema under a subject and gives its number; the same schema
// gets the same one.
func (c *Client) Register(ctx context.Context, subject, schema string) (uint32, error) {
	id, err := c.client.RegisterSchema(ctx, subject, sr.Schema{Schema: schema}, -1, -1)
	var refused *sr.ResponseError
	switch {
	case errors.As(err, &refused):
		fault := &engine.Fault{Code: "registry", Message: fmt.Sprintf("the schema registry does not take the schema of %s: %d %s", subject, refused.StatusCode, refused.Error()),
			Fix: "where it calls the schema incompatible, relax the subject's compatibility there, or leave the changed columns out; delivery goes on by itself"}
		if refused.StatusCode == http.StatusConflict || refused.StatusCode == http.StatusUnprocessableEntity {
			return 0, &Refused{fault}
		}
		return 0, fault
	case err != nil:
		return 0, &engine.Fault{Code: "registry", Message: "the schema registry does not answer", Cause: err}
	case id <= 0 || int64(id) > 1<<31-1:
		return 0, &engine.Fault{Code: "registry", Message: fmt.Sprintf("the schema registry gives the schema of %s no number", subject), Fix: "is there a schema registry at this address?"}
	}
	return uint32(id), nil
}

// Incompatible says why a subject would not take a schema as its next version, and by which of
// its rules; empty where it would.
func (c *Client) Incompatible(ctx context.Context, subject, schema string) (why string, err error) {
	found, err := c.client.CheckCompatibility(sr.WithParams(ctx, sr.Verbose), subject, -1, sr.Schema{Schema: schema})
	var refused *sr.ResponseError
	if errors.As(err, &refused) && refused.StatusCode == http.StatusNotFound {
		return "", nil // there is no version of it yet
	}
	if err != nil || found.Is {
		return "", err
	}
	level := "its rule"
	if levels := c.client.Compatibility(sr.WithParams(ctx, sr.DefaultToGlobal), subject); len(levels) > 0 && levels[0].Err == nil {
		level = levels[0].Level.String()
	}
	return strings.TrimSpace(level + " forbids it: " + strings.Join(found.Messages, "; ")), nil
}

// Newest is the newest schema of a subject, and its number.
func (c *Client) Newest(ctx context.Context, subject string) (id uint32, schema string, err error) {
	found, err := c.client.SchemaByVersion(ctx, subject, -1)
	var refused *sr.ResponseError
	switch {
	case errors.As(err, &refused) && refused.StatusCode == http.StatusNotFound:
		return 0, "", &Refused{&engine.Fault{Code: "registry", Message: fmt.Sprintf("the schema registry has no schema of %s", subject), Fix: "register one, or let subject name another one"}}
	case err != nil:
		return 0, "", &engine.Fault{Code: "registry", Message: "the schema registry does not answer", Cause: err}
	case found.ID <= 0 || int64(found.ID) > 1<<31-1 || found.Type != sr.TypeAvro:
		return 0, "", &engine.Fault{Code: "registry", Message: fmt.Sprintf("what the schema registry has of %s is no Avro schema", subject), Fix: "let subject name another one"}
	}
	return uint32(found.ID), found.Schema.Schema, nil
}

// Frame is what stands before a value: a zero byte and the schema's number.
func Frame(id uint32) []byte { return binary.BigEndian.AppendUint32([]byte{0}, id) }

// Frame registers a schema, and gives what stands before its values.
func (c *Client) Frame(ctx context.Context, subject, schema string) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	known := subject + "\x00" + schema
	if last := c.refused[known]; time.Now().Before(last.until) {
		return nil, last.err
	}
	clear(c.refused)
	id, err := c.Register(ctx, subject, schema)
	if errors.As(err, new(*Refused)) {
		c.refused[known] = refusal{err, time.Now().Add(refusedFor)}
	}
	if err != nil {
		return nil, err
	}
	return Frame(id), nil
}
