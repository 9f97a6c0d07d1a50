package events

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/jsontext"
	"rillmark/internal/service/reading"
)

// History is the command `history`: every version of a row.
func (a *Reader) History() *cobra.Command {
	var from, until string
	limit := 100
	c := &cobra.Command{Use: "history SOURCE TABLE KEY…", Short: "Show every version of a row that the journal has",
		Long:    "KEY is the key's value, or NAME=VALUE for each column of a key of several, as events show them.\nA changed key is followed, back and on; a row that was deleted and came again under its key shows\nboth lives. What the source's rules mask or hash is so here, too.",
		Example: "  rillmark history circulation public.loans 4821\n  rillmark history circulation public.loan_notes loan_id=4821 n=2 --from time:2026-11-23T09:00:00Z\n  rillmark history circulation public.loans 4821 --json | jq .events[].data.after",
		Args:    cobra.MatchAll(cobra.MinimumNArgs(3)),
		RunE: func(c *cobra.Command, args []string) error {
			query := url.Values{"key": args[2:], "limit": {strconv.Itoa(limit)}}
			if from != "" {
				query.Set("from", from)
			}
			if until != "" {
				query.Set("until", until)
			}
			table := args[1]
			if !strings.Contains(table, ".") {
				table = "public." + table
			}
			var h reading.RowHistory
			raw, err := a.Call(c.Context(), http.MethodGet, "/v1/sources/"+url.PathEscape(args[0])+"/tables/"+url.PathEscape(table)+"/history?"+query.Encode(), nil, &h)
			if err != nil || a.JSON {
				return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
			}
			return a.printHistory(&h)
		}}
	c.Flags().StringVar(&from, "from", "", "the place of the first event: an offset, beginning, time:... or mark:NAME")
	c.Flags().StringVar(&until, "until", "", "the place before which it ends, as in --from")
	c.Flags().IntVar(&limit, "limit", limit, "how many of the newest events there are to be")
	return c
}

func (a *Reader) printHistory(h *reading.RowHistory) error {
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format, args...) } //nolint:errcheck // a closed terminal
	if len(h.Events) == 0 {
		say("the journal has no event of %s %s; it begins at offset %s\n", h.Table, terminal.KeyWords(h.Key), terminal.Count(h.First))
		return nil
	}
	if h.More {
		say("the newest %d events of %s %s; --until with an older offset shows earlier ones\n", len(h.Events), h.Table, terminal.KeyWords(h.Key))
	}
	for _, raw := range h.Events {
		var e seen
		if jsontext.Depth(raw) > maxShownDepth {
			say("an event whose documents are nested too deep to be shown: see it with --json\n")
			continue
		}
		if err := json.Unmarshal(raw, &e); err != nil {
			return err
		}
		say("%s  %-8s  offset %s", terminal.Moment(e.Time), e.Data.Operation, terminal.Count(offsetOf(e.Sequence)))
		if id := e.Data.Transaction.ID; id != "" {
			say("  transaction %s", id)
		}
		if e.Data.Transaction.Origin != "" {
			say("  from %s", e.Data.Transaction.Origin)
		}
		say("\n")
		for _, line := range a.historyLines(&e) {
			say("    %s\n", line)
		}
	}
	return nil
}

// historyLines are what an event did to a row.
func (a *Reader) historyLines(e *seen) []string {
	switch {
	case len(e.Data.Rekeyed) > 0 && e.Data.Operation == "delete":
		return []string{"its key becomes " + e.Data.Rekeyed.text(nil)}
	case len(e.Data.Rekeyed) > 0:
		return []string{"its key was " + e.Data.Rekeyed.text(nil) + ", and is " + e.Data.Key.text(nil), e.Data.After.text(e.Data.Key)}
	case e.Data.Operation == "truncate":
		return []string{"the table was emptied"}
	case e.Data.Operation == "void":
		return []string{"the table is loaded anew: earlier rows no longer hold"}
	case e.Data.Operation == "delete":
		return nonEmpty(e.Data.Before.text(e.Data.Key))
	case len(e.Data.Changed) > 0:
		lines := make([]string, len(e.Data.Changed))
		for i, name := range e.Data.Changed {
			lines[i] = fmt.Sprintf("%s  %s → %s", name, terminal.Shorten(e.Data.Before.get(name), 60), terminal.Shorten(e.Data.After.get(name), 60))
		}
		return lines
	}
	return nonEmpty(e.Data.After.text(e.Data.Key))
}

func nonEmpty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// offsetOf is the offset that an event's sequence stands for.
func offsetOf(sequence string) int64 {
	n, err := strconv.ParseInt(strings.TrimLeft(sequence, "0"), 10, 64)
	if err != nil {
		return 0
	}
	return n
}
