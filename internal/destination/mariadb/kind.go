package mariadb

import (
	"fmt"
	"net"
	"strings"

	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

const kindName = "mariadb"

// Kind is that of tables of a MariaDB database.
var Kind = destination.Kind{
	Name: kindName, Title: "MariaDB", About: "Tables that are kept equal to the source's, each row as it is now or in every version",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Formats:  []encode.Format{encode.FormatTable},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		options := d.Outlet.(*OutletSettings)
		return &Destination{settings: d.Settings.(*Settings), options: options, dial: env.Dial}, options.ValidateAs(kindName)
	},
}

// Settings is a server whose tables are written.
type Settings struct {
	Host     string `json:"host" minLength:"1" title:"Host" doc:"Host name, address, or path of a Unix socket" example:"db.example"`
	Port     int    `json:"port,omitempty" default:"3306" minimum:"1" maximum:"65535" title:"Port" doc:"Port of the server"`
	User     string `json:"user" minLength:"1" title:"User" doc:"User to log in as"`
	Password string `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_REPORTING}"`
	TLS      string `json:"tls,omitempty" flag:"tls-mode" enum:"disable,prefer,require,verify-full" title:"TLS" doc:"How the connection is encrypted: disable, prefer, require, or verify-full, which also checks the server's name and certificate. Without it: verify-full for a server that is not on this machine, else prefer"`
	Root     string `json:"tls_root,omitempty" flag:"tls-root" title:"Certificates to trust" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it" when:"tls=verify-full" advanced:"yes" example:"/etc/rillmark/ca.pem"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if s.Port == 0 {
		s.Port = 3306
	}
	if s.TLS == "" {
		ip := net.ParseIP(s.Host)
		s.TLS = "verify-full"
		if s.Host == "localhost" || strings.HasPrefix(s.Host, "/") || ip != nil && ip.IsLoopback() {
			s.TLS = "prefer"
		}
	}
	if s.Root != "" && s.TLS != "verify-full" {
		return settings.Wrong("mariadb.tls_root", "certificates to trust are of use with tls: verify-full only")
	}
	return nil
}

// Where implements [destination.Settings].
func (s *Settings) Where() string {
	if strings.HasPrefix(s.Host, "/") {
		return s.Host
	}
	return fmt.Sprintf("%s:%d", s.Host, s.Port)
}

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.Host, s.Port, s.User, s.TLS, s.Root} }

// OutletSettings is how an outlet keeps tables.
type OutletSettings struct {
	sql.Options
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(encode.Format, destination.Settings) error {
	if _, err := o.origin(); err != nil {
		return err
	}
	return o.ValidateAs(kindName)
}
