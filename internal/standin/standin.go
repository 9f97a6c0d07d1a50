// Package standin has small stand-ins for outside services, for the demo, the
// tests and a first try on one machine: a broker of the Kafka protocol, an
// S3-compatible object storage, a schema registry, and a function that takes
// events over HTTP. They listen on loopback only and are not made to last.
package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/twmb/franz-go/pkg/kfake"
)

// Loopback refuses an address that others could reach.
func Loopback(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("%q is no address: write 127.0.0.1:port", address)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("a stand-in listens on loopback only, not on %s", address)
	}
	return nil
}

// Broker is how a stand-in broker runs.
type Broker struct {
	Address  string
	Folder   string // where topics are kept; in memory without it
	Create   bool   // topics by themselves
	Forget   bool   // check and acknowledge what comes, and keep nothing, for measurements
	User     string // with Password: SCRAM-SHA-512 or PLAIN is required
	Password string
	Secure
}

// Secure is how a stand-in speaks TLS; the zero value is in the clear.
type Secure struct{ Certificate *tls.Certificate }

func (s Secure) config() *tls.Config {
	if s.Certificate == nil {
		return nil
	}
	return &tls.Config{Certificates: []tls.Certificate{*s.Certificate}, MinVersion: tls.VersionTLS12}
}

// Run serves until ctx is done. ready is called once it listens.
func (b Broker) Run(ctx context.Context, ready func(address string)) error {
	if err := Loopback(b.Address); err != nil {
		return err
	}
	_, port, _ := net.SplitHostPort(b.Address)
	number, err := net.LookupPort("tcp", port)
	if err != nil {
		return err
	}
	options := []kfake.Opt{kfake.NumBrokers(1), kfake.Ports(number), kfake.DefaultNumPartitions(3)}
	if b.Create {
		options = append(options, kfake.AllowAutoTopicCreation())
	}
	if b.Forget {
		options = append(options, kfake.BlackholeProduce())
	}
	if b.Folder != "" {
		options = append(options, kfake.DataDir(b.Folder), kfake.SyncWrites())
	}
	if b.User != "" {
		options = append(options, kfake.EnableSASL(), kfake.Superuser("SCRAM-SHA-512", b.User, b.Password), kfake.Superuser("PLAIN", b.User, b.Password))
	}
	if secure := b.config(); secure != nil {
		options = append(options, kfake.TLS(secure))
	}
	cluster, err := kfake.NewCluster(options...)
	if err != nil {
		return err
	}
	defer cluster.Close()
	ready(cluster.ListenAddrs()[0])
	<-ctx.Done()
	return nil
}

// serve answers HTTP until ctx is done.
func serve(ctx context.Context, address string, secure Secure, handler http.Handler, ready func(address string)) error {
	if err := Loopback(address); err != nil {
		return err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	if config := secure.config(); config != nil {
		listener = tls.NewListener(listener, config)
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		<-ctx.Done()
		last, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		server.Shutdown(last) //nolint:errcheck // the process ends
	}()
	ready(listener.Addr().String())
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	<-stopped
	return nil
}
