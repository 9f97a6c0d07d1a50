package cli

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/service/explaining"

	"github.com/spf13/cobra"
)

func (a *app) outletFlow() *cobra.Command {
	var minutes int
	c := &cobra.Command{Use: "flow NAME", Short: "What became of the events that an outlet has read, table by table",
		Long: "Shows an equation for each table: the events that were read are the messages that went out,\nwithout those besides the first of an event (split), and what was kept back, merged with\nothers, and made dead letters. Counts go back an hour, in steps of five minutes, and begin\n" +
			"anew with the service.",
		Example: "  rillmark outlet flow reporting\n  rillmark outlet flow reporting --minutes 10 --json", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var f explaining.OutletFlow
			raw, err := a.Call(c.Context(), http.MethodGet, fmt.Sprintf("/v1/outlets/%s/flow?minutes=%d", url.PathEscape(args[0]), minutes), nil, &f)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(raw)
			}
			return a.printFlow(&f)
		}}
	c.Flags().IntVar(&minutes, "minutes", 60, "how far back, up to an hour")
	return c
}

func (a *app) printFlow(f *explaining.OutletFlow) error {
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format, args...) } //nolint:errcheck // a closed terminal
	say("outlet %s since %s\n\n", f.Outlet, f.Since.Local().Format(time.DateTime))
	rows := make([][]string, 0, len(f.Tables)+1)
	line := func(l *explaining.FlowLine, name string) {
		sum := ""
		if !l.Settled {
			sum = "does not add up"
		}
		rows = append(rows, []string{name, terminal.Count(l.Read), terminal.Count(l.Messages), dashZero(l.Split), dashZero(l.KeptBack), dashZero(l.Merged), dashZero(l.Dead), sum})
	}
	for i := range f.Tables {
		line(&f.Tables[i], cmp.Or(f.Tables[i].Table, "-"))
	}
	line(&f.Total, "all")
	if err := terminal.Table(a.Out, []string{"table", ">read", ">= messages", ">- split", ">+ kept back", ">+ merged", ">+ dead letters", ""}, rows); err != nil {
		return err
	}
	say("\nwent past %s events, %s of them of tables that it does not take\n", terminal.Count(f.Passed), terminal.Count(f.Other))
	say("took %s for reading and shaping, %s for sending, %s until it was durable there\n", terminal.Seconds(f.Shaping), terminal.Seconds(f.Sending), terminal.Seconds(f.Committing))
	say("committed offset %s; %s dead letters now\n", terminal.Count(f.Committed), terminal.Count(f.DeadNow))
	return nil
}
