package events

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
)

func (a *Reader) schemaDiff() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "diff FROM TO", Short: "Show what changed between two versions of a table's schema",
		Long:    "Columns that stayed as they are are left out, unless --all. A renamed column shows as one\ndropped and one added.",
		Example: "  rillmark schema list --source circulation\n  rillmark schema diff 9d1f6c0e2b7a4d58 41c1a3f06b2f4c1e", Args: terminal.Exactly("FROM", "TO"),
		RunE: func(c *cobra.Command, args []string) error {
			var diff struct {
				Items []change.ColumnDiff `json:"items"`
			}
			raw, err := a.Call(c.Context(), http.MethodGet, "/v1/schemas/"+url.PathEscape(args[1])+"/diff?from="+url.QueryEscape(args[0]), nil, &diff)
			if err != nil || a.JSON {
				return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
			}
			var rows [][]string
			for _, d := range diff.Items {
				if d.What == "same" && !all {
					continue
				}
				before, after := "", ""
				if d.Before != nil {
					before = d.Before.TypeName()
				}
				if d.After != nil {
					after = d.After.TypeName()
				}
				rows = append(rows, []string{d.Name, d.What, terminal.Dash(before), terminal.Dash(after), d.Says})
			}
			if len(rows) == 0 {
				_, err := fmt.Fprintln(a.Out, "the columns are the same")
				return err
			}
			return terminal.Table(a.Out, []string{"column", "what", "before", "after", ""}, rows)
		}}
	c.Flags().BoolVar(&all, "all", false, "columns that stayed, too")
	return c
}
