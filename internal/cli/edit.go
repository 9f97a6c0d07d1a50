package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
)

// edit replaces a definition, on the version that it was made from.
func (a *app) edit(plural, noun, short string) *cobra.Command {
	var file string
	var version int64
	var set written.SetFlag
	var load bool
	c := &cobra.Command{
		Use:   "edit NAME",
		Short: short,
		Long: "Puts the file's definition in the place of the stored one, or changes single fields of it\nwith --set. The file can be what `show --json` or `show --yaml` printed; --version, or the\nversion in that file, is the version that the change was made to: where somebody else has\n" +
			"changed it since, nothing is changed. A file without one is put in the place of what is\nthere now, and what differs is shown. A password of (sealed) stays as it is.",
		Example: fmt.Sprintf("  rillmark %[1]s edit NAME --set description='read by the desk'\n  rillmark %[1]s show NAME --yaml > changed.yaml\n  rillmark %[1]s edit NAME --file changed.yaml", noun),
		Args:    terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			path := "/v1/" + plural + "/" + url.PathEscape(args[0])
			var d *written.File
			var from int64
			switch {
			case file != "":
				var err error
				if d, err = written.ReadDefinition(&a.Session, file); err == nil {
					from, err = d.Record()
				}
				if err != nil {
					return err
				}
			case len(set.Given) > 0:
				raw, err := a.Call(c.Context(), http.MethodGet, path, nil, nil)
				if err != nil {
					return err
				}
				d = &written.File{Name: "command line", JSON: raw}
				if from, err = d.Record(); err != nil {
					return err
				}
			default:
				return terminal.Usage("%s needs --file with the definition, or --set", c.CommandPath())
			}
			if version == 0 {
				version = from
			}
			var before []byte
			if version == 0 { // what is kept elsewhere, such as under version control, has none
				var err error
				if before, version, err = a.stored(c.Context(), path); err != nil {
					return err
				}
			}
			if err := set.Lay(d); err != nil {
				return err
			}
			r, err := a.Request(c.Context(), http.MethodPut, path, d.JSON)
			if err != nil {
				return err
			}
			r.Header.Set("If-Match", fmt.Sprintf("%q", fmt.Sprint(version)))
			var stored struct {
				Version  int64    `json:"version"`
				Warnings []string `json:"warnings"`
				Added    []string `json:"added_tables"`
			}
			raw, err := a.Finish(r, &stored)
			if err != nil {
				return d.Explained(err)
			}
			if err := a.addedTables(c.Context(), args[0], stored.Added, load); err != nil {
				return err
			}
			a.warn(stored.Warnings)
			if stored.Version == version {
				return a.done(raw, "%s %s stays at version %d: nothing differs from what was there", noun, args[0], version)
			}
			if before != nil && !a.JSON {
				after, _, err := a.stored(c.Context(), path)
				if err != nil {
					return err
				}
				if err := a.differences(before, after); err != nil {
					return err
				}
			}
			return a.done(raw, "%s %s changed to version %d", noun, args[0], stored.Version)
		},
	}
	c.Flags().StringVarP(&file, "file", "f", "", "definition in YAML, or what show printed; - for standard input")
	c.Flags().Int64Var(&version, "version", 0, "version that the change was made to; the file's own without it, else the newest")
	set.Register(c.Flags())
	if noun == "outlet" {
		c.Flags().BoolVar(&load, "load", false, "have the rows of tables that this adds come, too, to this outlet alone")
	}
	return c
}

// addedTables says which tables an edit has added to an outlet, and has them loaded for it where that
// is asked for.
func (a *app) addedTables(ctx context.Context, outlet string, tables []string, load bool) error {
	if len(tables) == 0 {
		return nil
	}
	names := make([]string, len(tables))
	for i, table := range tables {
		names[i] = change.Argument(table)
	}
	if !load {
		a.warn([]string{fmt.Sprintf("new in this outlet: %s. Its events come from where the outlet is in the journal; what was before that comes with `rillmark outlet load %s --tables %s`, or with --load here", strings.Join(tables, ", "), outlet, strings.Join(names, ","))})
		return nil
	}
	body, err := json.Marshal(map[string][]string{"tables": tables})
	if err != nil {
		return err
	}
	if _, err := a.Call(ctx, http.MethodPost, "/v1/outlets/"+url.PathEscape(outlet)+"/load", body, nil); err != nil {
		return err
	}
	if a.JSON {
		return nil
	}
	_, err = fmt.Fprintf(a.Out, "loading for %s alone: %s\n", outlet, strings.Join(tables, ", "))
	return err
}

// stored is a definition as it is stored, with its version.
func (a *app) stored(ctx context.Context, path string) (d []byte, version int64, err error) {
	raw, err := a.Call(ctx, http.MethodGet, path, nil, nil)
	if err != nil {
		return nil, 0, err
	}
	f := &written.File{Name: "the service's answer", JSON: raw}
	version, err = f.Record()
	return f.JSON, version, err
}

// differences prints the fields in which two definitions differ.
func (a *app) differences(before, after []byte) error {
	for _, one := range definition.Differences(json.RawMessage(before), json.RawMessage(after)) {
		if _, err := fmt.Fprintf(a.Out, "%s: %s → %s\n", one.Field, shortened(one.Before), shortened(one.After)); err != nil {
			return err
		}
	}
	return nil
}

// shortened is what a field holds, in a line.
func shortened(text string) string {
	const most = 120
	switch r := []rune(text); {
	case text == "":
		return "(not set)"
	case len(r) > most:
		return string(r[:most]) + "…"
	}
	return text
}
