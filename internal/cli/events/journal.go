package events

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
)

// Journal is the command `journal`, which looks whether one is whole.
func (a *Reader) Journal() *cobra.Command {
	return terminal.Group("journal", "The stored events of a source", a.journalVerify())
}

func (a *Reader) journalVerify() *cobra.Command {
	return &cobra.Command{Use: "verify SOURCE", Short: "Read all of a source's journal, and say what of it is damaged",
		Long:    "Checks each block's checksums, that no offset is missing, and that every event and its\nschema version can be read. Capture and delivery go on meanwhile. Exit code 5 says that\nsomething is damaged.",
		Example: "  rillmark journal verify circulation\n  rillmark journal verify circulation --json | jq .damaged", Args: terminal.Exactly("SOURCE"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.Request(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/journal/verify", nil)
			if err != nil {
				return err
			}
			return terminal.EachLine(a.Session, r, func(l *api.VerifyLine) (bool, error) {
				switch {
				case l.Problem != nil:
					return true, &terminal.Refusal{Problem: *l.Problem}
				case l.Report != nil:
					return true, a.printVerified(args[0], *l)
				case l.Progress != nil && !a.JSON:
					done := 100 * float64(l.Progress.At-l.Progress.First) / float64(max(l.Progress.Next-l.Progress.First, 1))
					fmt.Fprintf(a.Err, "offset %s of %s, %.0f%%\n", terminal.Count(l.Progress.At-1), terminal.Count(l.Progress.Next-1), done) //nolint:errcheck // a closed terminal
				}
				return false, nil
			})
		}}
}

func (a *Reader) printVerified(source string, l api.VerifyLine) error {
	r := l.Report
	if a.JSON {
		raw, err := json.Marshal(r)
		if err == nil {
			err = a.PrintJSON(raw)
		}
		if err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.Out, "journal of %s: offsets %s to %s, %s blocks, %s read\n", source, terminal.Count(r.First), terminal.Count(r.Next-1), terminal.Count(r.Blocks), terminal.Size(r.Bytes)) //nolint:errcheck // a closed terminal
		rows := make([][]string, len(r.Damaged))
		for i, d := range r.Damaged {
			rows[i] = []string{terminal.Count(d.First), terminal.Count(d.Last), terminal.Count(d.Last - d.First + 1), d.Cause}
		}
		if len(rows) > 0 {
			if err := terminal.Table(a.Out, []string{">first", ">last", ">events", "cause"}, rows); err != nil {
				return err
			}
		} else {
			fmt.Fprintln(a.Out, "every event can be read; nothing is missing") //nolint:errcheck // a closed terminal
		}
	}
	if len(r.Damaged) > 0 {
		return terminal.WithCode(terminal.ExitNotReady, fmt.Errorf("%d places of the journal are damaged; outlets that come to them hold there and say how to go on", len(r.Damaged)))
	}
	return nil
}
