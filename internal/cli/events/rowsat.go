package events

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"rillmark/internal/cli/terminal"

	"github.com/spf13/cobra"
)

// Rows is the command `rows`: a table as it was.
func (a *Reader) Rows() *cobra.Command {
	var at, where, format, to string
	var countOnly bool
	c := &cobra.Command{Use: "rows SOURCE TABLE", Short: "Show a table's rows as they were at an offset, a time or a mark",
		Long: "Works the rows out from the journal, from the table's last load on; the source is not asked. How many\nthere were, and up to which offset, is said first, on standard error. What the source's rules mask or\nhash is so here, too.\n\n" +
			"--at is the newest offset that counts, or what lies before a time or a mark.",
		Example: "  rillmark rows circulation public.loans --at time:2026-11-23T09:00:00Z --where \"branch_id == 3\"\n  rillmark rows circulation public.loans --at 4821 --format csv --to loans.csv\n  rillmark rows circulation public.loans --format parquet --to loans.parquet\n  rillmark rows circulation public.loans --at mark:before-weeding --count",
		Args:    terminal.Exactly("SOURCE", "TABLE"),
		RunE: func(c *cobra.Command, args []string) error {
			table := args[1]
			if !strings.Contains(table, ".") {
				table = "public." + table
			}
			if format == "parquet" && to == "" && !countOnly {
				return terminal.Usage("a Parquet file is binary: give --to FILE")
			}
			query := url.Values{"format": {format}}
			if at != "" {
				query.Set("at", at)
			}
			if where != "" {
				query.Set("where", where)
			}
			r, err := a.Request(c.Context(), http.MethodGet, "/v1/sources/"+url.PathEscape(args[0])+"/tables/"+url.PathEscape(table)+"/rows?"+query.Encode(), nil)
			if err != nil {
				return err
			}
			answer, err := a.Send(r)
			if err != nil {
				return err
			}
			defer answer.Body.Close() //nolint:errcheck // it was only read
			rows, _ := strconv.ParseInt(answer.Header.Get("Rillmark-Rows"), 10, 64)
			offset, _ := strconv.ParseInt(answer.Header.Get("Rillmark-Offset"), 10, 64)
			line := fmt.Sprintf("%s rows of %s as of offset %s", terminal.Count(rows), table, terminal.Count(offset))
			if committed, err := time.Parse(time.RFC3339Nano, answer.Header.Get("Rillmark-Committed-At")); err == nil {
				line += ", last changed " + terminal.Moment(committed)
			}
			note := answer.Header.Get("Rillmark-Note")
			if countOnly && a.JSON {
				raw, err := json.Marshal(map[string]any{"table": table, "rows": rows, "offset": offset, "complete": answer.Header.Get("Rillmark-Complete") == "true", "note": note})
				return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
			}
			out := a.Err
			if countOnly {
				out = a.Out
			}
			fmt.Fprintln(out, line) //nolint:errcheck // a closed terminal
			if note != "" {
				fmt.Fprintln(a.Err, "not complete: "+note) //nolint:errcheck // a closed terminal
			}
			if countOnly {
				return nil
			}
			return a.copyRows(answer.Body, to)
		}}
	f := c.Flags()
	f.StringVar(&at, "at", "", "the newest offset that counts, now, time:2026-11-23T09:00:00Z or mark:NAME; now without it")
	f.StringVar(&where, "where", "", "a condition on rows, in CEL: branch_id == 3")
	f.StringVar(&format, "format", "ndjson", "ndjson, csv or parquet")
	f.StringVar(&to, "to", "", "a file to write, which must not be there yet; standard output without it")
	f.BoolVar(&countOnly, "count", false, "only say how many rows there were")
	return c
}

// copyRows writes an answer's rows to a file, whole or not at all, or to standard output.
func (a *Reader) copyRows(from io.Reader, to string) error {
	if to == "" {
		out := bufio.NewWriterSize(a.Exact(), 64<<10)
		if _, err := io.Copy(out, from); err != nil {
			return fmt.Errorf("the rows have ended early: %w", err)
		}
		return out.Flush()
	}
	file, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return terminal.Usage("%s is there already, and is not written over: choose another name, or remove it first", to)
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(file, from)
	if closed := file.Close(); err == nil {
		err = closed
	}
	if err != nil {
		os.Remove(to) //nolint:errcheck // the first error is the one to show
		return fmt.Errorf("the rows have ended early, and %s was not kept: %w", to, err)
	}
	return nil
}
