package farend

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"net"
	"sync"
	"time"

	"rillmark/internal/netguard"
)

// NATS makes connections for the client of NATS. The server speaks first, in the clear, and the
// connection is encrypted before the client answers: that is done here, since what comes has to be
// looked at behind it.
type NATS struct {
	Dialer netguard.Dial
	// TLS is how an encrypted connection is checked; where it is nil, one is made if the server
	// asks for it, as it is checked by default.
	TLS *tls.Config
}

const natsDialTime = 5 * time.Second

// Dial implements [nats.CustomDialer].
func (n *NATS) Dial(network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), natsDialTime)
	defer cancel()
	conn, err := n.Dialer(ctx, network, address)
	if err != nil {
		return nil, err
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if n.TLS != nil {
		config = n.TLS.Clone()
	}
	if config.ServerName == "" {
		config.ServerName, _, _ = net.SplitHostPort(address)
	}
	return &natsConn{Conn: conn, config: config, demanded: n.TLS != nil}, nil
}

// SkipTLSHandshake has the client leave encryption to us.
func (n *NATS) SkipTLSHandshake() bool { return true }

// natsConn is such a connection.
type natsConn struct {
	net.Conn // as it was dialled, below any encryption
	config   *tls.Config
	demanded bool

	mu      sync.Mutex // of the change to the encrypted one
	greeted bool       // the server's first line has been read
	checked *watched   // nil until the client answers
	rest    []byte     // of the greeting
}

// Read implements [net.Conn]: up to the greeting's end nothing is read of what comes behind it.
func (c *natsConn) Read(p []byte) (int, error) {
	c.mu.Lock()
	checked := c.checked
	c.mu.Unlock()
	if checked != nil {
		return checked.Read(p)
	}
	if !c.greeted {
		var one [1]byte
		for !bytes.HasSuffix(c.rest, []byte("\n")) {
			if len(c.rest) == mostLine {
				return 0, nonsense("greets with more than %d KiB", mostLine>>10)
			}
			if _, err := c.Conn.Read(one[:]); err != nil {
				return 0, err
			}
			c.rest = append(c.rest, one[0])
		}
		c.greeted = true
		var info struct {
			Required bool `json:"tls_required"`
		}
		if _, text, is := bytes.Cut(c.rest, []byte(" ")); is && json.Unmarshal(text, &info) == nil {
			c.demanded = c.demanded || info.Required
		}
	}
	if len(c.rest) > 0 {
		n := copy(p, c.rest)
		c.rest = c.rest[n:]
		return n, nil
	}
	// The client answers before it reads on.
	if err := c.answer(); err != nil {
		return 0, err
	}
	return c.Read(p)
}

// answer encrypts the connection where it is to be, before the client says anything.
func (c *natsConn) answer() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.checked != nil {
		return nil
	}
	conn := c.Conn
	if c.demanded {
		secured := tls.Client(conn, c.config)
		ctx, cancel := context.WithTimeout(context.Background(), natsDialTime)
		defer cancel()
		if err := secured.HandshakeContext(ctx); err != nil {
			return err
		}
		conn = secured
	}
	c.checked = &watched{Conn: conn, scanner: natsLines()}
	return nil
}

// Write implements [net.Conn].
func (c *natsConn) Write(p []byte) (int, error) {
	if err := c.answer(); err != nil {
		return 0, err
	}
	return c.checked.Write(p)
}

// Close implements [net.Conn].
func (c *natsConn) Close() error {
	c.mu.Lock()
	checked := c.checked
	c.mu.Unlock()
	if checked != nil {
		return checked.Close()
	}
	return c.Conn.Close()
}
