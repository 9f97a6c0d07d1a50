// Package session is how a PostgreSQL source is reached: the configuration of one source,
// sessions with its server, the names of what is ours there, how names and texts are
// written into statements, places in its log, and its errors in words.
package session

import (
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"rillmark/internal/capture/rules"
	"rillmark/internal/farend"
	"rillmark/internal/localfile"
)

// Config is one PostgreSQL source.
type Config struct {
	// Source is the name of the source; slot and publications are named after
	// it unless they are given.
	Source string
	// Connection is a complete set of parameters; see [Connection].
	Connection *pgx.ConnConfig
	// Dial connects; nil for an ordinary dialer.
	Dial  func(ctx context.Context, network, address string) (net.Conn, error)
	Rules rules.Set
	// HashKey is what columns are hashed under; needed where a rule hashes.
	HashKey []byte
	// Load says whether rows that exist already are read first, LoadOnly that the
	// run ends, with [engine.ErrComplete], once all of them are.
	Load     bool
	LoadOnly bool
	// From, where not zero, is the place from which an administrator's slot is
	// followed the first time.
	From LSN
	// Slot and Publication, where given, are an administrator's: used as they
	// are, never made, changed or removed by us.
	Slot        string
	Publication string
	// Borrowed are the source's own publications, which a trial looks through.
	Borrowed []string
	// HeartbeatEvery is how often a message of ours goes into the source's log,
	// so that a quiet database lets its log go. Default 5 s.
	HeartbeatEvery time.Duration
	// RefreshEvery is how often the source is looked at for new tables. Default 10 s.
	RefreshEvery time.Duration
	// SilenceAfter is how long the server may send nothing before the
	// connection is considered dead. Default 90 s: a large transaction that is
	// not published can keep a healthy server silent for some seconds, and
	// reading one back from its spill for twenty.
	SilenceAfter time.Duration
	// ChunkBytes is how much of a table a load reads at a time. Default 1 MiB.
	ChunkBytes int
	// LoadSessions read at once while tables are loaded. Default 2.
	LoadSessions int
	// LargestValue is the size in bytes above which a value is left out of its
	// event. Default 16 MiB.
	LargestValue int64
	// NoText hears of texts of a database in SQL_ASCII that are no UTF-8; nil where nobody
	// wants to. U+FFFD stands in their place.
	NoText func(table, column string, text []byte)
	// plain is set once a session has found that the database's encoding is SQL_ASCII: the
	// server converts nothing then, and refuses to.
	plain *atomic.Bool
	// LeaveOut are the origins whose transactions bring no events of rows.
	LeaveOut rules.Origins
}

func (c *Config) Defaults() {
	if c.plain == nil {
		c.plain = new(atomic.Bool)
	}
	if c.HeartbeatEvery <= 0 {
		c.HeartbeatEvery = 5 * time.Second
	}
	if c.RefreshEvery <= 0 {
		c.RefreshEvery = 10 * time.Second
	}
	if c.SilenceAfter <= 0 {
		c.SilenceAfter = 90 * time.Second
	}
	if c.ChunkBytes <= 0 {
		c.ChunkBytes = 1 << 20
	}
	if c.LoadSessions <= 0 {
		c.LoadSessions = 2
	}
	if c.LargestValue <= 0 {
		c.LargestValue = 16 << 20
	}
}

// CleartextAllow lets the server have the password itself over a connection that may not be encrypted.
const CleartextAllow = "allow"

// Connection puts parameters together. tls is one of disable, prefer, require
// (encrypted, the server's name not checked) and verify-full; root, where not
// empty, is the file of the certificates that verify-full trusts. cleartext lets a server on
// another machine have the password itself over a connection that nobody has surely encrypted.
func Connection(host string, port int, database, user, password, tls, root string, cleartext bool) (*pgx.ConnConfig, error) {
	if tls == "" {
		tls = "prefer"
	}
	quote := func(s string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
	}
	text := "host=" + quote(host) + " port=" + strconv.Itoa(port) + " dbname=" + quote(database) +
		" user=" + quote(user) + " sslmode=" + quote(tls) + " connect_timeout=10"
	if root != "" {
		if err := localfile.Check(root, localfile.MostText); err != nil {
			return nil, fmt.Errorf("the certificates to trust: %w", err)
		}
		text += " sslrootcert=" + quote(root)
	}
	config, err := pgx.ParseConfig(text)
	if err != nil {
		return nil, fmt.Errorf("the connection's parameters: %w", err)
	}
	if !cleartext && (tls == "disable" || tls == "prefer") && !here(host) {
		config.RequireAuth = "!password"
	}
	config.BuildFrontend = farend.Postgres
	config.Password = password // not in the text above, so that no error can print it
	return config, nil
}

// here reports whether a host is this machine.
func here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasPrefix(host, "/") || ip != nil && ip.IsLoopback()
}

// sessionParameters are set on every session with a source: settings of the
// role or the database would otherwise leak into the text of values.
var sessionParameters = map[string]string{
	"DateStyle":                           "ISO, YMD",
	"IntervalStyle":                       "iso_8601",
	"extra_float_digits":                  "3",
	"bytea_output":                        "hex",
	"TimeZone":                            "UTC",
	"search_path":                         "pg_catalog",
	"client_encoding":                     "UTF8",
	"statement_timeout":                   "0",
	"lock_timeout":                        "0",
	"idle_in_transaction_session_timeout": "0",
	// Writers may be kept out while a system moves elsewhere; we go on.
	"default_transaction_read_only": "off",
	// A query fails rather than leave out rows that it may not see.
	"row_security": "off",
}

// config is a copy of the connection's parameters for one use.
func (c *Config) Session(purpose string) *pgx.ConnConfig {
	config := c.Connection.Copy()
	for name, value := range sessionParameters {
		config.RuntimeParams[name] = value
	}
	if c.MayBeNoText() {
		config.RuntimeParams["client_encoding"] = sqlASCII
	}
	config.RuntimeParams["application_name"] = "rillmark " + c.Source + " " + purpose
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	config.DialFunc = pgconn.DialFunc(c.Dial)
	if c.Dial == nil {
		dialer := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}
		config.DialFunc = dialer.DialContext
	}
	config.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		return pgproto3.NewFrontend(&GuardedRead{R: r}, w)
	}
	return config
}

func (c *Config) Connect(ctx context.Context, purpose string) (*pgx.Conn, error) {
	conn, err := pgx.ConnectConfig(ctx, c.Session(purpose))
	if err != nil {
		return nil, c.ExplainAt(Connecting, err)
	}
	if conn.PgConn().ParameterStatus("server_encoding") != sqlASCII {
		return conn, nil
	}
	if c.plain != nil {
		c.plain.Store(true)
	}
	if conn.PgConn().ParameterStatus("client_encoding") != sqlASCII {
		if _, err := conn.Exec(ctx, "SET client_encoding = '"+sqlASCII+"'"); err != nil {
			conn.Close(ctx) //nolint:errcheck // the first error is the one to tell
			return nil, c.ExplainAt(Connecting, err)
		}
	}
	return conn, nil
}

const sqlASCII = "SQL_ASCII"

// MayBeNoText reports whether texts of the database may be in any encoding; known once
// there has been a session.
func (c *Config) MayBeNoText() bool { return c.plain != nil && c.plain.Load() }
