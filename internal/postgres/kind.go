package postgres

import (
	"fmt"
	"net"
	"regexp"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/postgres/session"
	"rillmark/internal/settings"
)

// Kind is PostgreSQL as people choose it.
var Kind = engine.Kind{
	Name: change.PostgreSQL, Title: "PostgreSQL", Bare: (*Engine)(nil),
	Connection:    func() engine.Connection { return new(Settings) },
	CheckPosition: checkPosition,
	Make:          makeEngine,
}

func makeEngine(env engine.Environment, d engine.Definition) (engine.Engine, error) {
	to := d.Connection.(*Settings)
	connection, err := session.Connection(to.Host, to.Port, to.Database, to.User, to.Password, to.TLS, to.Root, to.Cleartext == session.CleartextAllow)
	if err != nil {
		return nil, err
	}
	c := &session.Config{Source: d.Source, Connection: connection, Dial: env.Dial, Rules: d.Rules, HashKey: d.HashKey, Load: d.Load, LoadOnly: d.LoadOnly, Slot: to.Slot, Publication: to.Publication,
		HeartbeatEvery: env.HeartbeatEvery, RefreshEvery: env.RefreshEvery, SilenceAfter: env.SilenceAfter, ChunkBytes: env.ChunkBytes, LoadSessions: d.LoadSessions, LargestValue: d.LargestValue, LeaveOut: d.LeaveOut}
	if d.From != "" {
		c.From, err = session.ParseLSN(d.From)
	}
	return New(c), err
}

// Settings is how a PostgreSQL database is reached.
type Settings struct {
	Host     string `json:"host" minLength:"1" title:"Host" doc:"Host name, address, or directory of a Unix socket" example:"db.example"`
	Port     int    `json:"port,omitempty" default:"5432" minimum:"1" maximum:"65535" title:"Port" doc:"Port of the database"`
	Database string `json:"database" minLength:"1" title:"Database" doc:"Name of the database"`
	User     string `json:"user" minLength:"1" title:"User" doc:"User to log in as"`
	Password string `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_CIRCULATION}"`
	TLS      string `json:"tls,omitempty" enum:"disable,prefer,require,verify-full" title:"TLS" doc:"How the connection is encrypted: disable, prefer, require, or verify-full, which also checks the server's name and certificate. Without it: verify-full for a new source that is not on this machine, else prefer"`
	Root     string `json:"tls_root,omitempty" title:"Certificates to trust" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it" when:"tls=verify-full" advanced:"yes" example:"/etc/rillmark/ca.pem"`
	// Cleartext is [session.CleartextAllow], or nothing.
	Cleartext string `json:"cleartext_password,omitempty" enum:"refuse,allow" default:"refuse" title:"Password in clear text" doc:"Whether the server may ask for the password itself where the connection is not surely encrypted: without tls, or with prefer, to another machine"  advanced:"yes"`
	Slot      string `json:"slot,omitempty" title:"Replication slot" doc:"A replication slot that an administrator has made; without it the source makes one of its own" maxLength:"63" pattern:"^[a-z0-9_]*$" patternDescription:"lower-case letters, digits and underscores" advanced:"yes"`
	// Publication is an administrator's, like Slot.
	Publication string `json:"publication,omitempty" title:"Publication" doc:"A publication that an administrator has made; without it the source makes one of its own" maxLength:"63" advanced:"yes"`
}

// Validate implements [engine.Connection].
func (s *Settings) Validate() error {
	if s.Port == 0 {
		s.Port = 5432
	}
	if s.TLS == "" {
		s.TLS = "prefer"
	}
	if s.Root != "" && s.TLS != "verify-full" {
		return settings.Wrong("connection.tls_root", "certificates to trust are of use with tls: verify-full only")
	}
	return nil
}

// Secure implements [engine.Connection].
func (s *Settings) Secure() {
	ip := net.ParseIP(s.Host)
	here := s.Host == "localhost" || ip != nil && ip.IsLoopback() || strings.HasPrefix(s.Host, "/")
	if s.TLS == "" && !here {
		s.TLS = "verify-full"
	}
}

// Where implements [engine.Connection].
func (s *Settings) Where() string { return fmt.Sprintf("%s:%d/%s", s.Host, s.Port, s.Database) }

// Catalog implements [engine.Connection].
func (s *Settings) Catalog() string { return s.Database }

// Login implements [engine.Connection].
func (s *Settings) Login() string { return s.User }

// Reaches implements [engine.Connection].
func (s *Settings) Reaches() []any { return []any{s.Host, s.Port, s.User, s.TLS, s.Root, s.Cleartext} }

var logPosition = regexp.MustCompile(`^[0-9A-Fa-f]{1,8}/[0-9A-Fa-f]{1,8}$`)

func checkPosition(position string, c engine.Connection) error {
	if !logPosition.MatchString(position) {
		return settings.Wrong("from_position", "%q is no place in a PostgreSQL log: it looks like 0/19A2F48", position)
	}
	if s, is := c.(*Settings); is && s.Slot == "" {
		return settings.Wrong("from_position", "the log's past is there only where a slot has held it: name, as connection.slot, the slot that was made before that place")
	}
	return nil
}
