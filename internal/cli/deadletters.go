package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/service"
)

func (a *app) deadLetter() *cobra.Command {
	return terminal.Group("dead-letter", "Events that an outlet could not deliver, and those that wait behind them",
		a.letterList(), a.letterShow(), a.letterChoice("retry", "Have dead letters tried again, with those that wait behind them",
			"  rillmark dead-letter retry desk 12 13\n  rillmark dead-letter retry desk --all", "%s events are tried again"),
		a.letterChoice("discard", "Forget dead letters for good", "  rillmark dead-letter discard desk 12\n  rillmark dead-letter discard desk --error \"too large\"", "%s events discarded"))
}

func (a *app) letterList() *cobra.Command {
	query := url.Values{}
	var tableName, state, text string
	var limit int
	c := &cobra.Command{Use: "list OUTLET", Short: "List dead letters, by offset", Example: "  rillmark dead-letter list desk\n  rillmark dead-letter list desk --error \"too large\" --json", Args: terminal.Exactly("OUTLET"), RunE: func(c *cobra.Command, args []string) error {
		query.Set("limit", strconv.Itoa(limit))
		for name, value := range map[string]string{"table": tableName, "state": state, "error": text} {
			if value != "" {
				query.Set(name, value)
			}
		}
		var page service.LetterPage
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets/"+url.PathEscape(args[0])+"/dead-letters?"+query.Encode(), nil, &page)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		if page.Dead+page.Behind == 0 {
			_, err = fmt.Fprintf(a.Out, "outlet %s has no dead letters\n", args[0])
			return err
		}
		rows := make([][]string, len(page.Items))
		for i, l := range page.Items {
			state := l.State
			if l.Retrying {
				state += ", retrying"
			}
			rows[i] = []string{strconv.FormatInt(l.ID, 10), state, terminal.Count(l.Offset), l.Operation, l.Table, terminal.Dash(l.Key), terminal.Count(int64(l.Attempts)), terminal.Moment(l.LastAt), a.Cut(l.Error, 80)}
		}
		if err := terminal.Table(a.Out, []string{">id", "state", ">offset", "operation", "table", "key", ">tries", "last", "error"}, rows); err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.Out, "\n%s dead, %s behind them\n", terminal.Count(page.Dead), terminal.Count(page.Behind))
		return err
	}}
	c.Flags().StringVar(&tableName, "of", "", "of one table, such as public.loans")
	c.Flags().StringVar(&state, "state", "", "dead or behind; both without it")
	c.Flags().StringVar(&text, "error", "", "a part of the error's text")
	c.Flags().IntVar(&limit, "limit", 100, "letters at most")
	return c
}

func (a *app) letterShow() *cobra.Command {
	return &cobra.Command{Use: "show OUTLET ID", Short: "Show a dead letter with its event, and what would be sent now", Example: "  rillmark dead-letter show desk 12", Args: terminal.Exactly("OUTLET", "ID"), RunE: func(c *cobra.Command, args []string) error {
		var open service.OpenLetter
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets/"+url.PathEscape(args[0])+"/dead-letters/"+url.PathEscape(args[1]), nil, &open)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		fmt.Fprintf(a.Out, "%-12s %d, %s\n%-12s %s\n%-12s %d tries, the last at %s\n%-12s %s\n\nits event:\n", "dead letter", open.ID, open.State, "event", open.EventID, //nolint:errcheck // a closed terminal
			"tried", open.Attempts, terminal.Moment(open.LastAt), "error", terminal.Dash(open.Error))
		if err := a.PrintJSON(open.Event); err != nil {
			return err
		}
		fmt.Fprintln(a.Out, "\nwhat would be sent now:") //nolint:errcheck // a closed terminal
		for i := range open.Messages {
			a.printMessage(&open.Messages[i])
		}
		return nil
	}}
}

func (a *app) letterChoice(verb, short, example, said string) *cobra.Command {
	var choice api.LetterChoice
	c := &cobra.Command{Use: verb + " OUTLET [ID...]", Short: short, Example: example, Args: cobra.MinimumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		for _, text := range args[1:] {
			id, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return terminal.Usage("%q is no id of a dead letter: `rillmark dead-letter list %s` shows them", text, args[0])
			}
			choice.IDs = append(choice.IDs, id)
		}
		if len(choice.IDs) == 0 && choice.Table == "" && choice.Error == "" && !choice.All {
			return terminal.Usage("%s needs ids, --of, --error or --all", c.CommandPath())
		}
		var chosen struct {
			Chosen int64 `json:"chosen"`
		}
		raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/dead-letters/"+verb, choice, &chosen)
		if err != nil {
			return err
		}
		return a.done(raw, said, terminal.Count(chosen.Chosen))
	}}
	c.Flags().StringVar(&choice.Table, "of", "", "those of one table, such as public.loans")
	c.Flags().StringVar(&choice.Error, "error", "", "those with this part in their error")
	c.Flags().BoolVar(&choice.All, "all", false, "all of them")
	return c
}

func (a *app) mark() *cobra.Command {
	return terminal.Group("mark", "Named places in a journal, to rewind to or to measure from", a.markSet(), a.markList(), a.markRemove())
}

func (a *app) markSet() *cobra.Command {
	var at, reason string
	c := &cobra.Command{Use: "set SOURCE NAME", Short: "Name a place in a source's journal, or move the name there",
		Example: "  rillmark mark set circulation before-weeding --reason \"old copies go tonight\"\n  rillmark mark set circulation morning --at time:2026-11-23T09:00:00Z", Args: terminal.Exactly("SOURCE", "NAME"), RunE: func(c *cobra.Command, args []string) error {
			var mark catalogMark
			raw, err := a.Call(c.Context(), http.MethodPut, "/v1/sources/"+url.PathEscape(args[0])+"/marks/"+url.PathEscape(args[1]), map[string]string{"at": at, "reason": reason}, &mark)
			if err != nil {
				return err
			}
			return a.done(raw, "mark %s set at offset %s of %s", args[1], terminal.Count(mark.Offset), args[0])
		}}
	c.Flags().StringVar(&at, "at", "now", "beginning, now, an offset, time:2026-11-23T09:00:00Z or mark:NAME")
	c.Flags().StringVar(&reason, "reason", "", "why, for people")
	return c
}

// catalogMark is a mark as the API gives it.
type catalogMark struct {
	Source, Name, Reason string
	Offset               int64
	CreatedAt            time.Time `json:"created_at"`
}

func (a *app) markList() *cobra.Command {
	return &cobra.Command{Use: "list [SOURCE]", Short: "List marks", Example: "  rillmark mark list circulation", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		query := ""
		if len(args) == 1 {
			query = "?source=" + url.QueryEscape(args[0])
		}
		var all struct {
			Items []catalogMark `json:"items"`
		}
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/marks"+query, nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		rows := make([][]string, len(all.Items))
		for i, m := range all.Items {
			rows[i] = []string{m.Source, m.Name, terminal.Count(m.Offset), terminal.Moment(m.CreatedAt), a.Cut(m.Reason, 60)}
		}
		return terminal.Table(a.Out, []string{"source", "mark", ">offset", "set", "reason"}, rows)
	}}
}

func (a *app) markRemove() *cobra.Command {
	return &cobra.Command{Use: "remove SOURCE NAME", Short: "Forget a mark", Example: "  rillmark mark remove circulation before-weeding", Args: terminal.Exactly("SOURCE", "NAME"), RunE: func(c *cobra.Command, args []string) error {
		raw, err := a.Call(c.Context(), http.MethodDelete, "/v1/sources/"+url.PathEscape(args[0])+"/marks/"+url.PathEscape(args[1]), nil, nil)
		if err != nil {
			return err
		}
		return a.done(raw, "mark %s removed", args[1])
	}}
}
