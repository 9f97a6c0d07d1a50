package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
)

func (a *app) journal() *cobra.Command {
	return group("journal", "The stored events of a source", a.journalVerify())
}

func (a *app) journalVerify() *cobra.Command {
	return &cobra.Command{Use: "verify SOURCE", Short: "Read all of a source's journal, and say what of it is damaged",
		Long:    "Checks each block's checksums, that no offset is missing, and that every event and its\nschema version can be read. Capture and delivery go on meanwhile. Exit code 5 says that\nsomething is damaged.",
		Example: "  rillmark journal verify circulation\n  rillmark journal verify circulation --json | jq .damaged", Args: exactly("SOURCE"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.request(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/journal/verify", nil)
			if err != nil {
				return err
			}
			return eachLine(a, r, func(l *api.VerifyLine) (bool, error) {
				switch {
				case l.Problem != nil:
					return true, &refusal{*l.Problem}
				case l.Report != nil:
					return true, a.printVerified(args[0], *l)
				case l.Progress != nil && !a.json:
					done := 100 * float64(l.Progress.At-l.Progress.First) / float64(max(l.Progress.Next-l.Progress.First, 1))
					fmt.Fprintf(a.err, "offset %s of %s, %.0f%%\n", count(l.Progress.At-1), count(l.Progress.Next-1), done) //nolint:errcheck // a closed terminal
				}
				return false, nil
			})
		}}
}

// eachLine makes a call that is answered in lines of JSON, until one of them is the last.
func eachLine[L any](a *app, r *http.Request, take func(*L) (last bool, err error)) error {
	response, err := a.send(r)
	if err != nil {
		return err
	}
	defer response.Body.Close() //nolint:errcheck // it was only read
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	for lines.Scan() {
		l := new(L)
		if err := json.Unmarshal(lines.Bytes(), l); err != nil {
			return fmt.Errorf("the service answered in a form that this client does not know: %w", err)
		}
		if last, err := take(l); last || err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the service ended its answer early: see its log")
}

func (a *app) printVerified(source string, l api.VerifyLine) error {
	r := l.Report
	if a.json {
		raw, err := json.Marshal(r)
		if err == nil {
			err = a.printJSON(raw)
		}
		if err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.out, "journal of %s: offsets %s to %s, %s blocks, %s read\n", source, count(r.First), count(r.Next-1), count(r.Blocks), size(r.Bytes)) //nolint:errcheck // a closed terminal
		rows := make([][]string, len(r.Damaged))
		for i, d := range r.Damaged {
			rows[i] = []string{count(d.First), count(d.Last), count(d.Last - d.First + 1), d.Cause}
		}
		if len(rows) > 0 {
			if err := table(a.out, []string{">first", ">last", ">events", "cause"}, rows); err != nil {
				return err
			}
		} else {
			fmt.Fprintln(a.out, "every event can be read; nothing is missing") //nolint:errcheck // a closed terminal
		}
	}
	if len(r.Damaged) > 0 {
		return &coded{exitNotReady, fmt.Errorf("%d places of the journal are damaged; outlets that come to them hold there and say how to go on", len(r.Damaged))}
	}
	return nil
}
