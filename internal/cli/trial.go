package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/events"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/jsontext"
)

func (a *app) sourceTry() *cobra.Command {
	var f sourceFlags
	var span time.Duration
	c := &cobra.Command{
		Use:     "try NAME",
		Short:   "Watch real changes for a while, and leave nothing behind",
		Long:    "Follows the tables that the flags or the file choose, or the stored definition's, over a slot\nand a publication that are dropped at the end. Shows each event as it would be delivered,\nthen how many of each table and operation came. Rows that exist already are not read.\nCtrl-C ends it early.",
		Example: "  rillmark source try circulation --for 30s\n  rillmark source try circulation --file circulation.yaml --json",
		Args:    terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			d, body, err := f.maybe(a, c)
			if err != nil {
				return err
			}
			path := fmt.Sprintf("/v1/sources/%s/try?seconds=%d", url.PathEscape(args[0]), int(span.Seconds()))
			r, err := a.Request(c.Context(), http.MethodPost, path, body)
			if err != nil {
				return err
			}
			response, err := a.Send(r)
			if err != nil {
				return d.Explained(err)
			}
			defer response.Body.Close() //nolint:errcheck // it was only read
			return a.printTrial(c, bufio.NewScanner(response.Body), span)
		},
	}
	f.register(c)
	c.Flags().DurationVar(&span, "for", time.Minute, "how long, up to 10m")
	return c
}

// trialLine reads a line; an event in it may be nested deeper than encoding/json reads.
func trialLine(raw []byte) (l api.TrialLine, err error) {
	if event, is := bytes.CutPrefix(raw, []byte(`{"event":`)); is {
		l.Event, _, err = jsontext.Next(event)
		return l, err
	}
	return l, json.Unmarshal(raw, &l)
}

func (a *app) printTrial(c *cobra.Command, lines *bufio.Scanner, span time.Duration) error {
	lines.Buffer(make([]byte, 64<<10), terminal.MaxLine)
	for lines.Scan() {
		l, err := trialLine(lines.Bytes())
		if err != nil {
			return fmt.Errorf("the service answered with what is no line of a trial: %w", err)
		}
		switch {
		case l.Problem != nil:
			return &terminal.Refusal{Problem: *l.Problem}
		case a.JSON && !l.Ready:
			fmt.Fprintf(a.Out, "%s\n", lines.Bytes()) //nolint:errcheck // a closed terminal
		case l.Ready:
			fmt.Fprintf(a.Err, "watching for %s; change something\n", span) //nolint:errcheck // a closed terminal
		case l.Event != nil:
			if err := (&events.Reader{Session: &a.Session}).PrintEvent(l.Event); err != nil {
				return err
			}
		case l.Done:
			rows := make([][]string, len(l.Counts))
			for i, n := range l.Counts {
				rows[i] = []string{terminal.Dash(n.Table), n.Operation, terminal.Count(n.Events)}
			}
			if len(rows) == 0 {
				fmt.Fprintln(a.Out, "nothing was changed meanwhile; nothing is left behind on the source") //nolint:errcheck // a closed terminal
				return nil
			}
			fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
			return terminal.Table(a.Out, []string{"table", "operation", ">events"}, rows)
		}
	}
	if c.Context().Err() != nil {
		return nil // the person has seen enough; the service clears up
	}
	return lines.Err()
}
