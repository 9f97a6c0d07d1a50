package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/service/comparing"
	"rillmark/internal/verify"
)

func (a *app) verify() *cobra.Command {
	var p comparePlan
	c := &cobra.Command{Use: "verify OUTLET", Short: "Compare the rows that an outlet keeps in a database with the source's",
		Long: "Reads both sides by content, while both change. What differs is read again once the outlet\nhas passed that moment, so that only real differences are shown. Exit code 5 says that\nsomething differs, or could not be compared.\n\n" +
			"With --fix, what differs is loaded again for this outlet alone, in order with all else, and the\ncomparison is repeated: rows that are missing or different by their keys; where the target has\nrows that the source has not, or there are many, the table.\n\n" +
			"With --sample 5%, blocks of rows of large tables are drawn at random: a quick look at a large\ndatabase. A comparison that was cut short goes on with --resume.",
		Example: "  rillmark verify reporting\n  rillmark verify reporting --tables public.loans --json | jq .differences\n  rillmark verify reporting --fix\n  rillmark verify reporting --sample 5%\n  rillmark verify reporting --resume", Args: terminal.Exactly("OUTLET"),
		RunE: func(c *cobra.Command, args []string) error {
			found, err := a.compare(c.Context(), args[0], p)
			if err != nil {
				return err
			}
			if len(found.Fixes) > 0 {
				if !a.JSON {
					if err := a.printComparison(found); err != nil {
						return err
					}
					fmt.Fprintf(a.Out, "\n%s\n\n", fixWords(found.Fixes)) //nolint:errcheck // a closed terminal
				}
				if err := a.loadedFor(c.Context(), args[0]); err != nil {
					return err
				}
				fixes := found.Fixes
				p.fix, p.resume = false, false
				if found, err = a.compare(c.Context(), args[0], p); err != nil {
					return err
				}
				found.Fixes = fixes
			}
			return a.printCompared(found)
		}}
	c.Flags().StringVar(&p.sample, "sample", "", "compare this share of the rows of large tables, as 5%; all without it")
	c.Flags().BoolVar(&p.resume, "resume", false, "go on with the last comparison that was not completed")
	c.Flags().BoolVar(&p.fix, "fix", false, "load what differs again for this outlet alone, and compare once more")
	c.Flags().Var(written.NamesIn(&p.tables), "tables", "patterns of the tables to compare; all of the outlet's without it")
	return c
}

// comparePlan is what is compared.
type comparePlan struct {
	tables      []string
	sample      string
	fix, resume bool
}

// compare has an outlet compared, and shows how that goes.
func (a *app) compare(ctx context.Context, outlet string, p comparePlan) (found *comparing.Verification, err error) {
	query := url.Values{}
	if len(p.tables) > 0 {
		query["table"] = p.tables
	}
	if p.fix {
		query.Set("fix", "true")
	}
	if p.resume {
		query.Set("resume", "true")
	}
	if p.sample != "" {
		query.Set("sample", strings.TrimSpace(strings.TrimSuffix(p.sample, "%")))
	}
	address := "/v1/outlets/" + url.PathEscape(outlet) + "/verify"
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	r, err := a.Request(ctx, http.MethodPost, address, nil)
	if err != nil {
		return nil, err
	}
	err = terminal.EachLine(&a.Session, r, func(l *api.CompareLine) (bool, error) {
		switch {
		case l.Problem != nil:
			return true, &terminal.Refusal{Problem: *l.Problem}
		case l.Result != nil:
			found = l.Result
			return true, nil
		case l.Table != nil && !l.Table.Done && !a.JSON:
			fmt.Fprintf(a.Err, "%s: %s of about %s rows\n", l.Table.Table, terminal.Count(l.Table.Rows), terminal.Count(max(l.Table.Estimate, l.Table.Rows))) //nolint:errcheck // a closed terminal
		}
		return false, nil
	})
	if ctx.Err() != nil && !a.JSON {
		fmt.Fprintf(a.Err, "the comparison was cut short; `rillmark verify %s --resume` goes on with it\n", outlet) //nolint:errcheck // a closed terminal
	}
	if err == nil && found == nil {
		err = errors.New("the service ended the comparison without a result")
	}
	return found, err
}

// fixWords say what is loaded again.
func fixWords(fixes []comparing.Fix) string {
	parts := make([]string, len(fixes))
	for i, f := range fixes {
		switch f.Rows {
		case 0:
			parts[i] = "all rows of " + f.Table
		case 1:
			parts[i] = "1 row of " + f.Table
		default:
			parts[i] = fmt.Sprintf("%d rows of %s", f.Rows, f.Table)
		}
	}
	return "loading again for this outlet: " + strings.Join(parts, ", ")
}

// shownDifferences are printed; --json has more.
const shownDifferences = 20

func (a *app) printCompared(v *comparing.Verification) error {
	if a.JSON {
		raw, err := json.Marshal(v)
		if err == nil {
			err = a.PrintJSON(raw)
		}
		if err != nil {
			return err
		}
	} else if err := a.printComparison(v); err != nil {
		return err
	}
	if v.Equal {
		return nil
	}
	return terminal.WithCode(terminal.ExitNotReady, fmt.Errorf("%s is not equal to its source", v.Outlet))
}

func (a *app) printComparison(v *comparing.Verification) error {
	rows := make([][]string, len(v.Tables))
	for i, t := range v.Tables {
		verdict := "equal"
		switch {
		case t.Skipped != "":
			verdict = "not compared: " + t.Skipped
		case !t.Equal():
			verdict = "differs"
		case t.Sampled:
			verdict = "equal, as far as was looked at"
		}
		rows[i] = []string{t.Table, terminal.Count(t.Rows), dashZero(t.Missing), dashZero(t.Extra), dashZero(t.Different), dashZero(t.Undecided), verdict}
	}
	if err := terminal.Table(a.Out, []string{"table", ">rows", ">missing", ">extra", ">different", ">undecided", "verdict"}, rows); err != nil {
		return err
	}
	for i, d := range v.Differences {
		if i == shownDifferences {
			fmt.Fprintf(a.Out, "… --json has more\n") //nolint:errcheck // a closed terminal
			break
		}
		if i == 0 {
			fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
		}
		fmt.Fprintf(a.Out, "%s %s %s%s\n", d.Kind, d.Table, terminal.KeyWords(d.Key), columnWords(d.Columns)) //nolint:errcheck // a closed terminal
	}
	return nil
}

func dashZero(n int64) string {
	if n == 0 {
		return "-"
	}
	return terminal.Count(n)
}

func columnWords(columns []verify.ColumnDifference) string {
	word := func(v *string) string {
		if v == nil {
			return "null"
		}
		return fmt.Sprintf("%q", *v)
	}
	var parts []string
	for _, c := range columns {
		parts = append(parts, fmt.Sprintf("%s is %s, not %s", c.Name, word(c.Target), word(c.Source)))
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, ", ")
}
