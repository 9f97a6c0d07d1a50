package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/definition"
	"rillmark/internal/service"
)

func (a *app) destination() *cobra.Command {
	return group("destination", "Where events go, defined once and used by many outlets",
		a.destinationCheck(), a.destinationAdd(), a.edit("destinations", "destination", "Change a destination's definition; its outlets go on with it"),
		a.destinationList(), a.destinationShow(), a.destinationRemove())
}

type destinationFlags struct{ file, kind, directory string }

func (f *destinationFlags) register(c *cobra.Command) {
	c.Flags().StringVarP(&f.file, "file", "f", "", "definition in YAML; - for standard input")
	c.Flags().StringVar(&f.kind, "kind", "file", "kind of destination: file")
	c.Flags().StringVar(&f.directory, "directory", "", "kind file: directory below the service's files_root")
}

func (f *destinationFlags) definition(a *app) (*definitionFile, error) {
	if f.file != "" {
		return a.readDefinition(f.file)
	}
	if f.directory == "" {
		return nil, usage("a destination of kind file needs --directory, or --file with a definition")
	}
	encoded, err := json.Marshal(definition.Destination{Kind: f.kind, File: &definition.FileDestination{Directory: f.directory}})
	return &definitionFile{name: "command line", json: encoded}, err
}

func (a *app) destinationCheck() *cobra.Command {
	var f destinationFlags
	c := &cobra.Command{Use: "check NAME", Short: "Say whether a destination can be delivered to, leaving nothing there",
		Example: "  rillmark destination check archive --directory archive", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var d *definitionFile
			var body any
			if f.file != "" || f.directory != "" {
				var err error
				if d, err = f.definition(a); err != nil {
					return err
				}
				body = d.json
			}
			var found checkList
			raw, err := a.call(c.Context(), http.MethodPost, "/v1/destinations/"+url.PathEscape(args[0])+"/check", body, &found)
			if err != nil {
				return d.explained(err)
			}
			return a.printChecks(raw, found.Items)
		}}
	f.register(c)
	return c
}

func (a *app) destinationAdd() *cobra.Command {
	var f destinationFlags
	c := &cobra.Command{Use: "add NAME", Short: "Add a destination", Example: "  rillmark destination add archive --directory archive", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		d, err := f.definition(a)
		if err != nil {
			return err
		}
		raw, err := a.call(c.Context(), http.MethodPost, "/v1/destinations/"+url.PathEscape(args[0]), d.json, nil)
		if err != nil {
			return d.explained(err)
		}
		return a.done(raw, "destination %s added", args[0])
	}}
	f.register(c)
	return c
}

func (a *app) destinationList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all destinations", Example: "  rillmark destination list", Args: exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all struct {
			Items []api.Record[definition.Destination] `json:"items"`
		}
		raw, err := a.call(c.Context(), http.MethodGet, "/v1/destinations", nil, &all)
		if err != nil || a.json {
			return firstOf(err, func() error { return a.printJSON(raw) })
		}
		rows := make([][]string, len(all.Items))
		for i, r := range all.Items {
			rows[i] = []string{r.Name, r.Definition.Kind, r.Definition.File.Directory, shorten(r.Definition.Description, 60)}
		}
		return table(a.out, []string{"destination", "kind", "where", "description"}, rows)
	}}
}

func (a *app) destinationShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a destination's definition", Example: "  rillmark destination show archive", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Destination]
		raw, err := a.call(c.Context(), http.MethodGet, "/v1/destinations/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.json {
			return firstOf(err, func() error { return a.printJSON(raw) })
		}
		_, err = fmt.Fprintf(a.out, "%-12s %s (version %d)\n%-12s %s\n%-12s %s\n", "destination", r.Name, r.Version, "kind", r.Definition.Kind, "where", r.Definition.File.Directory)
		return err
	}}
}

func (a *app) destinationRemove() *cobra.Command {
	return a.remove("destinations", "destination", "Remove a destination that no outlet uses")
}

func (a *app) remove(plural, noun, short string) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: short, Example: fmt.Sprintf("  rillmark %s remove archive", noun), Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		raw, err := a.call(c.Context(), http.MethodDelete, "/v1/"+plural+"/"+url.PathEscape(args[0]), nil, nil)
		if err != nil {
			return err
		}
		return a.done(raw, "%s %s removed", noun, args[0])
	}}
}

func (a *app) outlet() *cobra.Command {
	return group("outlet", "Consumers of a journal, each with an offset of its own",
		a.outletAdd(), a.edit("outlets", "outlet", "Change an outlet's definition; its offset stays"), a.outletList(), a.outletShow(),
		a.running("outlets", "outlet", "pause", "Pause delivery; its offset stays where it is", "  rillmark outlet pause archive --reason \"disk is being changed\""),
		a.running("outlets", "outlet", "resume", "Resume delivery after the committed offset", "  rillmark outlet resume archive"),
		a.outletRewind(), a.remove("outlets", "outlet", "Remove an outlet with its offset; what it delivered stays"))
}

func (a *app) outletAdd() *cobra.Command {
	var file string
	var d definition.Outlet
	var rotate definition.FileOutlet
	c := &cobra.Command{
		Use: "add NAME", Short: "Add an outlet; it starts at once",
		Long: "An outlet with a destination delivers by itself. One without is read by its consumers:\n`rillmark read`, or GET /v1/outlets/NAME/events and /stream.",
		Example: "  rillmark outlet add archive --source circulation --destination archive\n" +
			"  rillmark outlet add desk --source circulation --tables public.loans --from now",
		Args: exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			f := &definitionFile{name: "command line"}
			var err error
			if file != "" {
				f, err = a.readDefinition(file)
			} else {
				if d.Source == "" {
					return usage("an outlet needs --source, or --file with a definition")
				}
				if rotate != (definition.FileOutlet{}) {
					d.File = &rotate
				}
				f.json, err = json.Marshal(d)
			}
			if err != nil {
				return err
			}
			raw, err := a.call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0]), f.json, nil)
			if err != nil {
				return f.explained(err)
			}
			return a.done(raw, "outlet %s added", args[0])
		},
	}
	flags := c.Flags()
	flags.StringVarP(&file, "file", "f", "", "definition in YAML; - for standard input")
	flags.StringVar(&d.Source, "source", "", "source whose journal is read")
	flags.StringVar(&d.Destination, "destination", "", "destination; without it consumers come and read")
	flags.StringArrayVar(&d.Tables, "tables", nil, "pattern of tables; may be repeated; all without it")
	flags.StringArrayVar(&d.Operations, "operation", nil, "operation; may be repeated; all without it")
	flags.StringVar(&d.From, "from", "beginning", "where to start: beginning, now, or an offset")
	flags.Int64Var(&rotate.RotateBytes, "rotate-bytes", 0, "destination file: close a file at this size")
	flags.StringVar(&rotate.RotateEvery, "rotate-every", "", "destination file: close a file at this age, such as 15m")
	return c
}

func (a *app) outletList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all outlets", Example: "  rillmark outlet list", Args: exactly(), RunE: func(c *cobra.Command, _ []string) error {
		if a.json {
			raw, err := a.call(c.Context(), http.MethodGet, "/v1/outlets", nil, nil)
			return firstOf(err, func() error { return a.printJSON(raw) })
		}
		st, _, err := a.statusNow(c.Context())
		if err != nil {
			return err
		}
		return a.printOutlets(st.Outlets)
	}}
}

func (a *app) printOutlets(outlets []service.OutletStatus) error {
	rows := make([][]string, len(outlets))
	for i, o := range outlets {
		to := o.Destination
		if to == "" {
			to = "(consumers read)"
		}
		rows[i] = []string{o.Name, o.Phase, o.Source, to, count(o.Committed), count(o.Behind), seconds(o.BehindSeconds), fmt.Sprintf("%.1f", o.Rate), count(o.Delivered)}
	}
	return table(a.out, []string{"outlet", "state", "source", "destination", ">committed", ">behind", ">behind for", ">events/s", ">delivered"}, rows)
}

func (a *app) outletShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show an outlet: its definition, offset and how far behind it is", Example: "  rillmark outlet show archive", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Outlet]
		raw, err := a.call(c.Context(), http.MethodGet, "/v1/outlets/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.json {
			return firstOf(err, func() error { return a.printJSON(raw) })
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
			fmt.Fprintf(a.out, "%-12s "+format+"\n", append([]any{label}, args...)...) //nolint:errcheck // a closed terminal
		}
		line("outlet", "%s (version %d)", r.Name, r.Version)
		line("tables", "%s", all(r.Definition.Tables))
		line("operations", "%s", all(r.Definition.Operations))
		line("format", "%s", r.Definition.Format)
		for _, o := range st.Outlets {
			if o.Name != r.Name {
				continue
			}
			if o.Error != "" {
				line("error", "%s", o.Error)
			}
			line("run", "%d", o.Run)
			fmt.Fprintln(a.out) //nolint:errcheck // a closed terminal
			return a.printOutlets([]service.OutletStatus{o})
		}
		return nil
	}}
}

func (a *app) outletRewind() *cobra.Command {
	var to string
	var dry bool
	c := &cobra.Command{Use: "rewind NAME --to PLACE", Short: "Set an outlet back, or forward, to a place in the journal",
		Long:    "PLACE is beginning, now, or the offset that is delivered next. --dry-run says how many\nevents that would be, and changes nothing.",
		Example: "  rillmark outlet rewind archive --to 4800 --dry-run\n  rillmark outlet rewind archive --to beginning", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			if to == "" {
				return usage("%s needs --to: beginning, now, or an offset", c.CommandPath())
			}
			var plan service.Rewind
			raw, err := a.call(c.Context(), http.MethodPost, "/v1/outlets/"+url.PathEscape(args[0])+"/rewind", map[string]any{"to": to, "dry_run": dry}, &plan)
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
			return a.done(raw, "outlet %s "+would+"set from offset %s to %s: "+what, args[0], count(plan.From), count(plan.To), count(n))
		}}
	c.Flags().StringVar(&to, "to", "", "beginning, now, or the offset that is delivered next")
	c.Flags().BoolVar(&dry, "dry-run", false, "only say what it would do")
	return c
}
