package destination

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"

	"rillmark/internal/engine"
	"rillmark/internal/localfile"
	"rillmark/internal/netguard"
	"rillmark/internal/settings"
)

// Secure is a dialer whose connections are encrypted; without a configuration they are
// as dial makes them. The server's name is the address's where the configuration has
// none.
func Secure(dial netguard.Dial, config *tls.Config) netguard.Dial {
	if config == nil {
		return dial
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		own := config.Clone()
		if own.ServerName == "" {
			own.ServerName, _, _ = net.SplitHostPort(address)
		}
		secured := tls.Client(conn, own)
		if err := secured.HandshakeContext(ctx); err != nil {
			conn.Close() //nolint:errcheck // the first error is the one to tell
			return nil, err
		}
		return secured, nil
	}
}

// TLSConfig is how an encrypted connection is checked; nil for one in the clear.
func TLSConfig(t *settings.TLS) (*tls.Config, error) {
	if t == nil {
		return nil, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: t.ServerName}
	if t.Root != "" {
		pem, err := localfile.Read(t.Root, localfile.MostText)
		if err != nil {
			return nil, &engine.Fault{Code: "tls", Message: "the certificates to trust cannot be read", Cause: err}
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, &engine.Fault{Code: "tls", Message: fmt.Sprintf("the file %s holds no certificate in PEM", t.Root)}
		}
	}
	if t.Certificate != "" {
		pair, err := shown(t)
		if err != nil {
			return nil, &engine.Fault{Code: "tls", Message: "the certificate that we show cannot be read", Cause: err}
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

// shown is the certificate that we show, with its key.
func shown(t *settings.TLS) (tls.Certificate, error) {
	certificate, err := localfile.Read(t.Certificate, localfile.MostText)
	if err != nil {
		return tls.Certificate{}, err
	}
	key, err := localfile.Read(t.Key, localfile.MostText)
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(certificate, key)
}
