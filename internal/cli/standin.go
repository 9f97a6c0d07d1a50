package cli

import (
	"context"
	"crypto/tls"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/standin"
)

// standIn starts small stand-ins for outside services.
func (a *app) standIn() *cobra.Command {
	ready := func(address string) { fmt.Fprintln(a.Out, "listening on "+address) } //nolint:errcheck // a closed terminal
	var broker standin.Broker
	secured := func(c *cobra.Command, secure *standin.Secure) {
		certificate, key := c.Flags().String("certificate", "", "file of a certificate: speak TLS"), c.Flags().String("key", "", "file of the certificate's key")
		run := c.RunE
		c.RunE = func(c *cobra.Command, args []string) error {
			if *certificate != "" {
				pair, err := tls.LoadX509KeyPair(*certificate, *key)
				if err != nil {
					return terminal.Usage("the certificate cannot be read: %w", err)
				}
				secure.Certificate = &pair
			}
			return run(c, args)
		}
	}
	b := &cobra.Command{Use: "broker", Short: "A broker of the Kafka protocol", Example: "  rillmark stand-in broker --listen 127.0.0.1:9092", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		return broker.Run(c.Context(), ready)
	}}
	b.Flags().StringVar(&broker.Address, "listen", "127.0.0.1:9092", "address, on loopback")
	b.Flags().StringVar(&broker.Folder, "folder", "", "where topics are kept; in memory without it")
	b.Flags().BoolVar(&broker.Create, "create", false, "create topics by themselves")
	b.Flags().BoolVar(&broker.Forget, "forget", false, "check and acknowledge what comes, and keep nothing, for measurements")
	b.Flags().StringVar(&broker.User, "user", "", "want this login")
	b.Flags().StringVar(&broker.Password, "password", "", "the login's password")
	secured(b, &broker.Secure)
	var objects standin.Objects
	o := &cobra.Command{Use: "objects", Short: "An S3-compatible object storage", Example: "  rillmark stand-in objects --listen 127.0.0.1:9000 --folder buckets", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		return objects.Run(c.Context(), ready)
	}}
	o.Flags().StringVar(&objects.Address, "listen", "127.0.0.1:9000", "address, on loopback")
	o.Flags().StringVar(&objects.Folder, "folder", "buckets", "each folder in it is a bucket")
	o.Flags().StringVar(&objects.AccessKey, "access-key", "demo", "the access key that it knows")
	secured(o, &objects.Secure)
	var registry standin.Registry
	r := &cobra.Command{Use: "registry", Short: "A schema registry", Example: "  rillmark stand-in registry --listen 127.0.0.1:8081", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		return registry.Run(c.Context(), ready)
	}}
	r.Flags().StringVar(&registry.Address, "listen", "127.0.0.1:8081", "address, on loopback")
	r.Flags().BoolVar(&registry.Backward, "backward", false, "refuse a version by which what the one before wrote cannot be read")
	secured(r, &registry.Secure)
	var function standin.Function
	var into string
	f := &cobra.Command{Use: "function", Short: "A function that takes events over HTTP and writes them down", Example: "  rillmark stand-in function --listen 127.0.0.1:9100", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		function.Out = a.Out
		if into != "" {
			file, err := os.OpenFile(into, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
			if err != nil {
				return terminal.Usage("%w", err)
			}
			defer file.Close() //nolint:errcheck // each line is written whole
			function.Out = file
		}
		return function.Run(c.Context(), ready)
	}}
	f.Flags().StringVar(&function.Address, "listen", "127.0.0.1:9100", "address, on loopback")
	f.Flags().StringVar(&into, "into", "", "file that requests are written to; standard output without it")
	for _, one := range []*cobra.Command{b, o, r, f} {
		run := one.RunE
		one.RunE = func(c *cobra.Command, args []string) error {
			err := run(c, args)
			if c.Context().Err() == context.Canceled {
				return nil
			}
			return err
		}
	}
	return terminal.Group("stand-in", "Small stand-ins for outside services, for trying things out on one machine", b, o, r, f)
}
