package cli

import (
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"
)

// sourceFlags are a source's definition on the command line.
type sourceFlags struct {
	file, host, database, user, password, tls string
	port                                      int
	tables                                    []string
	mode, from, hashKey, root                 string
	slot, publication                         string
	sessions                                  int
	set                                       setFlag
	// wantTables is for what captures: what only looks can look at all tables.
	wantTables bool
}

func (f *sourceFlags) register(c *cobra.Command) {
	flags := c.Flags()
	flags.StringVarP(&f.file, "file", "f", "", "definition in YAML; - for standard input. Flags go before it")
	f.set.register(flags)
	flags.StringVar(&f.host, "host", "", "host of the database")
	flags.IntVar(&f.port, "port", 5432, "port of the database")
	flags.StringVar(&f.database, "database", "", "name of the database")
	flags.StringVar(&f.user, "user", "", "user to log in as")
	flags.StringVar(&f.password, "password", "", "reference to the password: ${env:NAME} or ${file:/path}; one typed here ends up in the shell's history")
	flags.StringVar(&f.tls, "tls", "", "disable, prefer, require or verify-full, which is the default for a database that is not on this machine")
	flags.StringSliceVar(&f.tables, "tables", nil, "patterns of tables to capture, with commas between them or repeated")
	flags.StringVar(&f.mode, "mode", "load-and-follow", "load-and-follow, load-only or follow-only")
	flags.StringVar(&f.from, "from-position", "", "with follow-only and a slot: place in the log where somebody else's load ended")
	flags.StringVar(&f.hashKey, "hash-key", "", "reference to the key that columns are hashed under")
	flags.StringVar(&f.root, "tls-root", "", "with verify-full: file of the certificates to trust, on the service's machine")
	flags.IntVar(&f.sessions, "load-sessions", 0, "how many sessions read at once while tables are loaded (2)")
	flags.StringVar(&f.slot, "slot", "", "replication slot that an administrator has made")
	flags.StringVar(&f.publication, "publication", "", "publication that an administrator has made")
}

// sourcePlaces are the fields that the flags stand for.
var sourcePlaces = map[string]string{"host": "connection.host", "port": "connection.port", "database": "connection.database", "user": "connection.user", "password": "connection.password",
	"tls": "connection.tls", "tls-root": "connection.tls_root", "tables": "tables", "mode": "mode", "from-position": "from_position", "hash-key": "hash_key", "load-sessions": "load_sessions",
	"slot": "slot", "publication": "publication"}

// definition is what the file says, with the flags laid over it, and --set over both.
func (f *sourceFlags) definition(a *app, c *cobra.Command) (*definitionFile, error) {
	d := &definitionFile{name: "command line", json: []byte(`{"engine":"postgresql"}`)}
	if f.file != "" {
		var err error
		if d, err = a.readDefinition(f.file); err != nil {
			return nil, err
		}
		if _, err = d.record(); err != nil {
			return nil, err
		}
	} else if len(f.set.given) == 0 {
		var missing []string
		for _, name := range []string{"host", "database", "user"} {
			if !c.Flags().Changed(name) {
				missing = append(missing, "--"+name)
			}
		}
		if f.wantTables && !c.Flags().Changed("tables") {
			missing = append(missing, "--tables")
		}
		if len(missing) > 0 {
			return nil, usage("a source needs %s, or --file with a definition", strings.Join(missing, ", "))
		}
	}
	if err := d.layFlags(c.Flags(), sourcePlaces); err != nil {
		return nil, err
	}
	if err := f.set.lay(d); err != nil {
		return nil, err
	}
	if !f.wantTables { // what only looks can look at all of them
		var there struct{ Tables []any }
		if err := json.Unmarshal(d.json, &there); err == nil && len(there.Tables) == 0 {
			return d, d.put("tables", []map[string]string{{"match": "*"}})
		}
	}
	return d, nil
}
