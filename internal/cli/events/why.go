package events

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/service/explaining"

	"github.com/spf13/cobra"
)

// Why is the command `why`: what an outlet made of an event.
func (a *Reader) Why() *cobra.Command {
	return &cobra.Command{Use: "why OUTLET OFFSET", Short: "Say what became of one event at an outlet, and by what",
		Long:    "Which pattern takes its table, what each condition makes of it, which messages it becomes, and\nwhether it is delivered, waits, or is a dead letter.",
		Example: "  rillmark why reporting 4821", Args: terminal.Exactly("OUTLET", "OFFSET"), RunE: func(c *cobra.Command, args []string) error {
			offset, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return terminal.Usage("%q is no offset", args[1])
			}
			var w explaining.Why
			raw, err := a.Call(c.Context(), http.MethodGet, fmt.Sprintf("/v1/outlets/%s/why?offset=%d", url.PathEscape(args[0]), offset), nil, &w)
			if err != nil || a.JSON {
				return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
			}
			if len(w.Event) > 0 {
				if err := a.PrintEvent(w.Event); err != nil {
					return err
				}
			}
			for _, step := range w.Steps {
				word := map[bool]string{true: "passes", false: "stops"}[step.Passes]
				fmt.Fprintf(a.Out, "%-11s %-7s %s\n", step.What, word, step.Text) //nolint:errcheck // a closed terminal
			}
			for i := range w.Messages {
				m := &w.Messages[i]
				line := "message     " + m.Type
				for _, part := range [][2]string{{"topic", m.Topic}, {"key", m.Key}, {"partition", m.Partition}} {
					if part[1] != "" {
						line += ", " + part[0] + " " + part[1]
					}
				}
				fmt.Fprintf(a.Out, "%s, %s bytes\n", line, terminal.Count(int64(m.Size))) //nolint:errcheck // a closed terminal
				if m.Problem != "" {
					fmt.Fprintf(a.Out, "            cannot be sent: %s\n", m.Problem) //nolint:errcheck // a closed terminal
				}
			}
			fmt.Fprintf(a.Out, "%-11s %s\n", strings.ReplaceAll(w.Fate, "-", " "), w.Text) //nolint:errcheck // a closed terminal
			return nil
		}}
}
