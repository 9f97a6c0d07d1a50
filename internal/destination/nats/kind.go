package nats

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// Kind is that of NATS JetStream.
var Kind = destination.Kind{
	Name: "nats", Title: "NATS JetStream", About: "One message an event, stored by a stream; the server leaves repeats out while it remembers ids",
	Settings: func() destination.Settings { return new(Settings) },
	Topic:    "subject", CheckTopic: checkSubject, AttributePrefix: "ce-",
	Formats: []encode.Format{encode.FormatCloudEvents, encode.FormatCloudEventsBinary, encode.FormatData, encode.FormatRow, encode.FormatAvro},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		return &Destination{settings: d.Settings.(*Settings), subjects: d.Topics, dial: env.Dial}, nil
	},
}

// Settings is a NATS server with JetStream.
type Settings struct {
	Servers  []string      `json:"servers" minItems:"1" title:"Servers" doc:"Addresses, such as nats://127.0.0.1:4222" example:"nats://127.0.0.1:4222" flag:"nats"`
	Stream   string        `json:"stream,omitempty" title:"Stream" doc:"The stream that stores the messages; without it, whichever stream takes the subject" example:"library"`
	Create   bool          `json:"create_stream,omitempty" title:"Create the stream" doc:"Create the stream, for the subjects below its name, where it is missing" when:"stream"`
	User     string        `json:"user,omitempty" title:"User" doc:"Whom to log in as; nobody without it"`
	Password string        `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_BUS}"`
	TLS      *settings.TLS `json:"tls,omitempty" flag:"tls" title:"TLS" doc:"Encrypts the connection, and says how the server is checked; without it the server decides"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if len(s.Servers) == 0 {
		return settings.Wrong("nats.servers", "at least one address is needed, such as nats://127.0.0.1:4222")
	}
	for i, server := range s.Servers {
		if settings.Refers(server) {
			continue
		}
		u, err := url.Parse(server)
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "nats" && u.Scheme != "tls" {
			return settings.Wrong(fmt.Sprintf("nats.servers[%d]", i), "%q is no address: write nats://host:port; user and password have fields of their own", server)
		}
	}
	if s.Create && s.Stream == "" {
		return settings.Wrong("nats.stream", "to be created, the stream needs a name")
	}
	if strings.ContainsAny(s.Stream, " .*>\t\n/\\") {
		return settings.Wrong("nats.stream", "%q is no name of a stream: no spaces, dots, slashes, * or >", s.Stream)
	}
	return s.TLS.Validate("nats.tls")
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return strings.Join(s.Servers, " ") }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.Servers, s.User, s.TLS} }

var subject = regexp.MustCompile(`^[^\s.*>]+(\.[^\s.*>]+)*$`)

func checkSubject(name string) error {
	if !subject.MatchString(name) {
		return fmt.Errorf("%q is no subject: parts without spaces, * and >, with dots between them", name)
	}
	return nil
}
