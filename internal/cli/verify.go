package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/service"
	"rillmark/internal/verify"
)

func (a *app) verify() *cobra.Command {
	var tables []string
	c := &cobra.Command{Use: "verify OUTLET", Short: "Compare the rows that an outlet keeps in a database with the source's",
		Long:    "Reads both sides by content, while both change. What differs is read again once the outlet\nhas passed that moment, so that only real differences are shown. Exit code 5 says that\nsomething differs, or could not be compared.",
		Example: "  rillmark verify reporting\n  rillmark verify reporting --tables public.loans --json | jq .differences", Args: exactly("OUTLET"),
		RunE: func(c *cobra.Command, args []string) error {
			query := ""
			if len(tables) > 0 {
				query = "?" + url.Values{"table": tables}.Encode()
			}
			r, err := a.request(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/verify"+query, nil)
			if err != nil {
				return err
			}
			return eachLine(a, r, func(l *api.CompareLine) (bool, error) {
				switch {
				case l.Problem != nil:
					return true, &refusal{*l.Problem}
				case l.Result != nil:
					return true, a.printCompared(l.Result)
				case l.Table != nil && !l.Table.Done && !a.json:
					fmt.Fprintf(a.err, "%s: %s of about %s rows\n", l.Table.Table, count(l.Table.Rows), count(max(l.Table.Estimate, l.Table.Rows))) //nolint:errcheck // a closed terminal
				}
				return false, nil
			})
		}}
	c.Flags().StringSliceVar(&tables, "tables", nil, "patterns of the tables to compare; all of the outlet's without it")
	return c
}

// shownDifferences are printed; --json has more.
const shownDifferences = 20

func (a *app) printCompared(v *service.Verification) error {
	if a.json {
		raw, err := json.Marshal(v)
		if err == nil {
			err = a.printJSON(raw)
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
	return &coded{exitNotReady, fmt.Errorf("%s is not equal to its source", v.Outlet)}
}

func (a *app) printComparison(v *service.Verification) error {
	rows := make([][]string, len(v.Tables))
	for i, t := range v.Tables {
		verdict := "equal"
		switch {
		case t.Skipped != "":
			verdict = "not compared: " + t.Skipped
		case !t.Equal():
			verdict = "differs"
		}
		rows[i] = []string{t.Table, count(t.Rows), dashZero(t.Missing), dashZero(t.Extra), dashZero(t.Different), dashZero(t.Undecided), verdict}
	}
	if err := table(a.out, []string{"table", ">rows", ">missing", ">extra", ">different", ">undecided", "verdict"}, rows); err != nil {
		return err
	}
	for i, d := range v.Differences {
		if i == shownDifferences {
			fmt.Fprintf(a.out, "… --json has more\n") //nolint:errcheck // a closed terminal
			break
		}
		if i == 0 {
			fmt.Fprintln(a.out) //nolint:errcheck // a closed terminal
		}
		fmt.Fprintf(a.out, "%s %s %s%s\n", d.Kind, d.Table, keyWords(d.Key), columnWords(d.Columns)) //nolint:errcheck // a closed terminal
	}
	return nil
}

func dashZero(n int64) string {
	if n == 0 {
		return "-"
	}
	return count(n)
}

func keyWords(key map[string]string) string {
	parts := make([]string, 0, len(key))
	for name, value := range key {
		parts = append(parts, name+" "+value)
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
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
