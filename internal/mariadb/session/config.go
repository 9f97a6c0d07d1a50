// Package session is how a MariaDB source is reached: the configuration of one source,
// sessions with its server, the numbers by which we are known as a reader of its log, and
// its errors in words.
package session

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"hash/fnv"
	"net"
	"strings"
	"time"

	"rillmark/internal/capture/rules"
	"rillmark/internal/localfile"
	"rillmark/internal/mariadb/wire"
)

// Config is one MariaDB source.
type Config struct {
	// Source is the name of the source.
	Source string
	// Host is a name, an address, or the path of a Unix socket.
	Host     string
	Port     int
	User     string
	Password string
	// TLS is one of disable, prefer, require and verify-full; Root is the file of the
	// certificates that verify-full trusts.
	TLS, Root string
	// ReaderID is the number by which the server knows us among its replicas; the one
	// above it is ours, too. 0 leaves it to the run.
	ReaderID uint32
	// Dial connects; nil for an ordinary dialer.
	Dial  func(ctx context.Context, network, address string) (net.Conn, error)
	Rules rules.Set
	// HashKey is what columns are hashed under; needed where a rule hashes.
	HashKey []byte
	// Load says whether rows that exist already are read first, LoadOnly that the run
	// ends, with [engine.ErrComplete], once all of them are.
	Load     bool
	LoadOnly bool
	// From, where not empty, is the position (GTIDs) that is followed from the first time.
	From string
	// RefreshEvery is how often the source is looked at for new tables. Default 10 s.
	RefreshEvery time.Duration
	// HeartbeatEvery is how often the server says that it is there while nothing happens.
	// Default 5 s.
	HeartbeatEvery time.Duration
	// SilenceAfter is how long the server may send nothing before the connection is
	// considered dead. Default 90 s.
	SilenceAfter time.Duration
	// ChunkBytes is how much of a table a load reads at a time. Default 1 MiB.
	ChunkBytes int
	// LoadSessions read at once while tables are loaded. Default 2.
	LoadSessions int
	// LargestValue is the size in bytes above which a value is left out of its event.
	// Default 16 MiB.
	LargestValue int64
	// Statements has the texts of the statements that changed rows captured, too.
	Statements bool
	// LeaveOut are the origins whose transactions bring no events of rows.
	LeaveOut rules.Origins
}

// Defaults fills in what is not given.
func (c *Config) Defaults() {
	if c.RefreshEvery <= 0 {
		c.RefreshEvery = 10 * time.Second
	}
	if c.HeartbeatEvery <= 0 {
		c.HeartbeatEvery = 5 * time.Second
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

// ReaderID is the number that follows from a name: even, and far above those that servers
// have as a rule.
func ReaderID(name string) uint32 {
	h := fnv.New32a()
	h.Write([]byte(name)) // a hash takes everything
	return 1<<30 | h.Sum32()&(1<<30-1)&^1
}

// Where is the server in a few words.
func (c *Config) Where() string {
	if strings.HasPrefix(c.Host, "/") {
		return c.Host
	}
	return fmt.Sprintf("%s:%d", c.Host, c.Port)
}

// Local reports whether the server is on this machine.
func (c *Config) Local() bool {
	ip := net.ParseIP(c.Host)
	return c.Host == "localhost" || strings.HasPrefix(c.Host, "/") || ip != nil && ip.IsLoopback()
}

func (c *Config) wire(purpose string) (w *wire.Config, err error) {
	w = &wire.Config{Host: c.Host, Port: c.Port, User: c.User, Password: c.Password, Dial: c.Dial, Program: "rillmark " + c.Source + " " + purpose}
	w.TLS, w.Require, err = TLS(c.Host, c.TLS, c.Root)
	return w, err
}

// TLS is how a session with a server is encrypted, by one of the modes disable, prefer,
// require and verify-full, which trusts the certificates in the file root, or the system's
// own. Without a configuration it is not; require refuses a server that cannot.
func TLS(host, mode, root string) (config *tls.Config, require bool, err error) {
	switch mode {
	case "disable":
		return nil, false, nil
	case "verify-full":
		config = &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
		if root != "" {
			pem, err := localfile.Read(root, localfile.MostText)
			if err != nil {
				return nil, false, fmt.Errorf("the certificates to trust: %w", err)
			}
			config.RootCAs = x509.NewCertPool()
			if !config.RootCAs.AppendCertsFromPEM(pem) {
				return nil, false, fmt.Errorf("%s has no certificate", root)
			}
		}
		return config, true, nil
	}
	if strings.HasPrefix(host, "/") {
		return nil, mode == "require", nil // a socket does not leave this machine
	}
	config = &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12} //nolint:gosec // the mode says so: encrypted, the server's name not checked
	return config, mode == "require", nil
}

// settings are those of every session: what the server's defaults say would otherwise
// leak into values. Values come in their own character set, times in UTC.
const settings = "SET NAMES utf8mb4, character_set_results = NULL, time_zone = '+00:00', sql_mode = '', max_statement_time = 0, net_write_timeout = 86400, wait_timeout = 31536000, autocommit = 1"

// Connect opens a session for ordinary statements.
func (c *Config) Connect(ctx context.Context, purpose string) (*wire.Conn, error) {
	conn, err := c.open(ctx, purpose, 0)
	if err != nil {
		return nil, err
	}
	if err := conn.Exec(ctx, settings); err != nil {
		conn.Close()
		return nil, c.Explain(err)
	}
	return conn, nil
}

// open logs in. silence, where not zero, is how long the server may send nothing later.
func (c *Config) open(ctx context.Context, purpose string, silence time.Duration) (*wire.Conn, error) {
	w, err := c.wire(purpose)
	if err != nil {
		return nil, c.Explain(err)
	}
	w.Silence = silence
	conn, err := wire.Connect(ctx, w)
	if err != nil {
		return nil, c.Explain(err)
	}
	return conn, nil
}

// OpenForLog is a session that the log is read over.
func (c *Config) OpenForLog(ctx context.Context) (*wire.Conn, error) {
	return c.open(ctx, "log", c.SilenceAfter)
}
