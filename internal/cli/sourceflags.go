package cli

import (
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/engine/engines"
	"rillmark/internal/settings"
)

// sourceFlags are a source's definition on the command line.
type sourceFlags struct {
	written.Flags
	// wantTables is for what captures: what only looks can look at all tables.
	wantTables bool
}

func (f *sourceFlags) register(c *cobra.Command) {
	flags := c.Flags()
	f.Flags.Register(flags)
	f.Fields.AddCommon(flags, settings.Fields(new(definition.Source)))
	about := make(map[string]string) // with the engine's name, where engines differ
	for _, k := range engines.All {
		for _, field := range settings.Fields(k.Connection()) {
			if field.Flag == "" {
				continue
			}
			if f.Fields.Common[field.Flag] == "" {
				f.Fields.Common[field.Flag] = "connection." + field.Path
				written.AddFlag(flags, &field, field.About())
				about[field.Flag] = string(k.Name) + ": " + field.About()
			} else if known := flags.Lookup(field.Flag); !strings.Contains(about[field.Flag], ": "+field.About()) {
				about[field.Flag] += "; " + string(k.Name) + ": " + field.About()
				known.Usage = about[field.Flag]
			}
		}
	}
	flags.Lookup("tables").Usage = "patterns of tables to capture, with commas between them or repeated"
}

// definition is what the file says, with the flags laid over it, and --set over both.
func (f *sourceFlags) definition(a *app, c *cobra.Command) (*written.File, error) {
	d, err := f.Begin(&a.Session, func() error { return f.complete(c) })
	if err != nil {
		return nil, err
	}
	if f.File == "" {
		d.JSON = []byte(`{"engine":"` + string(change.PostgreSQL) + `"}`)
	}
	if err := d.LayFlags(c.Flags(), f.Fields.Common); err != nil {
		return nil, err
	}
	if err := f.Set.Lay(d); err != nil {
		return nil, err
	}
	if !f.wantTables { // what only looks can look at all of them
		var there struct{ Tables []any }
		if err := json.Unmarshal(d.JSON, &there); err == nil && len(there.Tables) == 0 {
			return d, d.Put("tables", []map[string]string{{"match": "*"}})
		}
	}
	return d, nil
}

// complete says which flags lack without which an engine's source is none; --set may
// stand for any of them.
func (f *sourceFlags) complete(c *cobra.Command) error {
	if len(f.Set.Given) > 0 {
		return nil
	}
	name := string(change.PostgreSQL)
	if c.Flags().Changed("engine") {
		name, _ = c.Flags().GetString("engine")
	}
	kind := engines.Named(name)
	if kind == nil {
		return terminal.Usage("there is no engine %q: this version knows %s", name, engines.Names())
	}
	var missing []string
	for _, field := range settings.Fields(kind.Connection()) {
		if field.Required && !c.Flags().Changed(field.Flag) {
			missing = append(missing, "--"+field.Flag)
		}
	}
	if f.wantTables && !c.Flags().Changed("tables") {
		missing = append(missing, "--tables")
	}
	if len(missing) > 0 {
		return terminal.Usage("a source needs %s, or --file with a definition", strings.Join(missing, ", "))
	}
	return nil
}
