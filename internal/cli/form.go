package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
)

func (a *app) form() *cobra.Command {
	return terminal.Group("form", "Forms of rows that outlets share: columns that are dropped, masked, renamed or computed",
		a.formAdd(), a.edit("forms", "form", "Change a form's definition; the outlets that use it go on with it"),
		a.formList(), a.withYAML("forms", a.formShow()), a.remove("forms", "form", "Remove a form that no outlet uses"))
}

func (a *app) formAdd() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "add NAME", Short: "Add a form that outlets can use", Long: "Adds a form: rows and functions, as an outlet's definition has them. An outlet uses it by its name,\nin forms.",
		Example: "  rillmark form add readers --file readers.yaml\n  rillmark outlet add counter --source circulation --forms readers", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			if file == "" {
				return terminal.Usage("%s needs --file with the definition", c.CommandPath())
			}
			d, err := written.ReadDefinition(&a.Session, file)
			if err != nil {
				return err
			}
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/forms/"+url.PathEscape(args[0]), d.JSON, nil)
			if err != nil {
				return d.Explained(err)
			}
			return a.done(raw, "form %s added", args[0])
		}}
	c.Flags().StringVarP(&file, "file", "f", "", "definition in YAML; - for standard input")
	return c
}

func (a *app) formList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all forms", Example: "  rillmark form list", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all struct {
			Items []api.Record[definition.Form] `json:"items"`
		}
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/forms", nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		rows := make([][]string, len(all.Items))
		for i, r := range all.Items {
			rows[i] = []string{r.Name, tablesOfForm(&r.Definition), functionsOfForm(&r.Definition), a.Cut(r.Definition.Description, 60)}
		}
		return terminal.Table(a.Out, []string{"form", "tables", "functions", "description"}, rows)
	}}
}

func tablesOfForm(d *definition.Form) string {
	patterns := make([]string, len(d.Rows))
	for i, r := range d.Rows {
		patterns[i] = r.Match
	}
	return terminal.Dash(strings.Join(patterns, ", "))
}

func functionsOfForm(d *definition.Form) string {
	names := make([]string, len(d.Functions))
	for i, f := range d.Functions {
		names[i] = f.Name
	}
	return terminal.Dash(strings.Join(names, ", "))
}

func (a *app) formShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a form's definition", Example: "  rillmark form show readers --yaml", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Form]
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/forms/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		var outlets struct {
			Items []api.Record[definition.Outlet] `json:"items"`
		}
		if _, err := a.Call(c.Context(), http.MethodGet, "/v1/outlets", nil, &outlets); err != nil {
			return err
		}
		_, err = fmt.Fprintf(a.Out, "%-12s %s (version %d)\n%-12s %s\n%-12s %s\n%-12s %s\n", "form", r.Name, r.Version, "tables", tablesOfForm(&r.Definition), "functions", functionsOfForm(&r.Definition),
			"outlets", usersOfForm(r.Name, outlets.Items))
		return err
	}}
}

func usersOfForm(name string, outlets []api.Record[definition.Outlet]) string {
	var users []string
	for _, o := range outlets {
		for _, form := range o.Definition.Forms {
			if form == name {
				users = append(users, o.Name)
			}
		}
	}
	return terminal.Dash(strings.Join(users, ", "))
}
