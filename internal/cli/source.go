package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"rillmark/internal/api"
	"rillmark/internal/change"
	"rillmark/internal/cli/terminal"
	"rillmark/internal/cli/written"
	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/engine/engines"
	"rillmark/internal/service"
	"rillmark/internal/settings"
)

type sourceList struct {
	Items []api.Record[definition.Source] `json:"items"`
}

type checkList struct {
	Items []change.Check `json:"items"`
}

func (a *app) source() *cobra.Command {
	return terminal.Group("source", "Databases whose logs are captured",
		a.sourceCheck(), a.sourceAdd(), a.sourceEdit(), a.sourceList(), a.withYAML("sources", a.sourceShow()), a.sourceTables(), a.sourceTry(), a.sourceEngines(),
		a.sourceScript("setup-sql", "Print the script that prepares a database, for an administrator", "Grants the login the least rights that capture needs and publishes the chosen tables. It\ncan be run again, and takes in the tables that came since.", func(s service.Scripts) string { return s.Setup }),
		a.sourceScript("teardown-sql", "Print the script that takes the preparation away", "For an administrator, once the source has been removed. It can be run again.", func(s service.Scripts) string { return s.Teardown }),
		a.running("sources", "source", "pause", "Pause capture; the source keeps its log for us meanwhile", "  rillmark source pause circulation --reason \"maintenance window\""),
		a.running("sources", "source", "resume", "Start or resume capture", "  rillmark source resume circulation"),
		a.sourceRun(), a.sourceReload(), a.sourceReset(), a.sourceRemove())
}

func (a *app) sourceScript(verb, short, long string, of func(service.Scripts) string) *cobra.Command {
	f := sourceFlags{wantTables: true}
	var statements, run bool
	var as, password string
	c := &cobra.Command{
		Use: verb + " NAME", Short: short, Long: long + "\nWithout flags it is for the stored definition. The database is not reached, unless --run\nhas the service run the script there.",
		Example: "  rillmark source " + verb + " circulation --file circulation.yaml | psql circulation\n  rillmark source " + verb + " circulation\n  rillmark source " + verb + " circulation --run --as postgres --as-password '${env:RILLMARK_SECRET_ADMIN}'",
		Args:    terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			d, body, err := f.maybe(a, c)
			if err != nil {
				return err
			}
			path := "/v1/sources/" + url.PathEscape(args[0]) + "/scripts"
			script := strings.TrimSuffix(verb, "-sql")
			if run {
				for _, which := range []string{script, "statements"}[:1+boolean(statements)] {
					ask := map[string]any{"script": which, "user": as, "password": password}
					if body != nil {
						ask["definition"] = json.RawMessage(d.JSON)
					}
					if _, err := a.Call(c.Context(), http.MethodPost, path+"/run", ask, nil); err != nil {
						return err
					}
				}
				return a.done(nil, "the %s script was run on the database", script)
			}
			var scripts service.Scripts
			raw, err := a.Call(c.Context(), http.MethodPost, path, body, &scripts)
			if err != nil {
				return d.Explained(err)
			}
			if a.JSON {
				return a.PrintJSON(raw)
			}
			text := of(scripts)
			if statements {
				text += "\n" + scripts.Statements
			}
			_, err = io.WriteString(a.Exact(), text)
			return err
		},
	}
	f.register(c)
	if verb == "setup-sql" {
		c.Flags().BoolVar(&statements, "statements", false, "with the event trigger that writes schema changes' statements into the log")
	}
	c.Flags().BoolVar(&run, "run", false, "have the service run it on the database, whole or not at all")
	c.Flags().StringVar(&as, "as", "", "with --run: login to run it as; the source's own without it")
	c.Flags().StringVar(&password, "as-password", "", "with --run: that login's password, or a reference to it; it is not kept")
	return c
}

func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}

// maybe is the definition that file or flags give, and nothing without either.
func (f *sourceFlags) maybe(a *app, c *cobra.Command) (d *written.File, body any, err error) {
	if !written.AnyGiven(c, f.Fields.Common) {
		return nil, nil, nil
	}
	if d, err = f.definition(a, c); err != nil {
		return nil, nil, err
	}
	return d, d.JSON, nil
}

func (a *app) sourceCheck() *cobra.Command {
	var f sourceFlags
	c := &cobra.Command{
		Use:   "check NAME",
		Short: "Say whether a source is ready, before anything is stored",
		Long:  "Checks the definition that the flags or the file give; without either, the stored one.\nNothing is changed on the source. " + "Exit code 5 says that something is missing.",
		Example: "  rillmark source check circulation --host db.example --database circulation \\\n" +
			"      --user rillmark --password '${env:RILLMARK_SECRET_CIRCULATION}' --tables 'public.*'\n  rillmark source check circulation",
		Args: terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			d, body, err := f.maybe(a, c)
			if err != nil {
				return err
			}
			var found checkList
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/check", body, &found)
			if err != nil {
				return d.Explained(err)
			}
			return a.printChecks(raw, found.Items)
		},
	}
	f.register(c)
	return c
}

func (a *app) printChecks(raw []byte, checks []change.Check) error {
	if a.JSON {
		if err := a.PrintJSON(raw); err != nil {
			return err
		}
	} else {
		a.ShowChecks(checks)
	}
	return ready(checks)
}

func ready(checks []change.Check) error {
	if !change.Ready(checks) {
		return terminal.WithCode(terminal.ExitNotReady, errors.New("not ready: see the lines marked missing"))
	}
	return nil
}

func (a *app) sourceAdd() *cobra.Command {
	f := sourceFlags{wantTables: true}
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a source; it starts when it is resumed",
		Long:  "Adds a source, paused: its load begins when it is resumed, so that its outlets can be\nthere first. `rillmark source check` says beforehand whether it is ready,\n`rillmark source engines ENGINE` lists all that can be set.",
		Example: "  rillmark source add circulation --host db.example --database circulation \\\n" +
			"      --user rillmark --password '${env:RILLMARK_SECRET_CIRCULATION}' --tables 'public.*'\n  rillmark source add circulation --file circulation.yaml",
		Args: terminal.Exactly("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := f.definition(a, c)
			if err != nil {
				return err
			}
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0]), d.JSON, nil)
			if err != nil {
				return d.Explained(err)
			}
			return a.done(raw, "source %s added, paused. `rillmark source resume %s` starts it", args[0], args[0])
		},
	}
	f.register(c)
	return c
}

// warn prints what a person should know beside what was asked for.
func (a *app) warn(warnings []string) {
	for _, one := range warnings {
		fmt.Fprintln(a.Err, "warning: "+one) //nolint:errcheck // a closed terminal
	}
}

// done prints what was answered, or a sentence.
func (a *app) done(raw []byte, format string, args ...any) error {
	if a.JSON {
		if len(bytes.TrimSpace(raw)) == 0 {
			raw = []byte(`{"done": true}`)
		}
		return a.PrintJSON(raw)
	}
	_, err := fmt.Fprintf(a.Out, format+"\n", args...)
	return err
}

func (a *app) sourceEdit() *cobra.Command {
	return a.edit("sources", "source", "Change a source's definition; one that runs goes on with it")
}

func (a *app) statusNow(ctx context.Context) (*service.Status, []byte, error) {
	st := new(service.Status)
	raw, err := a.Call(ctx, http.MethodGet, "/v1/status", nil, st)
	return st, raw, err
}

func (a *app) sourceList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all sources", Example: "  rillmark source list", Args: terminal.Exactly(), RunE: func(c *cobra.Command, _ []string) error {
		var all sourceList
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/sources", nil, &all)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		st, _, err := a.statusNow(c.Context())
		if err != nil {
			return err
		}
		phases := make(map[string]service.SourceStatus)
		for _, s := range st.Sources {
			phases[s.Name] = s
		}
		rows := make([][]string, len(all.Items))
		for i, r := range all.Items {
			d := r.Definition
			rules := make([]string, len(d.Tables))
			for j, t := range d.Tables {
				rules[j] = t.Match
			}
			rows[i] = []string{r.Name, phases[r.Name].Phase, d.Engine, where(&d), strings.Join(rules, " "), terminal.Count(phases[r.Name].Journal.Events)}
		}
		return terminal.Table(a.Out, []string{"source", "state", "engine", "database", "tables", ">events"}, rows)
	}}
}

// where is a source's database, for lists.
func where(d *definition.Source) string {
	if d.Connection.Connection == nil {
		return "-"
	}
	return fmt.Sprintf("%s as %s", d.Connection.Where(), d.Connection.Login())
}

func (a *app) sourceShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a source: its definition, tables and journal", Example: "  rillmark source show circulation", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		var r api.Record[definition.Source]
		raw, err := a.Call(c.Context(), http.MethodGet, "/v1/sources/"+url.PathEscape(args[0]), nil, &r)
		if err != nil || a.JSON {
			return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
		}
		st, _, err := a.statusNow(c.Context())
		if err != nil {
			return err
		}
		for _, s := range st.Sources {
			if s.Name == args[0] {
				return a.printSource(r, s)
			}
		}
		return nil
	}}
}

func (a *app) printSource(r api.Record[definition.Source], s service.SourceStatus) error {
	d := r.Definition
	line := func(label, format string, args ...any) {
		fmt.Fprintf(a.Out, "%-12s "+format+"\n", append([]any{label}, args...)...) //nolint:errcheck // a closed terminal
	}
	line("source", "%s (version %d)", r.Name, r.Version)
	line("database", "%s", where(&d))
	state := s.Phase
	if s.Doing != "" {
		state += ", " + s.Doing
	}
	if s.Reason != "" && s.Phase == "paused" {
		state += " (" + s.Reason + ")"
	}
	line("state", "%s", state)
	if s.Position != "" {
		line("position", "%s", s.Position)
	}
	if s.Error != "" {
		line("error", "%s", s.Error)
	}
	line("journal", "offsets %s to %s, %s on disk, generation %d", terminal.Count(s.Journal.First), terminal.Count(s.Journal.Next-1), terminal.Size(s.Journal.Bytes), s.Journal.Generation)
	if h := s.RetainedLog; h != nil {
		held := terminal.Size(h.Bytes) + " retained on the source"
		if h.Limit > 0 {
			held += " of at most " + terminal.Size(h.Limit)
		}
		if h.Level != "fine" {
			held += " (" + h.Level + ": " + h.Advice + ")"
		}
		line("log", "%s", held)
		if h.Spilled > 0 {
			line("spill", "%s written to the source's disk so far, to decode large transactions", terminal.Size(h.Spilled))
		}
	}
	fmt.Fprintln(a.Out) //nolint:errcheck // a closed terminal
	return a.printTables(s.Tables)
}

// orDash is a count, with a dash for none.
func orDash(n int64) string {
	if n == 0 {
		return "-"
	}
	return terminal.Count(n)
}

func (a *app) printTables(tables []service.TableStatus) error {
	rows := make([][]string, 0, len(tables))
	for _, t := range tables {
		cell := func(o change.Operation) string { return orDash(t.Counts[o.String()]) }
		rows = append(rows, []string{t.Name, stateOf(t), orDash(t.RowsDone), cell(change.Existing), cell(change.Insert), cell(change.Update), cell(change.Delete), cell(change.Truncate), a.Cut(t.Note, 60)})
	}
	return terminal.Table(a.Out, []string{"table", "state", ">last load", ">existing", ">insert", ">update", ">delete", ">truncate", "note"}, rows)
}

func (a *app) sourceEngines() *cobra.Command {
	return &cobra.Command{Use: "engines [ENGINE]", Short: "List the kinds of databases that can be sources, or all that can be set for one", Example: "  rillmark source engines\n  rillmark source engines postgresql",
		Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return a.engineFields(args[0])
			}
			var all struct {
				Items []api.Engine `json:"items"`
			}
			raw, err := a.Call(c.Context(), http.MethodGet, "/v1/engines", nil, &all)
			if err != nil || a.JSON {
				return terminal.FirstOf(err, func() error { return a.PrintJSON(raw) })
			}
			rows := [][]string{}
			for _, k := range all.Items {
				can := make([]string, len(k.Capabilities))
				for i, one := range k.Capabilities {
					can[i] = string(one)
				}
				rows = append(rows, []string{string(k.Name), k.Title, strings.Join(can, ", ")})
			}
			return terminal.Table(a.Out, []string{"engine", "database", "supports"}, rows)
		}}
}

// engineFields lists what a source of an engine has. It needs no service.
func (a *app) engineFields(name string) error {
	kind := engines.Named(name)
	if kind == nil {
		return terminal.Usage("there is no engine %q: this version knows %s", name, engines.Names())
	}
	var own []settings.Field
	for _, f := range settings.Fields(new(definition.Source)) {
		if f.Title != "" && f.Type != settings.Part {
			own = append(own, f)
		}
	}
	fmt.Fprintf(a.Out, "The connection of a source of %s (source add):\n", kind.Title) //nolint:errcheck // a closed terminal
	if err := printFields(a.Out, "connection.", settings.Fields(kind.Connection())); err != nil {
		return err
	}
	fmt.Fprint(a.Out, "\nThe source:\n") //nolint:errcheck // a closed terminal
	return printFields(a.Out, "", own)
}

func (a *app) sourceTables() *cobra.Command {
	var f sourceFlags
	c := &cobra.Command{Use: "tables NAME", Short: "List the tables of a source's database, and what their log entries carry",
		Long:    "Of the definition that the flags or the file give, before anything is stored; without\neither, of the stored one.",
		Example: "  rillmark source tables circulation\n  rillmark source tables circulation --host db.example --database circulation --user rillmark --password '${env:RILLMARK_SECRET_CIRCULATION}'", Args: terminal.Exactly("NAME")}
	f.register(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		var all struct {
			Items []engine.Table `json:"items"`
		}
		d, body, err := f.maybe(a, c)
		if err != nil {
			return err
		}
		method := http.MethodGet
		if body != nil {
			method = http.MethodPost
		}
		raw, err := a.Call(c.Context(), method, "/v1/sources/"+url.PathEscape(args[0])+"/tables", body, &all)
		if err != nil {
			return d.Explained(err)
		}
		if a.JSON {
			return a.PrintJSON(raw)
		}
		rows := make([][]string, len(all.Items))
		for i, t := range all.Items {
			captured := "no"
			switch {
			case t.Captured && t.InsertsOnly:
				captured = "inserts only"
			case t.Captured:
				captured = "yes"
			}
			rows[i] = []string{t.Name, captured, terminal.Dash(strings.Join(t.Key, ", ")), terminal.Count(t.RowsEstimate), t.Identity, t.CannotPublish + t.Advice}
		}
		return terminal.Table(a.Out, []string{"table", "captured", "key", ">rows (est.)", "old row", "advice"}, rows)
	}
	return c
}

func (a *app) running(plural, noun, verb, short, example string) *cobra.Command {
	var reason string
	var wait bool
	var letPass int64
	c := &cobra.Command{Use: verb + " NAME", Short: short, Example: example, Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
		asked := map[string]any{"reason": reason}
		if letPass > 0 {
			asked["let_pass"] = letPass
		}
		raw, err := a.Call(c.Context(), http.MethodPost, "/v1/"+plural+"/"+url.PathEscape(args[0])+"/"+verb, asked, nil)
		if err != nil {
			return err
		}
		if wait {
			if err := a.waitForLoads(c.Context(), args[0], ""); err != nil {
				return err
			}
		}
		return a.done(raw, "%s %s %sd", noun, args[0], verb)
	}}
	c.Flags().StringVar(&reason, "reason", "", "why, for the record")
	if noun == "outlet" && verb == "resume" {
		c.Flags().Int64Var(&letPass, "let-pass", 0, "the `OFFSET` of the change of a table before which the outlet holds: it goes on with it")
	}
	if noun == "source" && verb == "resume" {
		c.Flags().BoolVar(&wait, "wait", false, "show how far the loads are, and return when all are done")
	}
	return c
}

func (a *app) sourceReload() *cobra.Command {
	var where string
	var wait bool
	c := &cobra.Command{Use: "reload NAME TABLE", Short: "Read a table's rows anew, or some of them, while all else goes on",
		Long:    "Reads a table's rows anew: its earlier rows are void, and each row comes again as existing.\nWith --where only the rows for which a condition in the source's own SQL holds are read\nagain; nothing is void then, so a row that has gone in silence stays.",
		Example: "  rillmark source reload circulation public.loans --wait\n  rillmark source reload circulation public.loans --where \"branch_id = 3\"", Args: terminal.Exactly("NAME", "TABLE"), RunE: func(c *cobra.Command, args []string) error {
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/tables/"+url.PathEscape(args[1])+"/reload", map[string]string{"where": where}, nil)
			if err != nil {
				return err
			}
			if wait {
				if err := a.waitForLoads(c.Context(), args[0], args[1]); err != nil {
					return err
				}
				return a.done(raw, "%s is loaded", args[1])
			}
			return a.done(raw, "%s is loaded anew; `rillmark source show %s` shows how far it is", args[1], args[0])
		}}
	c.Flags().StringVar(&where, "where", "", "a condition in the source's own SQL")
	c.Flags().BoolVar(&wait, "wait", false, "show how far the load is, and return when it is done")
	return c
}

func (a *app) sourceReset() *cobra.Command {
	var reason string
	var sure bool
	c := &cobra.Command{Use: "reset NAME", Short: "Begin capture anew where its stream cannot go on",
		Long: "For a source whose log was lost to us: its slot dropped or given up, its database restored\nor failed over. Makes a new slot, loads all tables anew, and starts a new generation\nof the journal: old events are kept, offsets go on, and ids carry the next generation from\n" +
			"there. What the source wrote in between, and has changed again since, is in no event.",
		Example: "  rillmark source reset circulation --reason \"failed over to the standby\" --yes", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			if !sure {
				return terminal.Usage("a reset loads all tables of %s anew and starts a new generation of its journal: confirm with --yes", args[0])
			}
			var reset service.SourceReset
			raw, err := a.Call(c.Context(), http.MethodPost, "/v1/sources/"+url.PathEscape(args[0])+"/reset", map[string]string{"reason": reason}, &reset)
			if err != nil {
				return err
			}
			return a.done(raw, "source %s begins anew: generation %d from offset %d on", args[0], reset.Generation, reset.First)
		}}
	c.Flags().StringVar(&reason, "reason", "", "why, for the record")
	c.Flags().BoolVar(&sure, "yes", false, "yes, load everything anew")
	return c
}

func (a *app) sourceRemove() *cobra.Command {
	var forget bool
	c := &cobra.Command{Use: "remove NAME", Short: "Remove a source with its journal, and what was made on its database",
		Long:    "Drops slot and publications on the database where Rillmark made them, the journal, and the\nsource's record. Its outlets have to be removed first.",
		Example: "  rillmark source remove circulation", Args: terminal.Exactly("NAME"), RunE: func(c *cobra.Command, args []string) error {
			var removal service.Removal
			raw, err := a.Call(c.Context(), http.MethodDelete, fmt.Sprintf("/v1/sources/%s?forget=%t", url.PathEscape(args[0]), forget), nil, &removal)
			if err != nil {
				return err
			}
			told := fmt.Sprintf("source %s removed", args[0])
			if len(removal.Remains) > 0 {
				told += fmt.Sprintf(". On its database remain:\n  %s\n`rillmark source teardown-sql %s` prints the script that takes them away", strings.Join(removal.Remains, "\n  "), args[0])
			}
			return a.done(raw, "%s", told)
		}}
	c.Flags().BoolVar(&forget, "forget", false, "leave the database alone, for one that is gone")
	return c
}
