// Package farend looks at what far ends send before a library believes it: lengths and counts that
// would take all memory, work without an end, answers that do not stop. Each bound is far above what
// a server that keeps to its protocol sends.
package farend

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"rillmark/internal/netguard"
)

const (
	// MostAnswer is what an answer that is read whole may have, in bytes.
	MostAnswer = 64 << 20
	// mostLine is the length of a line of a protocol of lines, in bytes.
	mostLine = 1 << 20
	// mostElements are those of all lists of one answer that have not come yet.
	mostElements = 100_000
	// mostDeep is how deep lists may stand within each other.
	mostDeep = 32
	// MostIterations is how often a login may have the password hashed.
	MostIterations = 1_000_000
	// answerTime is how long the body of an answer may take.
	answerTime = 2 * time.Minute
)

// Nonsense is what a far end sent that nobody can mean.
type Nonsense struct{ what string }

// Error says what it was.
func (e *Nonsense) Error() string { return "the far end " + e.what }

func nonsense(format string, args ...any) error { return &Nonsense{fmt.Sprintf(format, args...)} }

// scanner looks at the bytes of one direction of a connection in their order.
type scanner interface{ scan(p []byte) error }

// watched is a connection of which what comes is looked at.
type watched struct {
	net.Conn
	scanner scanner
	failed  error
}

// Read implements [net.Conn].
func (c *watched) Read(p []byte) (int, error) {
	if c.failed != nil {
		return 0, c.failed
	}
	n, err := c.Conn.Read(p)
	if wrong := c.scanner.scan(p[:n]); wrong != nil {
		c.failed = wrong
		c.Close() //nolint:errcheck // what was found is the error
		return 0, wrong
	}
	return n, err
}

// Redis is a dialer whose connections speak RESP, encrypted or not.
func Redis(dial netguard.Dial) netguard.Dial {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &watched{Conn: conn, scanner: new(resp)}, nil
	}
}

// Doer is a client of HTTP.
type Doer interface {
	Do(r *http.Request) (*http.Response, error)
}

// HTTP bounds what bodies of answers have, in bytes, and how long they take.
func HTTP(by Doer, most int64) Doer { return &bounded{by, most} }

type bounded struct {
	by   Doer
	most int64
}

// Do implements [Doer].
func (b *bounded) Do(r *http.Request) (*http.Response, error) {
	answer, err := b.by.Do(r)
	if err != nil {
		return nil, err
	}
	return bound(answer, r.URL.Host, b.most)
}

// Transport is HTTP for what asks for a transport.
func Transport(by http.RoundTripper, most int64) http.RoundTripper { return &transport{by, most} }

type transport struct {
	by   http.RoundTripper
	most int64
}

// RoundTrip implements [http.RoundTripper].
func (t *transport) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := t.by.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	return bound(answer, r.URL.Host, t.most)
}

func bound(answer *http.Response, host string, most int64) (*http.Response, error) {
	if answer.Request != nil && answer.Request.Method == http.MethodHead {
		return answer, nil // it says what another one would have
	}
	if answer.ContentLength > most {
		answer.Body.Close() //nolint:errcheck // it is not read
		return nil, nonsense("answers with %d MiB, the limit is %d", answer.ContentLength>>20, most>>20)
	}
	body := &boundedBody{ReadCloser: answer.Body, left: most, most: most, host: host}
	body.timer = time.AfterFunc(answerTime, func() {
		body.late.Store(true)
		body.ReadCloser.Close() //nolint:errcheck // the read says what happened
	})
	answer.Body = body
	return answer, nil
}

type boundedBody struct {
	io.ReadCloser
	left, most int64
	host       string
	timer      *time.Timer
	late       atomic.Bool
}

// Read implements [io.Reader].
func (b *boundedBody) Read(p []byte) (int, error) {
	n, err := b.read(p)
	if err != nil && b.late.Load() {
		err = nonsense("at %s takes more than %s for an answer", b.host, answerTime)
	}
	return n, err
}

func (b *boundedBody) read(p []byte) (int, error) {
	if b.left == 0 {
		var one [1]byte
		if n, err := b.ReadCloser.Read(one[:]); n == 0 {
			return 0, err
		}
		return 0, nonsense("at %s answers with more than %d MiB", b.host, b.most>>20)
	}
	n, err := b.ReadCloser.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// Close implements [io.Closer].
func (b *boundedBody) Close() error {
	b.timer.Stop()
	return b.ReadCloser.Close()
}
