// Package http delivers to HTTP functions: one event or a list of events in the
// body of a POST, in the HTTP binding of CloudEvents, signed by the Standard
// Webhooks scheme where there is a key.
//
// The answer's status decides: 2xx, the events are taken; 408, 425, 429, 502, 503
// and 504, all of them another time, after Retry-After where the answer has it;
// any other 5xx, the function failed at these events, another time; the rest,
// refused. A list that is refused or failed at is halved until the bad event
// stands alone.
package http

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	nethttp "net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
	"rillmark/internal/guard"
	"rillmark/internal/netguard"
	"rillmark/internal/settings"
)

// Destination is an address that takes events.
type Destination struct {
	settings *Settings
	options  *OutletSettings
	format   encode.Format
	dial     netguard.Dial
	allowed  func(address string) error
}

var (
	_ destination.Destination = (*Destination)(nil)
	_ destination.Framer      = (*Destination)(nil)
)

// Capabilities implements [destination.Destination].
func (d *Destination) Capabilities() encode.Capabilities {
	return encode.Capabilities{Order: true, Headers: true}
}

func (d *Destination) client() (*nethttp.Client, error) {
	config, err := destination.TLSConfig(d.settings.TLS)
	if err != nil {
		return nil, err
	}
	limit, err := d.settings.limit()
	if err != nil {
		return nil, err
	}
	transport := &nethttp.Transport{DialContext: d.dial, TLSClientConfig: config, MaxIdleConnsPerHost: max(d.options.InFlight, 1),
		IdleConnTimeout: 90 * time.Second, ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 64 << 10}
	return &nethttp.Client{Transport: transport, Timeout: limit, CheckRedirect: func(*nethttp.Request, []*nethttp.Request) error {
		return nethttp.ErrUseLastResponse // the signed request is for this address
	}}, nil
}

// Check implements [destination.Destination]: it asks what the address allows,
// and posts nothing.
func (d *Destination) Check(ctx context.Context) []change.Check {
	checks := []change.Check{d.checkAddress(ctx)}
	if checks[0].Verdict == change.Missing {
		return checks
	}
	signed := change.Check{Name: "signature", Verdict: change.Good, Found: "requests are signed"}
	if d.settings.SignKey == "" {
		signed.Verdict, signed.Found, signed.Why, signed.Fix = change.Note, "requests are not signed", "the function cannot tell our events from somebody else's", "set sign_key, and check the header webhook-signature there"
	} else if _, err := signKey(d.settings.SignKey); err != nil {
		signed.Verdict, signed.Found = change.Missing, err.Error()
	}
	return append(checks, signed, d.checkAnswer(ctx))
}

func (d *Destination) checkAddress(ctx context.Context) change.Check {
	c := change.Check{Name: "address", Verdict: change.Good}
	u, err := url.Parse(d.settings.URL)
	if err != nil {
		c.Verdict, c.Found = change.Missing, err.Error()
		return c
	}
	addresses, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	if err != nil {
		c.Verdict, c.Found, c.Fix = change.Missing, "the name "+u.Hostname()+" leads nowhere", "check the name, and the name servers of the service's machine"
		return c
	}
	for _, a := range addresses {
		if err := d.allowed(net.JoinHostPort(a.String(), "0")); err != nil {
			c.Verdict, c.Found = change.Missing, fmt.Sprintf("%s leads to %s", u.Hostname(), a.Unmap())
			c.Why, c.Fix = "whoever defines a destination could reach what only this machine may reach", err.Error()
			return c
		}
	}
	c.Found = fmt.Sprintf("%s leads to %s", u.Hostname(), addresses[0].Unmap())
	if u.Scheme == "http" {
		c.Verdict, c.Why, c.Fix = change.Note, "without TLS, events and token can be read on the way", "use https, unless the network is trusted"
	}
	return c
}

// checkAnswer asks with OPTIONS: it reaches the function without an event.
func (d *Destination) checkAnswer(ctx context.Context) change.Check {
	c := change.Check{Name: "answer", Verdict: change.Good}
	client, err := d.client()
	if err != nil {
		c.Verdict, c.Found = change.Missing, err.Error()
		return c
	}
	defer client.CloseIdleConnections()
	r, err := nethttp.NewRequestWithContext(ctx, nethttp.MethodOptions, d.settings.URL, nil)
	if err != nil {
		c.Verdict, c.Found = change.Missing, err.Error()
		return c
	}
	d.common(r)
	response, err := client.Do(r)
	if err != nil {
		c.Verdict, c.Found, c.Why = change.Missing, bare(err), "nothing can be delivered"
		c.Fix = "check that the function runs, and the section tls"
		return c
	}
	drain(response)
	c.Found = "answers OPTIONS with " + response.Status
	switch {
	case response.StatusCode == nethttp.StatusUnauthorized || response.StatusCode == nethttp.StatusForbidden:
		c.Verdict, c.Why, c.Fix = change.Missing, "it does not know us", "set token or headers"
	case response.StatusCode == nethttp.StatusNotFound:
		c.Verdict, c.Why, c.Fix = change.Missing, "nothing takes events there", "check the path of the address"
	case response.StatusCode >= 500:
		c.Verdict, c.Why = change.Note, "the function may be failing"
	}
	return c
}

func drain(r *nethttp.Response) []byte {
	said, _ := io.ReadAll(io.LimitReader(r.Body, 2048))
	io.Copy(io.Discard, io.LimitReader(r.Body, 1<<20)) //nolint:errcheck // so that the connection can be used again
	r.Body.Close()                                     //nolint:errcheck // it was only read
	return said
}

// bare is an error of the client without the address, which is known.
func bare(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	if refused := netguard.IsRefused(err); refused != nil {
		return refused.Error()
	}
	return err.Error()
}

func (d *Destination) common(r *nethttp.Request) {
	r.Header.Set("User-Agent", "rillmark")
	for name, value := range d.settings.Headers {
		r.Header.Set(name, value)
	}
	if d.settings.Token != "" {
		r.Header.Set("Authorization", "Bearer "+d.settings.Token)
	}
}

// signKey is the key behind whsec_ and base64.
func signKey(text string) ([]byte, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(text, "whsec_"))
	if err != nil || len(key) < 24 || len(key) > 64 {
		return nil, errors.New("the key for signing is not whsec_ and 24 to 64 bytes in base64")
	}
	return key, nil
}

// Open implements [destination.Destination].
func (d *Destination) Open(_ context.Context, o destination.Outlet) (destination.Writer, error) {
	w := &writer{Destination: d, outlet: o, at: o.Committed}
	var err error
	if d.settings.SignKey != "" {
		if w.key, err = signKey(d.settings.SignKey); err != nil {
			return nil, &engine.Fault{Code: "secret", Message: "the destination's requests cannot be signed", Cause: err}
		}
	}
	if w.http, err = d.client(); err != nil {
		return nil, err
	}
	return w, nil
}

type writer struct {
	*Destination
	outlet destination.Outlet
	http   *nethttp.Client
	key    []byte
	at     int64
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// Flush implements [destination.Writer].
func (w *writer) Flush(context.Context, bool) (int64, error) { return w.at, nil }

// Close implements [destination.Writer].
func (w *writer) Close() error {
	w.http.CloseIdleConnections()
	return nil
}

// later is an answer that asks for another try.
type later struct {
	error
	after time.Duration
	// event says that the function failed at what was posted, not altogether.
	event bool
}

// RetryAfter is how long the answer asks to wait; 0 where it does not say.
func (l *later) RetryAfter() time.Duration { return l.after }

// Unwrap is the error underneath.
func (l *later) Unwrap() error { return l.error }

// Send implements [destination.Writer]. Lanes of rows work side by side; rows of
// one lane follow each other. A message that is alone waits for all lanes.
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	var refused []destination.Refusal
	messages := batch.Messages
	lanes := make([]lane, max(w.options.InFlight, 1))
	for i := range lanes {
		lanes[i].behind = destination.NewBehind(w.outlet.Wait)
	}
	for from := 0; from < len(messages); {
		to := from
		for to < len(messages) && !messages[to].Barrier {
			to++
		}
		if to == from {
			to++ // one that is alone
		}
		found, err := w.section(ctx, messages, from, to, lanes)
		if err != nil {
			return nil, err
		}
		refused = append(refused, found...)
		from = to
	}
	w.at = batch.Last
	slices.SortFunc(refused, func(a, b destination.Refusal) int { return a.Index - b.Index })
	return refused, nil
}

// lane posts the messages of some rows one after the other.
type lane struct {
	// behind is of the whole batch: a row's events wait for a refused one across barriers.
	behind *destination.Behind
	part   []int
}

// section sends messages[from:to], none of which is a barrier unless it is the only one.
func (w *writer) section(ctx context.Context, messages []encode.Message, from, to int, lanes []lane) ([]destination.Refusal, error) {
	for i := range lanes {
		lanes[i].part = lanes[i].part[:0]
	}
	for i := from; i < to; i++ {
		l := &lanes[hash(messages[i].OrderingKey)%uint32(len(lanes))]
		l.part = append(l.part, i)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var done sync.WaitGroup
	var mu sync.Mutex
	var refused []destination.Refusal
	var failed error
	for i := range lanes {
		if len(lanes[i].part) == 0 {
			continue
		}
		done.Add(1)
		go func() {
			defer done.Done()
			var found []destination.Refusal
			err := guard.Run(func() (err error) {
				found, err = w.lane(ctx, messages, &lanes[i])
				return err
			})
			mu.Lock()
			defer mu.Unlock()
			refused = append(refused, found...)
			if err != nil && failed == nil {
				failed = err
				cancel() // the others end soon: all of it is sent again
			}
		}()
	}
	done.Wait()
	return refused, failed
}

func (w *writer) lane(ctx context.Context, messages []encode.Message, l *lane) ([]destination.Refusal, error) {
	var refused []destination.Refusal
	for part := l.part; len(part) > 0; {
		n := min(max(w.options.Events, 1), len(part))
		found, err := destination.SplitOnError(messages, part[:n], l.behind, func(part []int) error { return w.post(ctx, messages, part) }, blame)
		if err != nil {
			return refused, err
		}
		refused = append(refused, found...)
		part = part[n:]
	}
	return refused, nil
}

// blame says what an answer means for the messages of a request.
func blame(err error) destination.Blame {
	var asks *later
	switch {
	case errors.Is(err, destination.ErrRefused):
		return destination.BlameOne
	case errors.As(err, &asks) && asks.event:
		return destination.BlameOneForNow
	}
	return destination.BlameNone
}

// composed is what one request holds.
type composed struct {
	id, kind string
	headers  nethttp.Header
	body     []byte
}

// compose makes a request of messages, without what goes by the clock or is secret.
func (d *Destination) compose(messages []encode.Message, part []int) *composed {
	first, last := &messages[part[0]], &messages[part[len(part)-1]]
	c := &composed{id: string(first.ID), kind: first.ContentType, body: first.Body, headers: make(nethttp.Header)}
	if d.options.Events <= 1 {
		for _, h := range first.Headers {
			if h.Attribute {
				c.headers.Set("ce-"+h.Name, percent(h.Value))
			} else {
				c.headers.Set(h.Name, percent(h.Value))
			}
		}
		return c
	}
	size := 2
	for _, i := range part {
		size += len(messages[i].Body) + 1
	}
	c.body = append(make([]byte, 0, size), '[')
	for n, i := range part {
		if n > 0 {
			c.body = append(c.body, ',')
		}
		c.body = append(c.body, messages[i].Body...)
	}
	c.body = append(c.body, ']')
	c.kind = "application/json"
	if d.format == encode.FormatCloudEvents {
		c.kind = "application/cloudevents-batch+json"
	}
	if len(part) > 1 {
		c.id = fmt.Sprintf("%s-%d", first.ID, last.Offset)
	}
	return c
}

// Framed implements [destination.Framer]. Several events in one request stand in a
// list; a message that is framed by itself is a list of one.
func (d *Destination) Framed(m *encode.Message) destination.Framed {
	c := d.compose([]encode.Message{*m}, []int{0})
	if d.settings.SignKey != "" {
		c.headers.Set("webhook-id", c.id)
		c.headers.Set("webhook-timestamp", "(when it is sent)")
		c.headers.Set("webhook-signature", "v1,(over id, time and body, when it is sent)")
	}
	for name, value := range d.settings.Headers {
		if settings.SecretName(name) {
			value = "(secret)"
		}
		c.headers.Set(name, value)
	}
	if d.settings.Token != "" {
		c.headers.Set("Authorization", "Bearer (secret)")
	}
	f := destination.Framed{ContentType: c.kind, Body: c.body}
	for _, name := range slices.Sorted(maps.Keys(c.headers)) {
		f.Headers = append(f.Headers, encode.Header{Name: strings.ToLower(name), Value: []byte(c.headers.Get(name))})
	}
	return f
}

// post makes one request.
func (w *writer) post(ctx context.Context, messages []encode.Message, part []int) error {
	c := w.compose(messages, part)
	r, err := nethttp.NewRequestWithContext(ctx, nethttp.MethodPost, w.settings.URL, bytes.NewReader(c.body))
	if err != nil {
		return err
	}
	r.Header = c.headers
	r.Header.Set("Content-Type", c.kind)
	w.common(r)
	if w.key != nil {
		sign(r, c.id, time.Now(), c.body, w.key)
	}
	response, err := w.http.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return &engine.Fault{Code: "unreachable", Message: "the function at " + w.settings.URL + " does not answer", Cause: errors.New(bare(err))}
	}
	said := strings.TrimSpace(string(drain(response)))
	return judge(response, said)
}

// judge is what an answer's status says.
func judge(response *nethttp.Response, said string) error {
	text := "the function answers " + response.Status
	if said != "" {
		text += ": " + said
	}
	switch code := response.StatusCode; {
	case code >= 200 && code < 300:
		return nil
	case code == nethttp.StatusRequestTimeout, code == nethttp.StatusTooEarly, code == nethttp.StatusTooManyRequests, code >= 500:
		wait := after(response.Header.Get("Retry-After"))
		altogether := code < 500 || code == nethttp.StatusBadGateway || code == nethttp.StatusServiceUnavailable || code == nethttp.StatusGatewayTimeout
		return &later{errors.New(text), wait, !altogether && wait == 0}
	case code == nethttp.StatusUnauthorized, code == nethttp.StatusForbidden:
		return &engine.Fault{Code: "login-refused", Message: text, Fix: "set the destination's token or headers"}
	case code >= 300 && code < 400:
		return &engine.Fault{Code: "moved", Message: text + "; it has moved to " + response.Header.Get("Location"), Fix: "give the destination its new address"}
	}
	return refusal(text)
}

// refusal is what a function said that refuses.
type refusal string

func (r refusal) Error() string        { return string(r) }
func (r refusal) Is(target error) bool { return target == destination.ErrRefused }

// after reads Retry-After: seconds, or a date (RFC 9110).
func after(text string) time.Duration {
	if n, err := strconv.Atoi(text); err == nil && n > 0 {
		return min(time.Duration(n)*time.Second, time.Hour)
	}
	if at, err := nethttp.ParseTime(text); err == nil {
		return max(min(time.Until(at), time.Hour), 0)
	}
	return 0
}

// sign adds the headers of the Standard Webhooks scheme: the signature is over
// id, time and body.
func sign(r *nethttp.Request, id string, at time.Time, body, key []byte) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(id + "." + stamp + ".")) // never fails
	mac.Write(body)                           // never fails
	r.Header.Set("webhook-id", id)
	r.Header.Set("webhook-timestamp", stamp)
	r.Header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
}

// percent encodes what may not stand in a header (CloudEvents HTTP binding,
// section 3.1.3.2).
func percent(value []byte) string {
	clean := true
	for _, b := range value {
		clean = clean && b > 0x20 && b < 0x7f && b != '"' && b != '%'
	}
	if clean {
		return string(value)
	}
	var out strings.Builder
	for _, b := range value {
		if b > 0x20 && b < 0x7f && b != '"' && b != '%' {
			out.WriteByte(b)
		} else {
			fmt.Fprintf(&out, "%%%02X", b)
		}
	}
	return out.String()
}

// hash is FNV-1a.
func hash(text []byte) uint32 {
	h := uint32(2166136261)
	for _, b := range text {
		h = (h ^ uint32(b)) * 16777619
	}
	return h
}
