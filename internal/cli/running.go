package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/catalog"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/demo"
	"rillmark/internal/service"
)

func (a *app) status() *cobra.Command {
	return &cobra.Command{Use: "status", Short: "Show how everything stands", Example: "  rillmark status\n  rillmark status --json | jq '.outlets[].behind_events'", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		st, raw, err := a.statusNow(c.Context())
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		return a.printStatus(st)
	}}
}

func (a *app) printStatus(st *service.Status) error {
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format+"\n", args...) } //nolint:errcheck // a closed terminal
	say("running since %s", terminal.Moment(st.Started))
	if !st.StateDatabase.OK {
		say("the state database does not answer: %s", st.StateDatabase.Error)
	}
	if len(st.Sources) == 0 {
		say("\nno sources yet: `rillmark source add --help` shows how to begin")
	}
	for _, s := range st.Sources {
		state := s.Phase
		if s.Doing != "" {
			state += ", " + s.Doing
		}
		if s.Phase == "paused" && s.Reason != "" {
			state += " (" + s.Reason + ")"
		}
		delay := "-"
		if s.Delay != nil {
			delay = terminal.Seconds(*s.Delay)
		}
		say("\nsource %s: %s", s.Name, state)
		if s.Error != "" {
			say("  error    %s", s.Error)
		}
		say("  journal  %s events, next offset %s, %s on disk; %.1f events/s, commit to journal %s\n", terminal.Count(s.Journal.Events), terminal.Count(s.Journal.Next), terminal.Size(s.Journal.Bytes), s.Rate, delay)
		if err := a.printTables(s.Tables); err != nil {
			return err
		}
	}
	if len(st.Outlets) > 0 {
		say("")
		if err := a.printOutlets(st.Outlets); err != nil {
			return err
		}
		for _, o := range st.Outlets {
			if o.Error != "" {
				say("  %s: %s", o.Name, o.Error)
			}
			if len(o.Unmatched) > 0 {
				say("  %s: %s", o.Name, noTable(&o))
			}
		}
	}
	return nil
}

func (a *app) log() *cobra.Command {
	var subject string
	var since time.Duration
	var limit int
	c := &cobra.Command{Use: "log", Short: "Show the log of the run: loads, starts, stops, connections, errors", Example: "  rillmark log\n  rillmark log --subject source/circulation --since 1h", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all struct {
			Items []catalog.LogEntry `json:"items"`
		}
		from := time.Now().Add(-since).UTC().Format(time.RFC3339)
		raw, err := a.Call(c.Context(), http.MethodGet, fmt.Sprintf("/v1/log?limit=%d&subject=%s&since=%s", limit, url.QueryEscape(subject), from), nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		for i := len(all.Items) - 1; i >= 0; i-- { // a log is read downwards
			e := all.Items[i]
			if _, err := fmt.Fprintf(a.Out, "%s  %-5s  %-22s  %s\n", terminal.Moment(e.At), e.Level, e.Subject, e.Message); err != nil {
				return err
			}
		}
		return nil
	}}
	c.Flags().StringVar(&subject, "subject", "", "source/NAME, outlet/NAME, destination/NAME or service")
	c.Flags().DurationVar(&since, "since", 24*time.Hour, "how far back")
	c.Flags().IntVar(&limit, "limit", 200, "lines at most")
	return c
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Show the version of the client and, where one answers, of the service", Example: "  rillmark version", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var answered api.Version
		_, err := a.Call(c.Context(), http.MethodGet, "/v1/version", nil, &answered)
		if a.JSON {
			service := "null"
			if err == nil {
				service = fmt.Sprintf("%q", answered.Version)
			}
			return a.PrintJSON([]byte(fmt.Sprintf(`{"client":%q,"service":%s}`, Version, service)))
		}
		fmt.Fprintf(a.Out, "client   %s\n", Version) //nolint:errcheck // a closed terminal
		if err != nil {
			answered.Version = "none answers at " + a.Server
		}
		_, err = fmt.Fprintf(a.Out, "service  %s\n", answered.Version)
		return err
	}}
}

func (a *app) demo() *cobra.Command {
	options := demo.Options{Out: a.Out, Err: a.Err}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start everything on this machine with made-up data: databases, service, a working day",
		Long: `Starts a state database and a source database (PostgreSQL, loopback only) below
--folder, fills the circulation tables of an invented library network, starts
stand-ins for a broker and an HTTP function, runs the service with one source and
five outlets, and plays a working day until Ctrl-C.
A second start goes on with the first one's data.`,
		Example: "  rillmark demo\n  rillmark demo --example",
		Args:    terminal.Exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			return demo.Run(c.Context(), options)
		},
	}
	c.Flags().StringVar(&options.Folder, "folder", ".demo", "where databases, journal and delivered files are kept")
	c.Flags().IntVar(&options.Port, "port", 7450, "port of API and console; databases and stand-ins take the next four")
	c.Flags().IntVar(&options.Rate, "rate", 20, "transactions a second")
	c.Flags().BoolVar(&options.Example, "example", false, "run a scripted minute instead, compare, and end")
	return c
}
