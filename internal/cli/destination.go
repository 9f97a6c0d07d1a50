package cli

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/definition"
)

func (a *app) destination() *cobra.Command {
	return group("destination", "Where events go, defined once and used by many outlets",
		a.destinationCheck(), a.destinationAdd(), a.edit("destinations", "destination", "Change a destination's definition; its outlets go on with it"),
		a.destinationList(), a.withYAML("destinations", a.destinationShow()), a.destinationRemove())
}

// destinationFlags define a destination in a command line; what they lack goes
// into a file.
type destinationFlags struct {
	file, kind, directory string
	brokers, servers      []string
	createTopics          int
	stream, address, url  string
	signKey, token        string
	set                   setFlag
}

// destinationPlaces are the fields that the flags stand for.
var destinationPlaces = map[string]string{"kind": "kind", "directory": "file.directory", "broker": "kafka.brokers", "create-topics": "kafka.create_topics.partitions", "nats": "nats.servers",
	"create-stream": "nats.stream", "address": "redis.address", "url": "http.url", "sign-key": "http.sign_key", "bearer": "http.token"}

func (f *destinationFlags) register(c *cobra.Command) {
	flags := c.Flags()
	flags.StringVarP(&f.file, "file", "f", "", "definition in YAML, with all that these flags lack; - for standard input. Flags go before it")
	f.set.register(flags)
	flags.StringVar(&f.kind, "kind", "", "file, kafka, nats, redis or http")
	flags.StringVar(&f.directory, "directory", "", "kind file: directory below the service's files_root")
	flags.StringSliceVar(&f.brokers, "broker", nil, "kind kafka: host:port of brokers, with commas between them or repeated")
	flags.IntVar(&f.createTopics, "create-topics", 0, "kind kafka: create missing topics with so many partitions")
	flags.StringSliceVar(&f.servers, "nats", nil, "kind nats: nats://host:port, with commas between them or repeated")
	flags.StringVar(&f.stream, "create-stream", "", "kind nats: create this stream where it is missing")
	flags.StringVar(&f.address, "address", "", "kind redis: host:port")
	flags.StringVar(&f.url, "url", "", "kind http: where events are posted")
	flags.StringVar(&f.signKey, "sign-key", "", "kind http: sign requests; a reference such as '${env:RILLMARK_SECRET_SIGN_KEY}', or whsec_...")
	flags.StringVar(&f.token, "bearer", "", "kind http: bearer token; a reference such as '${env:RILLMARK_SECRET_TOKEN}', or the token")
}

// definition is what the file says, with the flags laid over it, and --set over both.
func (f *destinationFlags) definition(a *app, c *cobra.Command) (*definitionFile, error) {
	d := &definitionFile{name: "command line"}
	if f.file != "" {
		var err error
		if d, err = a.readDefinition(f.file); err != nil {
			return nil, err
		}
		if _, err = d.record(); err != nil {
			return nil, err
		}
	} else if !anyGiven(c, destinationPlaces) {
		return nil, usage("say where events go: --directory, --broker, --nats, --address or --url, or --file with a definition")
	}
	if err := d.layFlags(c.Flags(), destinationPlaces); err != nil {
		return nil, err
	}
	if f.stream != "" {
		if err := d.put("nats.create_stream", true); err != nil {
			return nil, err
		}
	}
	if f.file == "" && f.kind == "" {
		for flag, kind := range map[string]string{"directory": definition.KindFile, "broker": definition.KindKafka, "nats": definition.KindNATS, "address": definition.KindRedis, "url": definition.KindHTTP} {
			if c.Flags().Changed(flag) {
				if err := d.put("kind", kind); err != nil {
					return nil, err
				}
			}
		}
	}
	return d, f.set.lay(d)
}

func (a *app) destinationCheck() *cobra.Command {
	var f destinationFlags
	c := &cobra.Command{Use: "check NAME", Short: "Say whether a destination can be delivered to, leaving nothing there",
		Example: "  rillmark destination check archive --directory archive\n  rillmark destination check hub --broker 127.0.0.1:9092\n  rillmark destination check hub", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var d *definitionFile
			var body any
			if anyGiven(c, destinationPlaces) {
				var err error
				if d, err = f.definition(a, c); err != nil {
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
	c := &cobra.Command{Use: "add NAME", Short: "Add a destination", Example: "  rillmark destination add archive --directory archive\n  rillmark destination add hub --broker 127.0.0.1:9092 --create-topics 6\n" +
		"  rillmark destination add desk --url https://desk.example/events --sign-key '${env:RILLMARK_SECRET_SIGN_KEY}'\n  rillmark destination add bucket --file bucket.yaml", Args: exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		d, err := f.definition(a, c)
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
			rows[i] = []string{r.Name, r.Definition.Kind, r.Definition.Where(), a.cut(r.Definition.Description, 60)}
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
		_, err = fmt.Fprintf(a.out, "%-12s %s (version %d)\n%-12s %s\n%-12s %s\n", "destination", r.Name, r.Version, "kind", r.Definition.Kind, "where", r.Definition.Where())
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
