package postgresql

import (
	"fmt"
	"net"

	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

const kindName = "postgresql"

// Kind is that of tables of a PostgreSQL database.
var Kind = destination.Kind{
	Name: kindName, Title: "PostgreSQL", About: "Tables that are kept equal to the source's, each row as it is now or in every version",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Formats:  []encode.Format{encode.FormatTable},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		options := d.Outlet.(*OutletSettings)
		return &Destination{settings: d.Settings.(*Settings), options: options, dial: env.Dial}, options.ValidateAs(kindName)
	},
}

// Settings is a database whose tables are written.
type Settings struct {
	Host     string `json:"host" minLength:"1" title:"Host" doc:"Host name or address" example:"db.example"`
	Port     int    `json:"port,omitempty" default:"5432" minimum:"1" maximum:"65535" title:"Port" doc:"Port of the database"`
	Database string `json:"database" minLength:"1" title:"Database" flag:"database-name" doc:"Name of the database"`
	User     string `json:"user" minLength:"1" title:"User" doc:"User to log in as"`
	Password string `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_REPORTING}"`
	TLS      string `json:"tls,omitempty" flag:"tls-mode" enum:"disable,prefer,require,verify-full" title:"TLS" doc:"How the connection is encrypted: disable, prefer, require, or verify-full, which also checks the server's name and certificate. Without it: verify-full for a database that is not on this machine, else prefer"`
	// Cleartext is allow, or nothing.
	Cleartext string `json:"cleartext_password,omitempty" flag:"cleartext-password" enum:"refuse,allow" default:"refuse" title:"Password in clear text" doc:"Whether the server may ask for the password itself where the connection is not surely encrypted: without tls, or with prefer, to another machine" advanced:"yes"`
	Root      string `json:"tls_root,omitempty" flag:"tls-root" title:"Certificates to trust" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it" when:"tls=verify-full" advanced:"yes" example:"/etc/rillmark/ca.pem"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if s.Port == 0 {
		s.Port = 5432
	}
	if s.TLS == "" {
		ip := net.ParseIP(s.Host)
		s.TLS = "verify-full"
		if s.Host == "localhost" || ip != nil && ip.IsLoopback() {
			s.TLS = "prefer"
		}
	}
	if s.Root != "" && s.TLS != "verify-full" {
		return settings.Wrong("postgresql.tls_root", "certificates to trust are of use with tls: verify-full only")
	}
	return nil
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return fmt.Sprintf("%s:%d/%s", s.Host, s.Port, s.Database) }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.Host, s.Port, s.User, s.TLS, s.Root, s.Cleartext} }

// OutletSettings is how an outlet keeps tables.
type OutletSettings struct {
	sql.Options
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(encode.Format, destination.Settings) error {
	return o.ValidateAs(kindName)
}
