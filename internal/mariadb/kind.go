package mariadb

import (
	"fmt"
	"net"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/mariadb/session"
	"rillmark/internal/mariadb/stream"
	"rillmark/internal/settings"
)

// Kind is MariaDB as people choose it.
var Kind = engine.Kind{
	Name: change.MariaDB, Title: "MariaDB", Bare: (*Engine)(nil),
	Connection:    func() engine.Connection { return new(Settings) },
	CheckPosition: checkPosition,
	Make:          makeEngine,
}

func makeEngine(env engine.Environment, d engine.Definition) (engine.Engine, error) {
	to := d.Connection.(*Settings)
	c := &session.Config{Source: d.Source, Host: to.Host, Port: to.Port, User: to.User, Password: to.Password, TLS: to.TLS, Root: to.Root, ReaderID: uint32(to.ReaderID), Dial: env.Dial,
		Rules: d.Rules, HashKey: d.HashKey, Load: d.Load, LoadOnly: d.LoadOnly, From: d.From, HeartbeatEvery: env.HeartbeatEvery, RefreshEvery: env.RefreshEvery, SilenceAfter: env.SilenceAfter,
		ChunkBytes: env.ChunkBytes, LoadSessions: d.LoadSessions, LargestValue: d.LargestValue, LeaveOut: d.LeaveOut, Statements: to.RowStatements}
	return New(c), nil
}

// Settings is how a MariaDB server is reached.
type Settings struct {
	Host          string `json:"host" minLength:"1" title:"Host" doc:"Host name, address, or path of a Unix socket" example:"db.example"`
	Port          int    `json:"port,omitempty" default:"3306" minimum:"1" maximum:"65535" title:"Port" doc:"Port of the server"`
	User          string `json:"user" minLength:"1" title:"User" doc:"User to log in as"`
	Password      string `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_CATALOGUE}"`
	TLS           string `json:"tls,omitempty" enum:"disable,prefer,require,verify-full" title:"TLS" doc:"How the connection is encrypted: disable, prefer, require, or verify-full, which also checks the server's name and certificate. Without it: verify-full for a new source that is not on this machine, else prefer"`
	Root          string `json:"tls_root,omitempty" title:"Certificates to trust" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it" when:"tls=verify-full" advanced:"yes" example:"/etc/rillmark/ca.pem"`
	ReaderID      int64  `json:"reader_id,omitempty" title:"Reader ID" doc:"The number by which the server knows this reader of its log, which no other server or reader may have, nor the number above it; without it the source takes one of its own at its first start" minimum:"1" maximum:"4294967294" advanced:"yes"`
	RowStatements bool   `json:"row_statements,omitempty" title:"Statements behind rows" doc:"Also capture the text of the statements that changed rows, as message events ahead of their rows. Where a rule keeps columns private or rows out, question marks stand for all values" advanced:"yes"`
}

// Validate implements [engine.Connection].
func (s *Settings) Validate() error {
	if s.Port == 0 {
		s.Port = 3306
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
func (s *Settings) Where() string {
	if strings.HasPrefix(s.Host, "/") {
		return s.Host
	}
	return fmt.Sprintf("%s:%d", s.Host, s.Port)
}

// Catalog implements [engine.Connection]: a source is a whole server, and each table's name has its
// database.
func (s *Settings) Catalog() string { return "" }

// Login implements [engine.Connection].
func (s *Settings) Login() string { return s.User }

// Reaches implements [engine.Connection].
func (s *Settings) Reaches() []any { return []any{s.Host, s.Port, s.User, s.TLS, s.Root} }

func checkPosition(position string, _ engine.Connection) error {
	if gtids, err := stream.ParseGTIDs(position); err != nil || len(gtids) == 0 {
		return settings.Wrong("from_position", "%q is no position in a MariaDB log: it is a list of GTIDs, one of each domain, like 0-1-42 or 0-1-42,3-1-7", position)
	}
	return nil
}
