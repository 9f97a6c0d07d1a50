package events

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/service/impact"
)

func (a *Reader) schemaImpact() *cobra.Command {
	var sql, file string
	c := &cobra.Command{Use: "impact SOURCE", Short: "Say what a change of a table's definition would do, before it is made",
		Long: `Runs one ALTER TABLE or DROP TABLE on an empty copy of the table, in the scratch database that
the service's configuration names, and says what would become of the source's events and of each
outlet. The source itself is only asked for the table's definition. An ALTER or DROP of a type or
a domain of PostgreSQL runs on copies of all captured tables that have columns of it.

  unaffected  what goes out stays as it is
  differs     it goes on, and what goes out is different
  loses       it goes on, and something no longer comes
  holds       it stops there until somebody acts

The exit code is 5 where anything loses or holds.`,
		Example: "  rillmark schema impact circulation --sql 'ALTER TABLE loans RENAME COLUMN due_on TO due_date'\n  rillmark schema impact circulation --file migration.sql", Args: terminal.Exactly("SOURCE"),
		RunE: func(c *cobra.Command, args []string) error {
			if (sql == "") == (file == "") {
				return terminal.Usage("give the statement by --sql or by --file")
			}
			if file != "" {
				read := func() ([]byte, error) { return os.ReadFile(file) }
				if file == "-" {
					read = func() ([]byte, error) { return io.ReadAll(a.In) }
				}
				raw, err := read()
				if err != nil {
					return terminal.Usage("the statement cannot be read: %w", err)
				}
				sql = string(raw)
			}
			var report impact.SchemaImpact
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/impact", api.Statement{SQL: sql}, &report)
			if err != nil {
				return err
			}
			if a.JSON {
				err = a.PrintJSON(raw)
			} else {
				a.printImpact(&report)
				for i := range report.Also {
					fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
					a.printImpact(&report.Also[i])
				}
			}
			if err == nil && (report.Worst() == impact.Holds || report.Worst() == impact.Loses) {
				err = terminal.WithCode(terminal.ExitNotReady, fmt.Errorf("the statement would have consequences: %s", report.Worst()))
			}
			return err
		}}
	c.Flags().StringVar(&sql, "sql", "", "the statement")
	c.Flags().StringVar(&file, "file", "", "file that holds the statement; - for standard input")
	return c
}

// printImpact shows outlets together of which the same would become.
func (a *Reader) printImpact(r *impact.SchemaImpact) {
	says := strings.Join(r.Changes, ", ")
	if says == "" {
		says = "its version stays the same"
	}
	fmt.Fprintf(a.Out, "%s: %s\n", r.Table, says) //nolint:errcheck // a closed terminal
	printFindings(a.Out, r.Findings, "")
	var names []string
	for i, o := range r.Outlets {
		name := o.Outlet
		if o.Destination != "" {
			name += " (" + o.Destination + ")"
		}
		names = append(names, name)
		if i+1 < len(r.Outlets) && alike(&o, &r.Outlets[i+1]) {
			continue
		}
		fmt.Fprintf(a.Out, "\n%s: %s\n", strings.Join(names, ", "), o.Verdict) //nolint:errcheck // a closed terminal
		printFindings(a.Out, o.Findings, o.Verdict)
		for _, one := range o.Statements {
			fmt.Fprintf(a.Out, "    %s\n", one) //nolint:errcheck // a closed terminal
		}
		names = nil
	}
}

// alike reports whether the same would become of two outlets.
func alike(a, b *impact.OutletImpact) bool {
	return slices.Equal(a.Findings, b.Findings) && len(a.Statements)+len(b.Statements) == 0
}

// printFindings names the verdict of a finding where it is not that of all.
func printFindings(out io.Writer, findings []impact.Finding, of impact.Verdict) {
	for _, f := range findings {
		says := f.Says
		if f.Verdict != of {
			says = string(f.Verdict) + ": " + says
		}
		fmt.Fprintf(out, "  %s\n", says) //nolint:errcheck // a closed terminal
		if f.Fix != "" {
			fmt.Fprintf(out, "    Fix: %s\n", f.Fix) //nolint:errcheck // a closed terminal
		}
	}
}
