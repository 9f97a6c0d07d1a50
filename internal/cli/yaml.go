package cli

import (
	"net/http"
	"net/url"

	"github.com/spf13/cobra"
)

// withYAML gives a command that shows a record the flag --yaml, whose output `edit`
// takes back.
func (a *app) withYAML(plural string, c *cobra.Command) *cobra.Command {
	var asYAML bool
	shown := c.RunE
	c.Flags().BoolVar(&asYAML, "yaml", false, "print the record as YAML, which `edit --file` takes")
	c.RunE = func(c *cobra.Command, args []string) error {
		if !asYAML {
			return shown(c, args)
		}
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/"+plural+"/"+url.PathEscape(args[0]), nil, nil)
		if err != nil {
			return err
		}
		return a.PrintYAML(raw)
	}
	return c
}
