// Package registry registers Avro schemas where a broker's ordinary consumers
// look them up: a registry that takes a schema for a subject by POST and gives
// it a number.
package registry

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"rillmark/internal/engine"
	"rillmark/internal/netguard"
)

// Client talks to one registry.
type Client struct {
	address string
	http    *http.Client
}

// New makes a client of the registry at an address. TLS is how its certificate is
// checked; the system's own roots are trusted where it is nil.
func New(address string, secure *tls.Config, dial netguard.Dial) *Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if secure != nil {
		transport.TLSClientConfig = secure
	}
	transport.DialContext, transport.Proxy = dial, nil // the address that is dialled is looked at
	transport.IdleConnTimeout = 10 * time.Second
	return &Client{strings.TrimSuffix(address, "/"), &http.Client{Timeout: 10 * time.Second, Transport: transport}}
}

// Register stores a schema under a subject and gives its number; the same schema
// gets the same one.
func (c *Client) Register(ctx context.Context, subject, schema string) (uint32, error) {
	body, err := json.Marshal(map[string]string{"schema": schema})
	if err != nil {
		return 0, err
	}
	address := c.address + "/subjects/" + url.PathEscape(subject) + "/versions"
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Content-Type", "application/json")
	response, err := c.http.Do(r)
	if err != nil {
		return 0, &engine.Fault{Code: "registry", Message: "the schema registry does not answer", Cause: err}
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	said, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return 0, &engine.Fault{Code: "registry", Message: "the schema registry does not answer", Cause: err}
	}
	var answer struct {
		ID      *uint32 `json:"id"`
		Message string  `json:"message"`
	}
	if err := json.Unmarshal(said, &answer); err != nil || response.StatusCode >= 300 || answer.ID == nil {
		return 0, &engine.Fault{Code: "registry", Message: fmt.Sprintf("the schema registry does not take the schema of %s: %s %s", subject, response.Status, answer.Message),
			Fix: "where it calls the schema incompatible, relax the subject's compatibility there, or leave the changed columns out; delivery goes on by itself"}
	}
	return *answer.ID, nil
}

// Frame is what stands before a value: a zero byte and the schema's number.
func (c *Client) Frame(ctx context.Context, subject, schema string) ([]byte, error) {
	id, err := c.Register(ctx, subject, schema)
	if err != nil {
		return nil, err
	}
	return binary.BigEndian.AppendUint32([]byte{0}, id), nil
}
