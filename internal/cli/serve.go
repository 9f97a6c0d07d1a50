package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"rillmark/console"
	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/config"
	"rillmark/internal/service"
	"rillmark/internal/thrift"
)

// shutdownGrace is what requests have to end in; with what the captures take it
// stays within the ten seconds that are promised.
const shutdownGrace = 3 * time.Second

func (a *app) serve() *cobra.Command {
	var config string
	var paused bool
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service: captures, outlets, API and console",
		Long: `Runs until it is asked to stop (SIGINT, SIGTERM), which takes at most ten
seconds. The configuration is YAML; the page docs/configuration.md lists its
fields. Minimal configuration:

  state_database: postgres://rillmark@127.0.0.1:5432/rillmark`,
		Example: "  rillmark serve --config rillmark.yaml",
		Args:    terminal.Exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.runService(c.Context(), config, paused)
		},
	}
	c.Flags().StringVar(&config, "config", "rillmark.yaml", "configuration file")
	c.Flags().BoolVar(&paused, "paused", false, "pause every source and outlet before any of them starts; each is resumed by hand")
	return c
}

func (a *app) runService(ctx context.Context, path string, paused bool) error {
	config, err := config.LoadConfig(path)
	if err != nil {
		return terminal.WithCode(terminal.ExitUsage, err)
	}
	config.StartPaused = paused
	logger, err := newLogger(config, a.Err)
	if err != nil {
		return terminal.WithCode(terminal.ExitUsage, err)
	}
	listener, err := net.Listen("tcp", config.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("the address %s is taken by another program: stop it, or set listen in %s", config.Listen, path)
	}
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w", config.Listen, err)
	}
	defer listener.Close() //nolint:errcheck // closed already where the server ran
	thrifty, unbound := context.WithCancel(ctx)
	var kept sync.WaitGroup
	kept.Go(func() { thrift.Keep(thrifty) })
	defer kept.Wait()
	defer unbound()
	s, err := service.Open(ctx, config, logger, time.Minute)
	if err != nil {
		return err
	}
	logger.Info("API and console answer", "address", "http://"+listener.Addr().String())
	err = api.Serve(ctx, thrift.Listener(listener), api.New(s, Version, console.Files(), logger), s.Drain, shutdownGrace)
	reason := "asked to by a signal"
	if err != nil {
		reason = err.Error()
	}
	s.Close(reason)
	logger.Info("stopped", "reason", reason)
	return err
}

func newLogger(config *config.Config, to interface{ Write([]byte) (int, error) }) (*slog.Logger, error) {
	level := slog.LevelInfo
	if config.LogLevel != "" {
		if err := level.UnmarshalText([]byte(config.LogLevel)); err != nil {
			return nil, fmt.Errorf("the configuration: log_level %q is none of debug, info, warn, error", config.LogLevel)
		}
	}
	options := &slog.HandlerOptions{Level: level}
	if config.LogFormat == "json" {
		return slog.New(slog.NewJSONHandler(to, options)), nil
	}
	return slog.New(slog.NewTextHandler(to, options)), nil
}

// describe prints the API's description, from which the console's types are made.
func (a *app) describe() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the description of the API (OpenAPI 3.1)", Hidden: true, Args: terminal.Exactly(), RunE: func(*cobra.Command, []string) error {
		document, err := api.OpenAPI(Version)
		if err != nil {
			return err
		}
		_, err = a.Out.Write(append(document, '\n'))
		return err
	}}
}
