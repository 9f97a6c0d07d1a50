package http

import (
	"encoding/base64"
	"net/url"
	"strings"
	"time"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// Kind is that of HTTP functions.
var Kind = destination.Kind{
	Name: "http", Title: "HTTP function", About: "Events are posted, one or a list in a request, and signed",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Formats:  []encode.Format{encode.FormatCloudEvents, encode.FormatCloudEventsBinary, encode.FormatData, encode.FormatRow, encode.FormatAvro},

	AttributePrefix: "ce-", OutsideOnly: true,
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		return &Destination{settings: d.Settings.(*Settings), options: d.Outlet.(*OutletSettings), format: d.Format, dial: env.Dial, allowed: env.Allowed}, nil
	},
}

// Settings is a function that takes events by POST.
type Settings struct {
	URL     string            `json:"url" minLength:"1" title:"Address" doc:"Where events are posted" example:"https://desk.example/events"`
	SignKey string            `json:"sign_key,omitempty" title:"Key for signing" secret:"yes" doc:"Requests are signed by the Standard Webhooks scheme under this key, whsec_ and base64: a reference, or the key itself, which is sealed" example:"${env:RILLMARK_SECRET_SIGN_KEY}"`
	Token   string            `json:"token,omitempty" title:"Bearer token" secret:"yes" doc:"Sent as a bearer token: a reference, ${env:NAME} or ${file:/path}, or the token itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_TOKEN}" flag:"bearer"`
	Headers map[string]string `json:"headers,omitempty" title:"Headers" secret:"by-name" doc:"Sent with each request" flag:"header" advanced:"yes"`
	Timeout string            `json:"timeout,omitempty" title:"Time for one request" doc:"How long one request may take (default 30s)" example:"30s" advanced:"yes"`
	TLS     *settings.TLS     `json:"tls,omitempty" flag:"tls" title:"TLS" doc:"How an https address is checked; the system's own certificates are trusted without it" advanced:"yes"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if err := settings.AbsoluteURL("http.url", s.URL); err != nil {
		return err
	}
	if u, _ := url.Parse(s.URL); u != nil && u.User != nil {
		return settings.Wrong("http.url", "an address with a password in it would be shown: use token or headers")
	}
	for name := range s.Headers {
		if strings.EqualFold(name, "authorization") {
			return settings.Wrong("http.headers", "Authorization is a secret: use token, which is sealed")
		}
	}
	if strings.HasPrefix(s.SignKey, "whsec_") && !settings.Refers(s.SignKey) {
		if key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(s.SignKey, "whsec_")); err != nil || len(key) < 24 || len(key) > 64 {
			return settings.Wrong("http.sign_key", "a key for signing is whsec_ and 24 to 64 bytes in base64: `openssl rand -base64 32` makes one")
		}
	} else if s.SignKey != "" && !settings.Refers(s.SignKey) && !strings.HasPrefix(s.SignKey, "sealed:") && s.SignKey != "(sealed)" {
		return settings.Wrong("http.sign_key", "a key for signing is whsec_ and 24 to 64 bytes in base64, or a reference to one")
	}
	if _, err := s.limit(); err != nil {
		return err
	}
	return s.TLS.Validate("http.tls")
}

// limit is how long one request may take.
func (s *Settings) limit() (time.Duration, error) {
	if s.Timeout == "" {
		return 30 * time.Second, nil
	}
	return settings.Duration("http.timeout", s.Timeout, 10*time.Millisecond, 10*time.Minute)
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return s.URL }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.URL, s.TLS} }

// OutletSettings is how an outlet posts.
type OutletSettings struct {
	InFlight int `json:"in_flight,omitempty" minimum:"1" maximum:"64" default:"4" title:"Requests at the same time" doc:"Requests at the same time; those of one key follow each other" unit:"requests"`
	Events   int `json:"events,omitempty" minimum:"1" maximum:"10000" default:"1" title:"Events in one request" doc:"Events in one request: more than one is posted as a list" unit:"events"`
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(format encode.Format, _ destination.Settings) error {
	if o.InFlight == 0 {
		o.InFlight = 4
	}
	if o.Events == 0 {
		o.Events = 1
	}
	if o.Events > 1 && (format == encode.FormatCloudEventsBinary || format == encode.FormatAvro) {
		return settings.Wrong("http.events", "format %s has no lists: post one event a request, or use cloudevents, data or row", format)
	}
	return nil
}
