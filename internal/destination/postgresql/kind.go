package postgresql

import (
	"fmt"
	"net"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Kind is that of tables of a PostgreSQL database.
var Kind = destination.Kind{
	Name: "postgresql", Title: "PostgreSQL", About: "Tables that are kept equal to the source's, each row as it is now or in every version",
	Settings: func() destination.Settings { return new(Settings) },
	Outlet:   func() destination.OutletSettings { return new(OutletSettings) },
	Formats:  []encode.Format{encode.FormatTable},
	Make: func(env destination.Environment, d destination.Definition) (destination.Destination, error) {
		return &Destination{settings: d.Settings.(*Settings), options: d.Outlet.(*OutletSettings), dial: env.Dial}, nil
	},
}

// Settings is a database whose tables are written.
type Settings struct {
	Host     string `json:"host" minLength:"1" title:"Host" doc:"Host name or address" example:"db.example"`
	Port     int    `json:"port,omitempty" default:"5432" minimum:"1" maximum:"65535" title:"Port" doc:"Port of the database"`
	Database string `json:"database" minLength:"1" title:"Database" flag:"database-name" doc:"Name of the database"`
	User     string `json:"user" minLength:"1" title:"User" doc:"User to log in as"`
	Password string `json:"password,omitempty" title:"Password" secret:"yes" doc:"The password: a reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_REPORTING}"`
	TLS      string `json:"tls,omitempty" flag:"tls-mode" enum:"disable,prefer,require,verify-full" title:"TLS" doc:"How the connection is encrypted: disable, prefer, require, or verify-full, which also checks the server's name and certificate. Without it: verify-full for a database that is not on this machine, else prefer"`
	Root     string `json:"tls_root,omitempty" flag:"tls-root" title:"Certificates to trust" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it" when:"tls=verify-full" advanced:"yes" example:"/etc/rillmark/ca.pem"`
}

// Validate implements [destination.Settings].
func (s *Settings) Validate() error {
	if s.Port == 0 {
		s.Port = 5432
	}
	if s.TLS == "" {
		ip := net.ParseIP(s.Host)
		s.TLS = "verify-full"
		if s.Host == "localhost" || ip != nil && ip.IsLoopback() {
			s.TLS = "prefer"
		}
	}
	if s.Root != "" && s.TLS != "verify-full" {
		return settings.Wrong("postgresql.tls_root", "certificates to trust are of use with tls: verify-full only")
	}
	return nil
}

// Where implements [destination.Settings].
func (s *Settings) Where() string { return fmt.Sprintf("%s:%d/%s", s.Host, s.Port, s.Database) }

// Reaches implements [destination.Settings].
func (s *Settings) Reaches() []any { return []any{s.Host, s.Port, s.User, s.TLS, s.Root} }

// OutletSettings is how an outlet keeps tables.
type OutletSettings struct {
	Keep           sql.Keep `json:"keep,omitempty" enum:"current,flagged,versions" default:"current" flag:"keep-rows" title:"How rows are kept" doc:"current: each row as it is now; flagged: deleted rows stay, with a flag; versions: every version of a row, with from when and until when it held"`
	FlaggedTables  []string `json:"flagged_tables,omitempty" title:"Tables with flagged rows" doc:"Patterns of tables whose deleted rows stay, with a flag, whatever keep says" advanced:"yes"`
	VersionsTables []string `json:"versions_tables,omitempty" title:"Tables with every version" doc:"Patterns of tables that get every version of a row, whatever keep says" advanced:"yes"`
	Schema         string   `json:"schema,omitempty" default:"{schema}" maxLength:"200" title:"Schema of the tables" flag:"to-schema" doc:"Schema of a table, built from {schema} and {table} of the source; a MariaDB source's {schema} is its database"`
	Table          string   `json:"table,omitempty" default:"{table}" maxLength:"200" title:"Names of the tables" flag:"to-table" doc:"Name of a table, built from {schema} and {table} of the source"`
	Definitions    string   `json:"definitions,omitempty" enum:"follow,fixed" default:"follow" title:"Definitions of tables" doc:"follow: tables are made where there are none, and altered as the source's are; fixed: nothing is made or altered, and the outlet holds with the statement that is needed"`
	DroppedColumns string   `json:"dropped_columns,omitempty" enum:"keep,drop" default:"keep" title:"Columns that the source drops" doc:"keep: they stay, and get no values any more; drop: they are dropped here, too" advanced:"yes"`
	Present        string   `json:"present,omitempty" enum:"refuse,replace,keep" default:"refuse" title:"Rows that a table holds at the start" doc:"Of a table that has rows before the outlet first writes to it; refuse: the outlet holds; replace: rows that the source does not have go once the load is complete; keep: they stay, until the table is reloaded"`
	Transactions   string   `json:"transactions,omitempty" flag:"target-transactions" enum:"whole,split" default:"whole" title:"Transactions" doc:"whole: readers see each of the source's transactions as one; split: large ones become visible batch by batch" advanced:"yes"`
	Triggers       string   `json:"triggers,omitempty" enum:"skip,fire" default:"skip" title:"Triggers and foreign keys" doc:"skip: they do nothing for rows that the outlet writes, where the user may say so (session_replication_role); fire: they act as for anybody" advanced:"yes"`
	Offsets        string   `json:"offsets,omitempty" default:"rillmark.outlets" maxLength:"127" title:"Table of offsets" doc:"Table that keeps the outlet's offset, committed with the rows; it is made where there is none" advanced:"yes"`
}

// Validate implements [destination.OutletSettings].
func (o *OutletSettings) Validate(encode.Format, destination.Settings) error {
	for _, field := range []struct {
		at, def string
		value   *string
		choices []string
	}{
		{"keep", "current", (*string)(&o.Keep), []string{"current", "flagged", "versions"}},
		{"schema", "{schema}", &o.Schema, nil},
		{"table", "{table}", &o.Table, nil},
		{"definitions", "follow", &o.Definitions, []string{"follow", "fixed"}},
		{"dropped_columns", "keep", &o.DroppedColumns, []string{"keep", "drop"}},
		{"present", "refuse", &o.Present, []string{"refuse", "replace", "keep"}},
		{"transactions", "whole", &o.Transactions, []string{"whole", "split"}},
		{"triggers", "skip", &o.Triggers, []string{"skip", "fire"}},
		{"offsets", "rillmark.outlets", &o.Offsets, nil},
	} {
		if *field.value == "" {
			*field.value = field.def
		}
		known := field.choices == nil
		for _, choice := range field.choices {
			known = known || choice == *field.value
		}
		if !known {
			return settings.Wrong("postgresql."+field.at, "unknown %s %q: there are %s", field.at, *field.value, strings.Join(field.choices, ", "))
		}
	}
	if _, _, ok := change.SplitTable(o.Offsets); !ok {
		return settings.Wrong("postgresql.offsets", "%q is no name of a table: write schema.table", o.Offsets)
	}
	for at, name := range map[string]string{"schema": o.Schema, "table": o.Table} {
		if rest := names("", "").Replace(name); strings.ContainsAny(rest, "{}") {
			return settings.Wrong("postgresql."+at, "%q names a field that is not there: there are {schema} and {table}", name)
		}
	}
	_, err := o.kept()
	return err
}

// names puts a source table's names into a template.
func names(schema, table string) *strings.Replacer {
	return strings.NewReplacer("{schema}", schema, "{table}", table)
}

// kept is how the rows of tables are kept, by their names in the source.
func (o *OutletSettings) kept() (func(table string) sql.Keep, error) {
	var patterns []shape.Pattern
	var keeps []sql.Keep
	for _, list := range []struct {
		at   string
		keep sql.Keep
		some []string
	}{{"flagged_tables", sql.Flagged, o.FlaggedTables}, {"versions_tables", sql.Versions, o.VersionsTables}} {
		for i, text := range list.some {
			p, err := shape.ParsePattern(text)
			if err != nil {
				return nil, settings.Wrong(fmt.Sprintf("postgresql.%s[%d]", list.at, i), "%s", err)
			}
			patterns, keeps = append(patterns, p), append(keeps, list.keep)
		}
	}
	return func(table string) sql.Keep {
		for i, p := range patterns {
			if p.Matches(table) {
				return keeps[i]
			}
		}
		return o.Keep
	}, nil
}
