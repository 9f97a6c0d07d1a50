// Package cli is the command rillmark: the service, and a client of its API.
// But for serve and demo, no command does anything that the API does not.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"rillmark/internal/cli/events"
	"rillmark/internal/cli/terminal"

	"github.com/spf13/cobra"
)

// Version is what the binary was built as: the changelog's newest version and the commit. The
// build sets it.
var Version = "0.0.0+development"

// app is what all commands share.
type app struct{ terminal.Session }

// Main runs one command line and returns the process's exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // with nohup it is to go on
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ends...)
	defer stop()
	a := &app{terminal.NewSession(Version, in, out, errs)}
	out, errs = a.Out, a.Err
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return terminal.ExitOK
	}
	var c *terminal.Coded
	code := terminal.ExitFailed
	if errors.As(err, &c) {
		code = c.Code
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(errs, "rillmark: "+text) //nolint:errcheck // there is nowhere else to tell it
	}
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "rillmark",
		Short: "Capture row-level changes from database logs and deliver them with resumable offsets",
		Long: `Rillmark captures row-level inserts, updates and deletes from the transaction
logs of databases, keeps them as one ordered, durable journal for each source,
and delivers them to any number of consumers, each with an offset of its own.

  source ──capture──▶ journal ──▶ outlet ──▶ destination

All commands but serve and demo talk to a running service: --server, or the
environment's RILLMARK_SERVER, says where it is; RILLMARK_TOKEN holds its token.

` + terminal.ExitCodes,
		Example:       "  rillmark serve --config rillmark.yaml\n  rillmark status\n  rillmark watch circulation",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			if close := c.SuggestionsFor(args[0]); len(close) > 0 {
				return terminal.Usage("unknown command %q: did you mean %s? (`rillmark --help` lists all)", args[0], strings.Join(close, " or "))
			}
			return terminal.Usage("unknown command %q (`rillmark --help` lists all)", args[0])
		},
	}
	root.SuggestionsMinimumDistance = 2
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return terminal.Usage("%v (`%s --help` shows how it is used)", err, c.CommandPath())
	})
	server := os.Getenv("RILLMARK_SERVER")
	if server == "" {
		server = "http://127.0.0.1:7450"
	}
	root.PersistentFlags().StringVar(&a.Server, "server", server, "address of the service")
	root.PersistentFlags().BoolVar(&a.JSON, "json", false, "print JSON instead of tables")
	root.CompletionOptions.HiddenDefaultCmd = true
	reader := events.Reader{Session: &a.Session}
	root.AddCommand(a.serve(), a.source(), a.destination(), a.form(), a.outlet(), a.mark(), a.deadLetter(), reader.Watch(), reader.Read(), reader.History(), reader.Rows(), reader.Why(), reader.Schema(), reader.Journal(), a.verify(), a.cutover(), a.status(), a.log(), a.demo(), a.standIn(), a.version(), a.describe())
	return root
}
