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

	"github.com/spf13/cobra"

	"rillmark/internal/engine"
)

// Version is what the binary was built as; the build sets it.
var Version = "0.1.0-dev"

// The exit codes, which scripts may depend on.
const (
	exitOK          = 0
	exitFailed      = 1 // something failed that none of the others names
	exitUsage       = 2 // the command line, or a file that it names, is wrong
	exitRefused     = 3 // the service refused: there is no such thing, a name is taken, a definition is wrong
	exitUnreachable = 4 // the service cannot be reached
	exitNotReady    = 5 // a check found something missing
)

const exitCodes = `Exit codes:
  0  done
  1  failed
  2  the command line, or a file that it names, is wrong
  3  the service refused: no such thing, a name that is taken, a wrong definition
  4  the service cannot be reached
  5  a check found something missing`

// coded is an error with the exit code that goes with it.
type coded struct {
	code int
	err  error
}

func (c *coded) Error() string { return c.err.Error() }
func (c *coded) Unwrap() error { return c.err }

func usage(format string, args ...any) error {
	return &coded{exitUsage, fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	in     io.Reader
	out    io.Writer
	err    io.Writer
	screen io.Writer // err as it is, for drawing over lines
	json   bool
	server string
}

// Main runs one command line and returns the process's exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: plain{out}, err: plain{errs}, screen: errs}
	out, errs = a.out, a.err
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	var c *coded
	code := exitFailed
	if errors.As(err, &c) {
		code = c.code
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

` + exitCodes,
		Example:       "  rillmark serve --config rillmark.yaml\n  rillmark status\n  rillmark watch circulation",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			if close := c.SuggestionsFor(args[0]); len(close) > 0 {
				return usage("unknown command %q: did you mean %s? (`rillmark --help` lists all)", args[0], strings.Join(close, " or "))
			}
			return usage("unknown command %q (`rillmark --help` lists all)", args[0])
		},
	}
	root.SuggestionsMinimumDistance = 2
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%v (`%s --help` shows how it is used)", err, c.CommandPath())
	})
	server := os.Getenv("RILLMARK_SERVER")
	if server == "" {
		server = "http://127.0.0.1:7450"
	}
	root.PersistentFlags().StringVar(&a.server, "server", server, "address of the service")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON instead of tables")
	root.CompletionOptions.HiddenDefaultCmd = true
	root.AddCommand(a.serve(), a.source(), a.destination(), a.form(), a.outlet(), a.mark(), a.deadLetter(), a.watch(), a.read(), a.history(), a.rows(), a.why(), a.schema(), a.journal(), a.verify(), a.cutover(), a.status(), a.log(), a.demo(), a.standIn(), a.version(), a.describe())
	return root
}

// exactly requires n arguments, and names them.
func exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) == len(names) {
			return nil
		}
		wanted := "no argument"
		if len(names) > 0 {
			wanted = "exactly: "
			for i, n := range names {
				if i > 0 {
					wanted += " "
				}
				wanted += n
			}
		}
		return usage("%s takes %s (`%s --help` shows an example)", c.CommandPath(), wanted, c.CommandPath())
	}
}

// group is a noun with verbs; without one it shows its help, and an unknown one
// is refused.
func group(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usage("unknown command %q for %s (`%s --help` lists them)", args[0], c.CommandPath(), c.CommandPath())
		}
		return c.Help()
	}}
	c.AddCommand(verbs...)
	return c
}

// faultText is a problem as a person reads it.
func faultText(message, fix string) string {
	return (&engine.Fault{Message: message, Fix: fix}).Error()
}
