package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/settings"
)

func (a *app) destination() *cobra.Command {
	return terminal.Group("destination", "Where events go, defined once and used by many outlets",
		a.destinationKinds(), a.destinationCheck(), a.destinationAdd(), a.edit("destinations", "destination", "Change a destination's definition; its outlets go on with it"),
		a.destinationList(), a.withYAML("destinations", a.destinationShow()), a.destinationRemove())
}

// destinationFlags define a destination in a command line.
type destinationFlags struct{ written.Flags }

func (f *destinationFlags) register(c *cobra.Command) {
	flags := c.Flags()
	f.Flags.Register(flags)
	f.Fields.AddCommon(flags, settings.Fields(new(definition.Destination)))
	flags.Lookup("kind").Usage = kinds.Names() + "; where it is absent, the other flags say which is meant"
	f.Fields.AddSections(flags, func(kind string) any { return kinds.Named(kind).Settings() })
	c.Long = c.Short + ".\n`rillmark destination kinds KIND` lists all that a kind has, with the flags that few people need."
}

// any says whether anything of a definition was given.
func (f *destinationFlags) any(c *cobra.Command) bool {
	return written.AnyGiven(c, f.Fields.Common) || len(f.Fields.Given(c.Flags())) > 0
}

// definition is what the file says, with the flags laid over it, and --set over both.
func (f *destinationFlags) definition(a *app, c *cobra.Command) (*written.File, error) {
	d, err := f.Begin(&a.Session, func() error {
		if f.any(c) {
			return nil
		}
		return terminal.Usage("say where events go: --directory, --broker, --nats, --address or --url, or --file with a definition")
	})
	if err != nil {
		return nil, err
	}
	var known struct{ Kind string }
	_ = json.Unmarshal(d.JSON, &known) // what is no definition, the service says
	if c.Flags().Changed("kind") {
		known.Kind, _ = c.Flags().GetString("kind")
	}
	if known.Kind == "" {
		if known.Kind, err = f.Fields.KindOf(c.Flags()); err != nil {
			return nil, err
		}
		if known.Kind != "" {
			if err := d.Put("kind", known.Kind); err != nil {
				return nil, err
			}
		}
	}
	places, err := f.Fields.Places(c.Flags(), known.Kind)
	if err != nil {
		return nil, err
	}
	if err := d.LayFlags(c.Flags(), places); err != nil {
		return nil, err
	}
	return d, f.Set.Lay(d)
}

// destinationKinds needs no service: what it lists belongs to this version.
func (a *app) destinationKinds() *cobra.Command {
	return &cobra.Command{Use: "kinds [KIND]", Short: "List the kinds of destinations, or all that can be set for one", Example: "  rillmark destination kinds\n  rillmark destination kinds kafka",
		Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				rows := make([][]string, len(kinds.All))
				for i, k := range kinds.All {
					rows[i] = []string{k.Name, k.Title, strings.Join(formatsOf(k), " "), k.About}
				}
				return terminal.Table(a.Out, []string{"kind", "what", "formats", "about"}, rows)
			}
			kind := kinds.Named(args[0])
			if kind == nil {
				return terminal.Usage("there is no kind %q: there are %s", args[0], kinds.Names())
			}
			fmt.Fprintf(a.Out, "%s: %s.\n\nA destination of this kind (destination add):\n", kind.Title, kind.About) //nolint:errcheck // a closed terminal
			if err := printFields(a.Out, kind.Name+".", settings.Fields(kind.Settings())); err != nil || kind.Outlet == nil {
				return err
			}
			fmt.Fprint(a.Out, "\nAn outlet to it (outlet add):\n") //nolint:errcheck // a closed terminal
			return printFields(a.Out, kind.Name+".", settings.Fields(kind.Outlet()))
		}}
}

func formatsOf(k *destination.Kind) []string {
	names := make([]string, len(k.Formats))
	for i, f := range k.Formats {
		names[i] = string(f)
	}
	return names
}

func printFields(w io.Writer, section string, fields []settings.Field) error {
	var rows [][]string
	for _, f := range fields {
		flag := ""
		if f.Flag != "" {
			flag = "--" + f.Flag
		}
		needed := ""
		if f.Required {
			needed = "needed"
		}
		rows = append(rows, []string{section + f.Path, flag, needed, f.About()})
	}
	return terminal.Table(w, []string{"field", "flag", "", "what it is"}, rows)
}

func (a *app) destinationCheck() *cobra.Command {
	var f destinationFlags
	c := &cobra.Command{Use: "check NAME", Short: "Say whether a destination can be delivered to, leaving nothing there",
		Example: "  rillmark destination check archive --directory archive\n  rillmark destination check hub --broker 127.0.0.1:9092\n  rillmark destination check hub", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var d *written.File
			var body any
			if f.any(c) {
				var err error
				if d, err = f.definition(a, c); err != nil {
					return err
				}
				body = d.JSON
			}
			var found checkList
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/destinations/"+url.PathEscape(args[0])+"/check", body, &found)
			if err != nil {
				return d.Explained(err)
			}
			return a.printChecks(raw, found.Items)
		}}
	f.register(c)
	return c
}

func (a *app) destinationAdd() *cobra.Command {
	var f destinationFlags
	c := &cobra.Command{Use: "add NAME", Short: "Add a destination", Example: "  rillmark destination add archive --directory archive\n  rillmark destination add hub --broker 127.0.0.1:9092 --create-topics 6\n" +
		"  rillmark destination add desk --url https://desk.example/events --sign-key '${env:RILLMARK_SECRET_SIGN_KEY}'\n  rillmark destination add bucket --file bucket.yaml", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		d, err := f.definition(a, c)
		if err != nil {
			return err
		}
		raw, err := a.Call(c.Context(), http.MethodPost, "/v1/destinations/"+url.PathEscape(args[0]), d.JSON, nil)
		if err != nil {
			return d.Explained(err)
		}
		return a.done(raw, "destination %s added", args[0])
	}}
	f.register(c)
	return c
}

func (a *app) destinationList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all destinations", Example: "  rillmark destination list", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all struct {
			Items []api.Record[definition.Destination] `json:"items"`
		}
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/destinations", nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		rows := make([][]string, len(all.Items))
		for i, r := range all.Items {
			rows[i] = []string{r.Name, r.Definition.Kind, r.Definition.Where(), a.Cut(r.Definition.Description, 60)}
		}
		return terminal.Table(a.Out, []string{"destination", "kind", "where", "description"}, rows)
	}}
}

func (a *app) destinationShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a destination's definition", Example: "  rillmark destination show archive", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Destination]
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/destinations/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		_, err = fmt.Fprintf(a.Out, "%-12s %s (version %d)\n%-12s %s\n%-12s %s\n", "destination", r.Name, r.Version, "kind", r.Definition.Kind, "where", r.Definition.Where())
		return err
	}}
}

func (a *app) destinationRemove() *cobra.Command {
	return a.remove("destinations", "destination", "Remove a destination that no outlet uses")
}

func (a *app) remove(plural, noun, short string) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: short, Example: fmt.Sprintf("  rillmark %s remove archive", noun), Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		raw, err := a.Call(c.Context(), http.MethodDelete, "/v1/"+plural+"/"+url.PathEscape(args[0]), nil, nil)
		if err != nil {
			return err
		}
		return a.done(raw, "%s %s removed", noun, args[0])
	}}
}
