package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/catalog"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/service"
	"rillmark/internal/service/explaining"
	"rillmark/internal/settings"
)

func (a *app) outlet() *cobra.Command {
	return terminal.Group("outlet", "Consumers of a journal, each with an offset of its own",
		a.outletAdd(), a.edit("outlets", "outlet", "Change an outlet's definition; its offset stays"), a.outletList(), a.withYAML("outlets", a.outletShow()),
		a.running("outlets", "outlet", "pause", "Pause delivery; its offset stays where it is", "  rillmark outlet pause archive --reason \"disk is being changed\""),
		a.running("outlets", "outlet", "resume", "Resume delivery after the committed offset", "  rillmark outlet resume archive"),
		a.outletFlow(), a.outletRewind(), a.outletLoad(), a.outletCheck(),
		a.outletScript("setup-sql", "Print the script that prepares an outlet's database, for an administrator", "Gives the destination's login the least rights that the outlet needs there. It can be run again,\nand takes in the tables that have come to the source since.", func(s *service.TargetScripts) string { return s.Setup }),
		a.outletScript("teardown-sql", "Print the script that takes the preparation away", "For an administrator, once the outlet has been removed: print it before, or give its definition\nwith --file. The tables and their rows stay.", func(s *service.TargetScripts) string { return s.Teardown }),
		a.outletPreview(), a.outletRun(), a.outletDocument(), a.remove("outlets", "outlet", "Remove an outlet with its offset; what it delivered stays"))
}

// outletFlags define an outlet in a command line.
type outletFlags struct{ written.Flags }

func (f *outletFlags) register(c *cobra.Command) {
	flags := c.Flags()
	f.Flags.Register(flags)
	f.Fields.AddCommon(flags, settings.Fields(new(definition.Outlet)))
	f.Fields.AddSections(flags, func(kind string) any {
		if k := kinds.Named(kind); k.Outlet != nil {
			return k.Outlet()
		}
		return nil
	})
}

// definition is what the file says, with the flags laid over it, and --set over both.
func (f *outletFlags) definition(a *app, c *cobra.Command) (*written.File, error) {
	d, err := f.Begin(&a.Session, func() error {
		if c.Flags().Changed("source") || len(f.Set.Given) > 0 {
			return nil
		}
		return terminal.Usage("an outlet needs --source, or --file with a definition")
	})
	if err != nil {
		return nil, err
	}
	kind := ""
	if given := f.Fields.Given(c.Flags()); len(given) > 0 {
		var outlet struct{ Destination string }
		_ = json.Unmarshal(d.JSON, &outlet) // what is no definition, the service says
		if c.Flags().Changed("destination") {
			outlet.Destination, _ = c.Flags().GetString("destination")
		}
		if outlet.Destination == "" {
			return nil, terminal.Usage("--%s applies only to outlets with a destination: add --destination", given[0])
		}
		var to api.Record[definition.Destination]
		if _, err := a.Call(c.Context(), http.MethodGet, "/v1/destinations/"+url.PathEscape(outlet.Destination), nil, &to); err != nil {
			return nil, err
		}
		kind = to.Definition.Kind
	}
	places, err := f.Fields.Places(c.Flags(), kind)
	if err != nil {
		return nil, err
	}
	if err := d.LayFlags(c.Flags(), places); err != nil {
		return nil, err
	}
	return d, f.Set.Lay(d)
}

func (a *app) outletAdd() *cobra.Command {
	var f outletFlags
	c := &cobra.Command{
		Use: "add NAME", Short: "Add an outlet; it starts at once",
		Long: "An outlet with a destination delivers by itself. One without is read by its consumers:\n`rillmark read`, or GET /v1/outlets/NAME/events and /stream.\n" +
			"`rillmark destination kinds KIND` lists what an outlet to a destination of that kind has, with the flags that few people need.",
		Example: "  rillmark outlet add archive --source circulation --destination archive\n" +
			"  rillmark outlet add desk --source circulation --tables public.loans --from now\n" +
			"  rillmark outlet add hub --source circulation --destination hub --topic '{source}.{table}' --format data\n" +
			"  rillmark outlet add lake --source circulation --destination lake --file lake.yaml",
		Args: terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := f.definition(a, c)
			if err != nil {
				return err
			}
			var stored api.Record[definition.Outlet]
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0]), d.JSON, &stored)
			if err != nil {
				return d.Explained(err)
			}
			a.warn(stored.Warnings)
			return a.done(raw, "outlet %s added", args[0])
		},
	}
	f.register(c)
	return c
}

func (a *app) outletList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all outlets", Example: "  rillmark outlet list", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		if a.JSON {
			raw, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets", nil, nil)
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		st, _, err := a.statusNow(c.Context())
		if err != nil {
			return err
		}
		return a.printOutlets(st.Outlets)
	}}
}

// mostIncomplete is how many tables of an outlet are named that are not in order.
const mostIncomplete = 5

func (a *app) printOutlets(outlets []service.OutletStatus) error {
	rows := make([][]string, len(outlets))
	for i, o := range outlets {
		to := o.Kind + " " + o.Destination
		if o.Destination == "" {
			to = "(consumers read)"
		}
		aside := terminal.Count(o.Dead + o.Waiting)
		if o.Dead+o.Waiting == 0 {
			aside = "-"
		}
		rows[i] = []string{o.Name, o.State(), o.Source, to, terminal.Count(o.Committed), terminal.Count(o.Behind), terminal.Seconds(o.BehindSeconds), fmt.Sprintf("%.1f", o.Rate), terminal.Count(o.Delivered), aside}
	}
	if err := terminal.Table(a.Out, []string{"outlet", "state", "source", "destination", ">committed", ">behind", ">lag", ">events/s", ">delivered", ">dead letters"}, rows); err != nil {
		return err
	}
	for _, o := range outlets {
		for n, t := range o.Incomplete {
			if n == mostIncomplete {
				fmt.Fprintf(a.Out, "outlet %s: %d more tables are not, or may not be, as the source has them; --json names all\n", o.Name, len(o.Incomplete)-n) //nolint:errcheck // a closed terminal
				break
			}
			is := "is not as the source has it"
			if t.Code == service.CodeUnproven {
				is = "may not be as the source has it"
			}
			line := fmt.Sprintf("outlet %s: %s %s: %s", o.Name, t.Table, is, t.Why)
			if t.Fix != "" {
				line += ". Fix: " + t.Fix
			}
			fmt.Fprintln(a.Out, line) //nolint:errcheck // a closed terminal
		}
		if o.Lost > 0 {
			fmt.Fprintf(a.Out, "\noutlet %s has lost %s events: retention took them before they were delivered; `rillmark log --subject outlet/%s` says which\n", o.Name, terminal.Count(o.Lost), o.Name) //nolint:errcheck // a closed terminal
		}
	}
	return nil
}

// noTable says which of an outlet's patterns choose nothing.
func noTable(o *service.OutletStatus) string {
	return "no table of " + o.Source + " matches " + strings.Join(o.Unmatched, " or ")
}

func (a *app) outletShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show an outlet: its definition, offset and how far behind it is", Example: "  rillmark outlet show archive", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Outlet]
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		st, _, err := a.statusNow(c.Context())
		if err != nil {
			return err
		}
		all := func(list []string) string {
			if len(list) == 0 {
				return "all"
			}
			return strings.Join(list, " ")
		}
		line := func(label, format string, args ...any) {
			fmt.Fprintf(a.Out, "%-12s "+format+"\n", append([]any{label}, args...)...) //nolint:errcheck // a closed terminal
		}
		line("outlet", "%s (version %d)", r.Name, r.Version)
		line("tables", "%s", all(r.Definition.Tables))
		for _, match := range slices.Sorted(maps.Keys(r.Definition.Where)) {
			line("where", "%s: %s", match, r.Definition.Where[match])
		}
		line("operations", "%s", all(r.Definition.Operations))
		line("format", "%s", r.Definition.Format)
		for _, o := range st.Outlets {
			if o.Name != r.Name {
				continue
			}
			if o.Error != "" {
				line("error", "%s", o.Error)
			}
			if o.RetryAt != nil {
				line("tried", "%d times, again at %s", o.Attempts, terminal.Moment(*o.RetryAt))
			}
			if o.Reported != nil {
				line("reported", "offset %s by its consumer, at %s", terminal.Count(*o.Reported), terminal.Moment(*o.ReportedAt))
			}
			if o.Verified != nil {
				line("verified", "%s", verifiedWords(o.Verified))
			}
			if len(o.Loads) > 0 {
				line("loading", "for this outlet alone: %s", loadWords(o.Loads))
			}
			if len(o.Unmatched) > 0 {
				line("note", "%s", noTable(&o))
			}
			if o.Reason != "" {
				line("reason", "%s", o.Reason)
			}
			if o.Until > 0 {
				line("ends", "at offset %s%s", terminal.Count(o.Until), goesBack(o.ReturnTo))
			}
			if o.Retention != nil && o.Retention.Level != "fine" {
				line("retention", "%s: %.0f %% of the journal's age or size limit is used up", o.Retention.Level, o.Retention.Used*100)
			}
			if o.Dead > 0 {
				line("dead letters", "%s, and %s events behind them: `rillmark dead-letter list %s`", terminal.Count(o.Dead), terminal.Count(o.Waiting), o.Name)
			}
			line("run", "%d", o.Run)
			fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
			return a.printOutlets([]service.OutletStatus{o})
		}
		return nil
	}}
}

// verifiedWords say what the last comparison has found.
func verifiedWords(v *catalog.Verified) string {
	switch {
	case v.Equal:
		return fmt.Sprintf("%s rows of %d tables were equal at %s", terminal.Count(v.Rows), v.Tables, terminal.Moment(v.At))
	case v.Tables == 0:
		return fmt.Sprintf("it could not be compared at %s: %s", terminal.Moment(v.At), v.Finding)
	}
	return fmt.Sprintf("not equal at %s: %s", terminal.Moment(v.At), v.Finding)
}

// goesBack says where an outlet goes at its end.
func goesBack(to *int64) string {
	if to == nil {
		return ""
	}
	return ", and goes back to " + terminal.Count(*to)
}

func (a *app) outletRewind() *cobra.Command {
	var to, until string
	var dry, back bool
	c := &cobra.Command{Use: "rewind NAME --to PLACE", Short: "Set an outlet back, or forward, to a place in the journal",
		Long: "PLACE is beginning, now, the offset that is delivered next, time:2026-11-23T09:00:00Z, or\nmark:NAME. --dry-run says how many events that would be, and changes nothing.\n\n" +
			"With --until it delivers the part before that place, and pauses there; a paused outlet runs up\nto it. With --return it then goes back to where it was, and on from there if it runs.",
		Example: "  rillmark outlet rewind archive --to 4800 --dry-run\n  rillmark outlet rewind archive --to mark:before-weeding\n" +
			"  rillmark outlet rewind archive --to mark:before-weeding --until mark:after-weeding --return", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			if to == "" {
				return terminal.Usage("%s needs --to: beginning, now, an offset, time:... or mark:NAME", c.CommandPath())
			}
			var plan service.Rewind
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/rewind", map[string]any{"to": to, "until": until, "return": back, "dry_run": dry}, &plan)
			if err != nil {
				return err
			}
			what := "%s events of the source are delivered again"
			n := plan.Events
			if n < 0 {
				what, n = "%s events of the source are passed over", -n
			}
			would := ""
			if dry {
				would = "would be "
			}
			if plan.Until > 0 {
				what += fmt.Sprintf(", up to offset %s", terminal.Count(plan.Until))
			}
			if plan.Returns {
				what += ", and then it goes back"
			}
			return a.done(raw, "outlet %s "+would+"set from offset %s to %s: "+what, args[0], terminal.Count(plan.From), terminal.Count(plan.To), terminal.Count(n))
		}}
	c.Flags().StringVar(&to, "to", "", "beginning, now, the offset that is delivered next, time:... or mark:NAME")
	c.Flags().StringVar(&until, "until", "", "the place before which delivery ends, as in --to; without it there is no end")
	c.Flags().BoolVar(&back, "return", false, "with --until: go back then to where the outlet is now")
	c.Flags().BoolVar(&dry, "dry-run", false, "only say what it would do")
	return c
}

// outletBody is an outlet's definition of --file, or nil for the stored one.
func (a *app) outletBody(file string) (d *written.File, body any, err error) {
	if file == "" {
		return nil, nil, nil
	}
	if d, err = written.ReadDefinition(&a.Session, file); err == nil {
		_, err = d.Record()
	}
	if err != nil {
		return nil, nil, err
	}
	return d, d.JSON, nil
}

func (a *app) outletCheck() *cobra.Command {
	var file string
	var source bool
	c := &cobra.Command{Use: "check NAME", Short: "Check an outlet's destination with what the outlet needs there",
		Example: "  rillmark outlet check hub\n  rillmark outlet check hub --source\n  rillmark outlet check hub --file hub.yaml", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			d, body, err := a.outletBody(file)
			if err != nil {
				return err
			}
			var found api.OutletChecks
			raw, err := a.Call(c.Context(), http.MethodPost, fmt.Sprintf("/v1/outlets/%s/check?source=%t", url.PathEscape(args[0]), source), body, &found)
			if err != nil {
				return d.Explained(err)
			}
			if !source || a.JSON {
				return terminal.FirstOf(a.printChecks(raw, found.Items), func() error { return ready(found.Source) })
			}
			fmt.Fprintln(a.Out, "its source") //nolint:errcheck // a closed terminal
			a.ShowChecks(found.Source)
			fmt.Fprintln(a.Out, "\nits destination") //nolint:errcheck // a closed terminal
			a.ShowChecks(found.Items)
			return ready(append(found.Source, found.Items...))
		}}
	c.Flags().BoolVar(&source, "source", false, "check its source, too")
	c.Flags().StringVarP(&file, "file", "f", "", "a definition that is not stored yet; - for standard input")
	return c
}

func (a *app) outletPreview() *cobra.Command {
	var file, to string
	var limit int
	var from int64
	c := &cobra.Command{Use: "preview NAME", Short: "Show exactly what would be sent for real events; nothing is sent",
		Long:    "Takes the journal's newest events, or those from --from on, and shows the messages that\nthe outlet makes of them: topic, key, headers, body and size.",
		Example: "  rillmark outlet preview hub --limit 2\n  rillmark outlet preview hub --file hub.yaml --from 4800\n  rillmark outlet preview hub --file hub.yaml --destination-file broker.yaml", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			d, body, err := a.outletBody(file)
			if err != nil {
				return err
			}
			explained := d.Explained
			path := fmt.Sprintf("/v1/outlets/%s/preview?limit=%d&from=%d&tables=true", url.PathEscape(args[0]), limit, from)
			if to != "" {
				if file == "" {
					return terminal.Usage("--destination-file goes with --file: both are not stored yet")
				}
				destination, err := written.ReadDefinition(&a.Session, to)
				if err != nil {
					return err
				}
				explained = func(err error) error {
					return written.ExplainedParts(err, "outlet", map[string]*written.File{"outlet": d, "destination": destination})
				}
				path, body = fmt.Sprintf("/v1/preview?limit=%d&from=%d", limit, from), map[string]any{"outlet": json.RawMessage(d.JSON), "destination": json.RawMessage(destination.JSON)}
			}
			var found explaining.Previews
			raw, err := a.Call(c.Context(), http.MethodPost, path, body, &found)
			if err != nil {
				return explained(err)
			}
			if err := a.printPreviews(raw, &found); err != nil || a.JSON || len(found.Tables) == 0 {
				return err
			}
			fmt.Fprintln(a.Out, "\nits tables") //nolint:errcheck // a closed terminal
			a.ShowChecks(found.Tables)
			return nil
		}}
	c.Flags().StringVarP(&file, "file", "f", "", "a definition that is not stored yet; - for standard input")
	c.Flags().StringVar(&to, "destination-file", "", "definition of its destination, where that is not stored yet either")
	c.Flags().IntVar(&limit, "limit", 3, "messages at most")
	c.Flags().Int64Var(&from, "from", 0, "first offset; the newest events without it")
	return c
}

func (a *app) printPreviews(raw []byte, found *explaining.Previews) error {
	if a.JSON {
		return a.PrintJSON(raw)
	}
	for i := range found.Items {
		a.printMessage(&found.Items[i])
	}
	return a.printKeptBack(found)
}

func (a *app) outletScript(verb, short, long string, of func(*service.TargetScripts) string) *cobra.Command {
	var file string
	c := &cobra.Command{Use: verb + " NAME", Short: short, Long: long + "\nWithout --file it is for the stored outlet. The database is not reached.",
		Example: "  rillmark outlet " + verb + " reporting | psql reporting\n  rillmark outlet " + verb + " reporting --file reporting.yaml", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			d, body, err := a.outletBody(file)
			if err != nil {
				return err
			}
			var scripts service.TargetScripts
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/scripts", body, &scripts)
			if err != nil {
				return d.Explained(err)
			}
			if a.JSON {
				return a.PrintJSON(raw)
			}
			_, err = io.WriteString(a.Exact(), of(&scripts))
			return err
		}}
	c.Flags().StringVarP(&file, "file", "f", "", "a definition that is not stored yet; - for standard input")
	return c
}

// printKeptBack says what kept events back.
func (a *app) printKeptBack(found *explaining.Previews) error {
	text := ""
	if len(found.Items) == 0 {
		text = "none of the events would go out; "
	}
	text += "looked at " + terminal.Count(found.Looked) + " events"
	for _, one := range found.KeptBack {
		text += fmt.Sprintf("; %s kept back by %s", terminal.Count(one.Events), one.By)
	}
	_, err := fmt.Fprintln(a.Out, text)
	return err
}

func (a *app) printMessage(m *explaining.Preview) {
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(a.Out, "%-12s %s\n", label, text) //nolint:errcheck // a closed terminal
		}
	}
	line("message", m.ID)
	line("type", strings.TrimSpace(m.Type+"  "+m.Table))
	line("topic", m.Topic)
	line("key", m.Key)
	if m.Partition != m.Key {
		line("partition by", m.Partition)
	}
	for i, h := range m.Headers {
		label := ""
		if i == 0 {
			label = "headers"
		}
		fmt.Fprintf(a.Out, "%-12s %s: %s\n", label, h.Name, h.Value) //nolint:errcheck // a closed terminal
	}
	line("content", m.ContentType)
	switch {
	case m.Marker:
		line("body", "(none: the key's marker)")
	case m.Base64:
		line("body", m.Body+" (base64)")
	default:
		line("body", m.Body)
	}
	line("row", string(m.Row))
	line("size", fmt.Sprintf("%s bytes", terminal.Count(int64(m.Size))))
	line("problem", m.Problem)
	fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
}

func (a *app) outletRun() *cobra.Command {
	var until string
	c := &cobra.Command{Use: "run NAME", Short: "Let a paused outlet deliver what there is now, and end",
		Long:    "For schedules: delivers up to the journal's present end, or up to the place --until, then pauses\nthe outlet again. With nothing to deliver it does nothing. Exit code 1 where delivery failed.",
		Example: "  rillmark outlet pause archive --reason \"runs at night\"\n  rillmark outlet run archive\n  rillmark outlet run archive --until mark:end-of-day", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var plan service.RunOnce
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/run", map[string]string{"until": until}, &plan)
			if err != nil {
				return err
			}
			if plan.Behind == 0 {
				return a.done(raw, "outlet %s: nothing to deliver", args[0])
			}
			return a.ran(c, args[0], raw, plan)
		}}
	c.Flags().StringVar(&until, "until", "", "the place before which to end: an offset, time:... or mark:NAME; without it now")
	return c
}

// ran waits until an outlet that runs once has ended.
func (a *app) ran(c *cobra.Command, name string, raw []byte, plan service.RunOnce) error {
	return a.watchStatus(c.Context(), func(st *service.Status) (done bool, line string, err error) {
		for _, o := range st.Outlets {
			switch {
			case o.Name != name:
			case o.Until != 0 && o.Phase == "paused": // its end is being put on record
			case o.Committed >= plan.Until && o.Phase == "paused":
				return true, "", a.done(raw, "outlet %s delivered up to offset %s", name, terminal.Count(o.Committed))
			case o.Phase == "failed":
				return true, "", fmt.Errorf("outlet %s failed at offset %s: %s", name, terminal.Count(o.Committed), o.Error)
			case o.Phase == "paused":
				return true, "", fmt.Errorf("outlet %s was paused at offset %s, before offset %s", name, terminal.Count(o.Committed), terminal.Count(plan.Until))
			default:
				line = fmt.Sprintf("at offset %s of %s  %s", terminal.Count(o.Committed), terminal.Count(plan.Until), o.Error)
			}
		}
		return false, line, nil
	})
}

func (a *app) outletDocument() *cobra.Command {
	return &cobra.Command{Use: "document NAME", Short: "Print an AsyncAPI 3 document of what an outlet sends", Example: "  rillmark outlet document hub > hub.asyncapi.json", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets/"+url.PathEscape(args[0])+"/asyncapi", nil, nil)
		if err != nil {
			return err
		}
		return a.PrintJSON(raw)
	}}
}
