package redis

import (
	"fmt"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// Kind is that of Redis streams.
var Kind = destination.Kind{
	Name: "redis", Title: "Redis streams", About: "One entry an event, in a stream for each table or as a template says",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Topic:    "stream", CheckTopic: checkStream, AttributePrefix: "ce_",
	Formats: []encode.Format{encode.FormatCloudEvents, encode.FormatCloudEventsBinary, encode.FormatData, encode.FormatRow, encode.FormatAvro},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		return &Destination{settings: d.Settings.(*Settings), options: d.Outlet.(*OutletSettings), dial: env.Dial}, nil
	},
}

// Settings is a Redis server, whose streams are written to.
type Settings struct {
	Address  string        `json:"address" minLength:"1" title:"Address" doc:"Where the server is, host:port" example:"127.0.0.1:6379"`
	User     string        `json:"user,omitempty" title:"User" doc:"Whom to log in as; nobody without it"`
	Password string        `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_CACHE}"`
	Database int           `json:"database,omitempty" minimum:"0" maximum:"1000" title:"Database" doc:"The database's number; 0 without it" advanced:"yes"`
	TLS      *settings.TLS `json:"tls,omitempty" flag:"tls" title:"TLS" doc:"Encrypts the connection, and says how the server is checked; without it the connection is in the clear"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if err := settings.HostPort("redis.address", s.Address); err != nil {
		return err
	}
	return s.TLS.Validate("redis.tls")
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return s.Address }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.Address, s.User, s.TLS} }

// OutletSettings is how an outlet writes streams.
type OutletSettings struct {
	Keep int64 `json:"keep,omitempty" minimum:"0" title:"Entries to keep in each stream" doc:"About so many entries are kept in each stream; all without it" unit:"entries"`
}

// Validate implements [destination.OutletSettings].
func (*OutletSettings) Validate(encode.Format, destination.Settings) error { return nil }

func checkStream(name string) error {
	if name == "" || len(name) > 512 {
		return fmt.Errorf("%q is no name of a stream: 1 to 512 bytes", name)
	}
	return nil
}
