// Package events has the commands that read what is in a journal: events as they come, a row's
// history, a table as it was, why an event went where it did, versions of tables.
package events

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/jsontext"
)

// seen is what people want of an event at a glance.
type seen struct {
	Sequence string    `json:"sequence"`
	Time     time.Time `json:"time"`
	Data     struct {
		Operation string          `json:"operation"`
		Table     string          `json:"table"`
		Key       members         `json:"key"`
		Changed   []string        `json:"changed"`
		Before    members         `json:"before"`
		After     members         `json:"after"`
		Message   json.RawMessage `json:"message"`
		Schema    json.RawMessage `json:"schema"`
		// Rekeyed is the other key where the key has changed.
		Rekeyed     members `json:"rekeyed"`
		Transaction struct {
			ID     string `json:"id"`
			Origin string `json:"origin"`
		} `json:"transaction"`
	} `json:"data"`
}

// members is a JSON object whose members keep their order.
type members []member

type member struct {
	name  string
	value json.RawMessage
}

// UnmarshalJSON implements [json.Unmarshaler].
func (m *members) UnmarshalJSON(raw []byte) error {
	*m = nil
	d := json.NewDecoder(bytes.NewReader(raw))
	if first, err := d.Token(); err != nil || first == nil {
		return err // null
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		one := member{name: fmt.Sprint(name)}
		if err := d.Decode(&one.value); err != nil {
			return err
		}
		*m = append(*m, one)
	}
	return nil
}

func (m members) get(name string) string {
	for _, one := range m {
		if one.name == name {
			return bare(one.value)
		}
	}
	return ""
}

// text is the members as a person reads them, without those that are left out.
func (m members) text(without members) string {
	var parts []string
	for _, one := range m {
		if without.get(one.name) == "" {
			parts = append(parts, one.name+" "+terminal.Shorten(bare(one.value), 32))
		}
	}
	return strings.Join(parts, ", ")
}

// bare is a value without the quotes of a string.
func bare(value json.RawMessage) string {
	var s string
	if json.Unmarshal(value, &s) == nil && string(value) != "null" {
		return s
	}
	return string(value)
}

// messageSays is a message's content behind its prefix.
func messageSays(raw json.RawMessage) string {
	var m struct {
		Prefix  string
		Content json.RawMessage
		Base64  string `json:"content_base64"`
	}
	if json.Unmarshal(raw, &m) != nil {
		return string(raw)
	}
	content := m.Base64
	if m.Content != nil {
		content = bare(m.Content)
	}
	return strings.TrimSpace(m.Prefix + ": " + content)
}

// schemaSays is what a schema event changes, in words.
func schemaSays(raw json.RawMessage) string {
	var s struct {
		Definition, Previous json.RawMessage
		Renamed              []change.Rename
	}
	if json.Unmarshal(raw, &s) != nil {
		return "a new schema version"
	}
	after, err := change.ParseSchema(s.Definition)
	if err != nil || string(s.Definition) == "null" {
		return "the table is gone"
	}
	before, err := change.ParseSchema(s.Previous)
	if err != nil || string(s.Previous) == "null" {
		return fmt.Sprintf("first version, %d columns", len(after.Columns))
	}
	parts := change.Changes(before, after, s.Renamed)
	if len(parts) == 0 {
		return "a new schema version"
	}
	return strings.Join(parts, ", ")
}

// maxShownDepth is how deep an event may be nested to be shown in a line.
const maxShownDepth = 5000

// Reader has the commands that read what is in a journal.
type Reader struct{ *terminal.Session }

// PrintEvent prints one event in a line.
func (a *Reader) PrintEvent(raw []byte) error {
	if a.JSON {
		_, err := fmt.Fprintf(a.Out, "%s\n", raw)
		return err
	}
	var e seen
	if jsontext.Depth(raw) > maxShownDepth {
		_, err := fmt.Fprintln(a.Out, "an event whose documents are nested too deep to be shown in a line: see it with --json")
		return err
	}
	if err := json.Unmarshal(raw, &e); err != nil {
		return err
	}
	what := e.Data.After.text(e.Data.Key)
	switch {
	case e.Data.Operation == "message":
		what = messageSays(e.Data.Message)
	case e.Data.Operation == "schema":
		what = schemaSays(e.Data.Schema)
	case e.Data.Operation == "delete":
		what = e.Data.Before.text(e.Data.Key)
	case len(e.Data.Changed) > 0:
		parts := make([]string, len(e.Data.Changed))
		for i, name := range e.Data.Changed {
			parts[i] = fmt.Sprintf("%s %s → %s", name, terminal.Shorten(e.Data.Before.get(name), 32), terminal.Shorten(e.Data.After.get(name), 32))
		}
		what = strings.Join(parts, ", ")
	}
	line := fmt.Sprintf("%10s  %s  %-8s  %-16s  %-16s  %s", strings.TrimLeft(e.Sequence, "0"), e.Time.Local().Format("15:04:05.000"),
		e.Data.Operation, e.Data.Table, terminal.Dash(e.Data.Key.text(nil)), terminal.Shorten(what, 120))
	_, err := fmt.Fprintln(a.Out, strings.TrimRight(line, " "))
	return err
}

// Watch is the command `watch`: events as they come.
func (a *Reader) Watch() *cobra.Command {
	var outlet, from, until, changes string
	var tables, operations []string
	c := &cobra.Command{
		Use:   "watch SOURCE",
		Short: "Show changes as they come, or those between two places",
		Long: "Shows a source's events as they enter the journal, until Ctrl-C; with --outlet, what one\noutlet lets through. With --json each line is an event as it is delivered.\n\n" +
			"With --until it ends before that place. --changes combined then shows of each row what its changes\nbetween both places come to: an insert and a later delete cancel out.",
		Example: "  rillmark watch circulation\n  rillmark watch circulation --tables public.loans --operation update\n" +
			"  rillmark watch --outlet archive --json\n" +
			"  rillmark watch circulation --from time:2026-11-23T09:00:00Z --until mark:before-weeding\n" +
			"  rillmark watch circulation --changes combined --from mark:before-weeding --until now",
		RunE: func(c *cobra.Command, args []string) error {
			query := url.Values{"from": {from}}
			if until != "" {
				query.Set("until", until)
			}
			var path string
			switch {
			case outlet != "" && len(args) == 0:
				if len(tables)+len(operations) > 0 {
					return terminal.Usage("--tables and --operation are for a source; an outlet has a filter of its own")
				}
				if c.Flags().Changed("changes") {
					return terminal.Usage("--changes is for a source; an outlet's definition has its own")
				}
				path = "/v1/outlets/" + url.PathEscape(outlet) + "/stream?"
			case outlet == "" && len(args) == 1:
				if changes == "combined" && (until == "" || !c.Flags().Changed("from")) {
					return terminal.Usage("combined changes lie between two places: give --from and --until")
				}
				query["table"], query["operation"], query["changes"] = tables, operations, []string{changes}
				path = "/v1/sources/" + url.PathEscape(args[0]) + "/stream?"
			default:
				return terminal.Usage("%s takes exactly one source, or --outlet (`%s --help` shows an example)", c.CommandPath(), c.CommandPath())
			}
			return a.Events(c.Context(), path+query.Encode(), changes != "combined", a.PrintEvent)
		},
	}
	c.Flags().StringVar(&outlet, "outlet", "", "watch what this outlet lets through")
	c.Flags().StringVar(&from, "from", "now", "where to start: now, beginning, an offset, time:2026-11-23T09:00:00Z or mark:NAME")
	c.Flags().StringVar(&until, "until", "", "the place before which to end, as in --from; without it there is no end")
	c.Flags().StringVar(&changes, "changes", "each", "each, or combined between --from and --until")
	c.Flags().Var(written.NamesIn(&tables), "tables", "patterns of tables, with commas between them or repeated")
	c.Flags().Var(written.NamesIn(&operations), "operation", "operations, with commas between them or repeated")
	return c
}

// Read is the command `read`: events between two places.
func (a *Reader) Read() *cobra.Command {
	var from, until string
	var limit, wait int
	var commit bool
	c := &cobra.Command{
		Use:   "read OUTLET",
		Short: "Read a pull outlet's next events; --commit moves its offset behind them",
		Long:  "Reads the events after the outlet's committed offset. Reading does not move the offset;\n--commit does, once the events have been printed.",
		Example: "  rillmark read desk --limit 10\n  rillmark read desk --json --commit >> desk.ndjson\n" +
			"  rillmark read desk --from 4800 --limit 1 --json\n  rillmark read desk --until mark:before-weeding --commit",
		Args: terminal.Exactly("OUTLET"),
		RunE: func(c *cobra.Command, args []string) error {
			base := "/v1/outlets/" + url.PathEscape(args[0])
			query := url.Values{"from": {from}, "until": {until}, "limit": {fmt.Sprint(limit)}, "wait": {fmt.Sprint(wait)}}
			raw, err := a.Call(c.Context(), http.MethodGet, base+"/events?"+query.Encode(), nil, nil)
			if err != nil {
				return err
			}
			page, err := api.ParseEventPage(raw)
			if err != nil {
				return fmt.Errorf("%s answers in a form that this client does not know: %w", a.Server, err)
			}
			for _, e := range page.Events {
				if err := a.PrintEvent(e); err != nil {
					return err
				}
			}
			if commit && page.Committed != nil && page.Passed > *page.Committed {
				if _, err := a.Call(c.Context(), http.MethodPost, base+"/commit", map[string]int64{"committed": page.Passed}, nil); err != nil {
					return err
				}
			}
			if !a.JSON && len(page.Events) == 0 {
				fmt.Fprintln(a.Err, "nothing new") //nolint:errcheck // a closed terminal
			}
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "where to start: beginning, now, an offset, time:... or mark:NAME; without it after the committed offset")
	c.Flags().StringVar(&until, "until", "", "the place before which to end, as in --from")
	c.Flags().IntVar(&limit, "limit", 100, "events at most")
	c.Flags().IntVar(&wait, "wait", 0, "seconds to wait for a first event")
	c.Flags().BoolVar(&commit, "commit", false, "move the committed offset behind what was read")
	return c
}

// Schema is the command `schema`: versions of tables, and what a change of one would break.
func (a *Reader) Schema() *cobra.Command {
	var source, form string
	list := &cobra.Command{Use: "list", Short: "List the schema versions that events refer to", Example: "  rillmark schema list --source circulation", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all struct {
			Items []api.SchemaVersion `json:"items"`
		}
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/schemas?source="+url.QueryEscape(source), nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		rows := make([][]string, len(all.Items))
		for i, v := range all.Items {
			var key []string
			for place := 1; place <= len(v.Columns); place++ {
				for _, column := range v.Columns {
					if column.Key == place {
						key = append(key, column.Name)
					}
				}
			}
			rows[i] = []string{v.Fingerprint, v.Source, v.Table, terminal.Count(int64(len(v.Columns))), terminal.Dash(strings.Join(key, ", ")), terminal.MomentOr(v.FirstSeen)}
		}
		return terminal.Table(a.Out, []string{"version", "source", "table", ">columns", "key", "since"}, rows)
	}}
	list.Flags().StringVar(&source, "source", "", "of one source")
	show := &cobra.Command{Use: "show VERSION", Short: "Show a schema version: its columns, or as JSON Schema or Avro schema", Example: "  rillmark schema show 9d1f6c0e2b7a4d58\n  rillmark schema show 9d1f6c0e2b7a4d58 --form avro", Args: terminal.Exactly("VERSION"), RunE: func(c *cobra.Command, args []string) error {
		ask := form
		if form == "columns" {
			ask = "definition"
		}
		var version api.SchemaVersion
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/schemas/"+url.PathEscape(args[0])+"?form="+url.QueryEscape(ask), nil, &version)
		if err != nil {
			return err
		}
		if a.JSON || form != "columns" {
			return a.PrintJSON(raw)
		}
		fmt.Fprintf(a.Out, "%s, version %s\n\n", version.Table, args[0]) //nolint:errcheck // a closed terminal
		rows := make([][]string, len(version.Columns))
		for i, column := range version.Columns {
			nulls, key := "no", ""
			if column.Nullable {
				nulls = "yes"
			}
			if column.Key > 0 {
				key = fmt.Sprint(column.Key)
			}
			rows[i] = []string{column.Name, column.TypeName(), string(column.Rule), nulls, key}
		}
		return terminal.Table(a.Out, []string{"column", "type", "rule", "nulls", ">key"}, rows)
	}}
	show.Flags().StringVar(&form, "form", "columns", "columns, json-schema, avro or definition")
	return terminal.Group("schema", "Schema versions", list, show, a.schemaDiff(), a.schemaImpact())
}
