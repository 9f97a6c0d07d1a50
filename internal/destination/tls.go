package destination

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"

	"rillmark/internal/definition"
	"rillmark/internal/engine"
)

// TLSConfig is how an encrypted connection is checked; nil for one in the clear.
func TLSConfig(t *definition.TLS) (*tls.Config, error) {
	if t == nil {
		return nil, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: t.ServerName}
	if t.Root != "" {
		pem, err := os.ReadFile(t.Root)
		if err != nil {
			return nil, &engine.Fault{Code: "tls", Message: "the certificates to trust cannot be read", Cause: err}
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, &engine.Fault{Code: "tls", Message: fmt.Sprintf("the file %s holds no certificate in PEM", t.Root)}
		}
	}
	if t.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(t.Certificate, t.Key)
		if err != nil {
			return nil, &engine.Fault{Code: "tls", Message: "the certificate that we show cannot be read", Cause: err}
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}
