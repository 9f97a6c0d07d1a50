package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/service/explaining"
)

func (a *app) form() *cobra.Command {
	return terminal.Group("form", "Forms of rows that outlets share: columns that are dropped, masked, renamed or computed",
		a.formAdd(), a.edit("forms", "form", "Change a form's definition; the outlets that use it go on with it"),
		a.formPreview(), a.formList(), a.withYAML("forms", a.formShow()), a.remove("forms", "form", "Remove a form that no outlet uses"))
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

func (a *app) formPreview() *cobra.Command {
	var file, source string
	var limit int
	var from int64
	c := &cobra.Command{Use: "preview [NAME]", Short: "Show what a form makes of real rows; nothing is sent or stored",
		Long:    "Takes the newest events of a source's journal, or those from --from on, and shows them in the form that\nis stored under the name, or is in the file.",
		Example: "  rillmark form preview readers --source circulation\n  rillmark form preview --file readers.yaml --source circulation --limit 1", Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
			if source == "" || (file == "") == (len(args) == 0) {
				return terminal.Usage("%s needs --source with the name of a source, and either a form's name or --file", c.CommandPath())
			}
			var form json.RawMessage
			var d *written.File
			if file != "" {
				var err error
				if d, err = written.ReadDefinition(&a.Session, file); err != nil {
					return err
				}
				form = d.JSON
			} else {
				var stored struct{ Definition json.RawMessage }
				if _, err := a.Call(c.Context(), http.MethodGet, "/v1/forms/"+url.PathEscape(args[0]), nil, &stored); err != nil {
					return err
				}
				form = stored.Definition
			}
			fields := map[string]any{}
			if err := json.Unmarshal(form, &fields); err != nil {
				return terminal.Usage("the definition is no object: it has rows and functions")
			}
			delete(fields, "description")
			fields["source"], fields["operations"] = source, []string{"existing", "insert", "update", "delete"} // of rows
			if rows, _ := fields["rows"].([]any); len(rows) > 0 {
				var tables []any
				for _, one := range rows {
					if row, is := one.(map[string]any); is && row["match"] != nil {
						tables = append(tables, row["match"])
					}
				}
				fields["tables"] = tables
			}
			var found explaining.Previews
			raw, err := a.Call(c.Context(), http.MethodPost, fmt.Sprintf("/v1/preview?limit=%d&from=%d", limit, from), map[string]any{"outlet": fields}, &found)
			if err != nil && d != nil {
				return written.ExplainedParts(err, "outlet", map[string]*written.File{"outlet": d})
			}
			if err != nil {
				return err
			}
			return a.printPreviews(raw, &found)
		}}
	c.Flags().StringVarP(&file, "file", "f", "", "a definition that is not stored yet; - for standard input")
	c.Flags().StringVar(&source, "source", "", "whose rows are shown")
	c.Flags().IntVar(&limit, "limit", 3, "messages at most")
	c.Flags().Int64Var(&from, "from", 0, "first offset; the newest events without it")
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
