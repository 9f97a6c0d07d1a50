package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/service/comparing"
)

func (a *app) cutover() *cobra.Command {
	var plan comparing.CutoverPlan
	var sure, abort bool
	wait := 2 * time.Minute
	c := &cobra.Command{Use: "cutover OUTLET", Short: "Move a system to the database that an outlet keeps equal",
		Long: "Without --yes it says whether that can be done now, what rows do not carry, and which statements\nkeep the source's writers out; nothing is changed.\n\n" +
			"With --yes it waits until nobody writes to the source any more, or keeps the writers out itself\n(--stop-writers), proves that both sides are equal at one offset, sets sequences and auto-increment\nvalues in the target, and pauses the outlet there. --follow-back names an outlet that begins at that\nmoment, and keeps the former database equal from then on. If anything fails, or the command is ended\nbefore that, what it did is taken back. --abort lets writers in again where that could not be.",
		Example: "  rillmark cutover reporting\n  rillmark cutover reporting --yes --stop-writers --as postgres --as-password '${env:RILLMARK_SECRET_ADMIN}'\n  rillmark cutover reporting --yes --stop-writers --follow-back back\n  rillmark cutover reporting --abort --as postgres --as-password '${env:RILLMARK_SECRET_ADMIN}'",
		Args:    terminal.Exactly("OUTLET"),
		RunE: func(c *cobra.Command, args []string) error {
			if sure && abort {
				return terminal.Usage("--yes cuts over, --abort takes that back: give one of them")
			}
			if wait < time.Second || wait > 24*time.Hour {
				return terminal.Usage("--wait is outside 1s to 24h")
			}
			plan.WaitSeconds = int(wait / time.Second)
			address := "/v1/outlets/" + url.PathEscape(args[0]) + "/cutover"
			switch {
			case abort:
				raw, err := a.Call(c.Context(), http.MethodPost, address+"/abort", plan, nil)
				if err != nil {
					return err
				}
				return a.done(raw, "the writers of the source of outlet %s may write again; `rillmark outlet resume %s` has delivery go on", args[0], args[0])
			case !sure:
				var report comparing.CutoverReport
				if plan.FollowBack != "" {
					address += "?follow_back=" + url.QueryEscape(plan.FollowBack)
				}
				raw, err := a.Call(c.Context(), http.MethodGet, address, nil, &report)
				if err != nil {
					return err
				}
				if a.JSON {
					err = a.PrintJSON(raw)
				} else {
					err = a.printCutover(&report)
				}
				if err == nil && !report.Ready {
					err = terminal.WithCode(terminal.ExitNotReady, fmt.Errorf("outlet %s is not ready to be cut over to", args[0]))
				}
				return err
			}
			body, err := json.Marshal(plan)
			if err != nil {
				return err
			}
			r, err := a.Request(c.Context(), http.MethodPost, address, body)
			if err != nil {
				return err
			}
			var result *comparing.CutoverResult
			err = terminal.EachLine(&a.Session, r, func(l *api.CutoverLine) (bool, error) {
				switch {
				case l.Problem != nil:
					return true, &terminal.Refusal{Problem: *l.Problem}
				case l.Result != nil:
					result = l.Result
					return true, nil
				case l.Step != nil:
					fmt.Fprintf(a.Err, "%s  %s\n", time.Now().Format("15:04:05"), l.Step.Text) //nolint:errcheck // a closed terminal
				}
				return false, nil
			})
			if err == nil && result == nil {
				err = errors.New("the service ended the cut over without a result: `rillmark cutover " + args[0] + "` says how it stands")
			}
			if err != nil {
				return err
			}
			return a.printCutoverDone(result)
		}}
	f := c.Flags()
	f.BoolVar(&sure, "yes", false, "yes, cut over")
	f.BoolVar(&plan.StopWriters, "stop-writers", false, "keep the source's writers out, by the statements that are shown without --yes")
	f.StringVar(&plan.As, "as", "", "login that runs those statements; the source's own without it")
	f.StringVar(&plan.AsPassword, "as-password", "", "that login's password, or a reference to it; it is not kept")
	f.StringVar(&plan.FollowBack, "follow-back", "", "outlet that begins at the same moment and keeps the former database equal, added with --from cutover")
	f.DurationVar(&wait, "wait", wait, "how long to wait until nobody writes any more")
	f.BoolVar(&abort, "abort", false, "let the source's writers in again")
	return c
}

func (a *app) printCutover(r *comparing.CutoverReport) error {
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format, args...) } //nolint:errcheck // a closed terminal
	a.ShowChecks(r.Checks)
	if len(r.Inventory.Counters) > 0 {
		say("\nset in the target:\n")
		for _, one := range r.Inventory.Counters {
			say("  %s.%s goes on with %s\n", one.Table, one.Column, terminal.Count(one.Next))
		}
	}
	if len(r.Inventory.Objects) > 0 {
		say("\nnot in rows, for you to make:\n")
		for i := range r.Inventory.Objects {
			o := &r.Inventory.Objects[i]
			say("  %d × %s: %s\n", o.Count, o.Kind, o.Words())
		}
	}
	say("\nwriters are kept out by (--stop-writers):\n")
	for _, one := range slices.Concat(r.Stop, []string{"-- and let in again by:"}, r.Allow) {
		say("  %s\n", strings.ReplaceAll(strings.TrimSpace(one), "\n", "\n  "))
	}
	if r.Note != "" {
		say("  -- %s\n", r.Note)
	}
	if r.Last != nil {
		say("\nlast cut over: %s", r.Last.State)
		if r.Last.Offset > 0 {
			say(" at offset %s", terminal.Count(r.Last.Offset))
		}
		say(", begun %s\n", terminal.Moment(r.Last.BeganAt))
		if r.Last.Stopped {
			say("  the source's writers are kept out by it: `rillmark cutover %s --abort` lets them in\n", r.Outlet)
		}
	}
	return nil
}

func (a *app) printCutoverDone(r *comparing.CutoverResult) error {
	if a.JSON {
		raw, err := json.Marshal(r)
		if err != nil {
			return err
		}
		return a.PrintJSON(raw)
	}
	say := func(format string, args ...any) { fmt.Fprintf(a.Out, format, args...) } //nolint:errcheck // a closed terminal
	rows := int64(0)
	for _, t := range r.Verification.Tables {
		rows += t.Rows
	}
	say("cut over at offset %s, in %.1f s: %s rows of %d tables are equal, and outlet %s is paused\n", terminal.Count(r.Offset), r.Seconds, terminal.Count(rows), len(r.Verification.Tables), r.Outlet)
	for _, one := range r.Counters {
		if one.Done {
			say("  %s.%s goes on with %s\n", one.Table, one.Column, terminal.Count(one.Next))
			continue
		}
		say("  %s.%s is not set: %s\n", one.Table, one.Column, one.Note)
		if one.Statement != "" {
			say("    %s;\n", one.Statement)
		}
	}
	for i := range r.Objects {
		say("  for you to make: %d × %s: %s\n", r.Objects[i].Count, r.Objects[i].Kind, r.Objects[i].Words())
	}
	if r.FollowsBack != nil {
		say("  outlet %s leads back from here, behind offset %s of source %s\n", r.FollowsBack.Outlet, terminal.Count(r.FollowsBack.Offset), r.FollowsBack.Source)
	}
	if r.Stopped {
		say("the source's writers stay out; let them write to the target now\n")
	}
	return nil
}
