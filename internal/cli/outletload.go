package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/service"
)

func (a *app) outletLoad() *cobra.Command {
	var plan service.LoadPlan
	var wait bool
	c := &cobra.Command{Use: "load NAME", Short: "Read the source's rows again for this outlet alone",
		Long: "For an outlet that came late, or whose tables were damaged: the rows come through the journal,\nin order with all changes, and no other outlet notices. Earlier rows are void for it, as at any\nload; a database loses, at the end, what the source no longer has.\n\n" +
			"With --where only the rows for which a condition in the source's own SQL holds are read, and\nnothing is void. A table that is being loaded already is loaded again afterwards.",
		Example: "  rillmark outlet load reporting --wait\n  rillmark outlet load reporting --tables public.loans\n  rillmark outlet load reporting --tables public.loans --where \"branch_id = 3\"", Args: terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			var asked service.LoadAsked
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/load", plan, &asked)
			if err != nil {
				return err
			}
			if wait {
				if err := a.loadedFor(c.Context(), args[0]); err != nil {
					return err
				}
				return a.done(raw, "%s: loaded for outlet %s", strings.Join(asked.Tables, ", "), args[0])
			}
			return a.done(raw, "%s: loaded for outlet %s alone; `rillmark outlet show %s` shows how far that is", strings.Join(asked.Tables, ", "), args[0], args[0])
		}}
	c.Flags().Var(written.NamesIn(&plan.Tables), "tables", "patterns of the tables to load; all of the outlet's without it")
	c.Flags().StringVar(&plan.Where, "where", "", "a condition in the source's own SQL")
	c.Flags().BoolVar(&wait, "wait", false, "return when the rows are loaded, and delivered")
	return c
}

// loadedFor waits until an outlet's own loads are done and what they brought is delivered.
func (a *app) loadedFor(ctx context.Context, name string) error {
	upTo := int64(0)
	return a.watchStatus(ctx, func(st *service.Status) (done bool, line string, err error) {
		i := slices.IndexFunc(st.Outlets, func(o service.OutletStatus) bool { return o.Name == name })
		if i < 0 {
			return true, "", fmt.Errorf("outlet %s has gone", name)
		}
		o := &st.Outlets[i]
		source := slices.IndexFunc(st.Sources, func(s service.SourceStatus) bool { return s.Name == o.Source })
		switch {
		case o.Phase == "failed":
			return true, "", fmt.Errorf("outlet %s failed at offset %s: %s", name, terminal.Count(o.Committed), o.Error)
		case len(o.Loads) > 0 && source >= 0 && st.Sources[source].Phase != "running":
			return true, "", fmt.Errorf("source %s does not run (%s): its rows are read when it does", o.Source, st.Sources[source].Phase)
		case len(o.Loads) > 0:
			return false, loadWords(o.Loads), nil
		case upTo == 0 && source >= 0:
			upTo = max(st.Sources[source].Journal.Next-1, 1)
		case o.Kind == "pull", o.Committed >= upTo, o.Phase == "paused":
			return true, "", nil // what is paused, or waits for its consumer, is delivered later
		}
		return false, fmt.Sprintf("delivering: at offset %s of %s", terminal.Count(o.Committed), terminal.Count(upTo)), nil
	})
}

// loadWords say how far an outlet's own loads are.
func loadWords(loads []service.OutletLoad) string {
	parts := make([]string, 0, 3)
	for i, l := range loads {
		switch {
		case i == 2 && len(loads) > 3:
			parts = append(parts, fmt.Sprintf("%d tables more", len(loads)-2))
			return strings.Join(parts, ", ")
		case l.Begun:
			parts = append(parts, fmt.Sprintf("%s: %s of about %s rows", l.Table, terminal.Count(l.Rows), terminal.Count(max(l.Rows, l.Estimate))))
		default:
			parts = append(parts, l.Table+" waits")
		}
	}
	return strings.Join(parts, ", ")
}
