package sql

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Options is how an outlet keeps tables, in every kind of database.
type Options struct {
	Keep           Keep              `json:"keep,omitempty" enum:"current,flagged,versions" default:"current" flag:"keep-rows" title:"How rows are kept" doc:"current: each row as it is now; flagged: deleted rows stay, with a flag; versions: every version of a row, with from when and until when it held"`
	FlaggedTables  []string          `json:"flagged_tables,omitempty" title:"Tables with flagged rows" doc:"Patterns of tables whose deleted rows stay, with a flag, whatever keep says" advanced:"yes"`
	VersionsTables []string          `json:"versions_tables,omitempty" title:"Tables with every version" doc:"Patterns of tables that get every version of a row, whatever keep says" advanced:"yes"`
	Schema         string            `json:"schema,omitempty" default:"{schema}" maxLength:"200" title:"Schema of the tables" flag:"to-schema" doc:"Schema of a table, which in MariaDB is a database; built from {schema} and {table} of the source"`
	Table          string            `json:"table,omitempty" default:"{table}" maxLength:"200" title:"Names of the tables" flag:"to-table" doc:"Name of a table, built from {schema} and {table} of the source"`
	RenamedTables  map[string]string `json:"renamed_tables,omitempty" title:"Tables under names of their own" doc:"Names of single tables, as schema.table by their names in the source, whatever the templates say: public.loans: library.lendings" advanced:"yes"`
	Definitions    string            `json:"definitions,omitempty" enum:"follow,fixed" default:"follow" title:"Definitions of tables" doc:"follow: tables are made where there are none, and altered as the source's are; fixed: nothing is made or altered, and the outlet holds with the statement that is needed"`
	DroppedColumns string            `json:"dropped_columns,omitempty" enum:"keep,drop" default:"keep" title:"Columns that the source drops" doc:"keep: they stay, and get no values any more; drop: they are dropped here, too" advanced:"yes"`
	Present        string            `json:"present,omitempty" enum:"refuse,replace,keep" default:"refuse" title:"Rows that a table holds at the start" doc:"Of a table that has rows before the outlet first writes to it; refuse: the outlet holds; replace: rows that the source does not have go once the load is complete; keep: they stay, until the table is reloaded"`
	Transactions   string            `json:"transactions,omitempty" flag:"target-transactions" enum:"whole,split" default:"whole" title:"Transactions" doc:"whole: readers see each of the source's transactions as one; split: large ones become visible batch by batch" advanced:"yes"`
	Triggers       string            `json:"triggers,omitempty" enum:"skip,fire" default:"skip" title:"Triggers and foreign keys" doc:"skip: they do nothing for rows that the outlet writes, as far as the database and its rights allow; fire: they act as for anybody" advanced:"yes"`
	Offsets        string            `json:"offsets,omitempty" default:"rillmark.outlets" maxLength:"127" title:"Table of offsets" doc:"Table that keeps the outlet's offset, committed with the rows; it is made where there is none" advanced:"yes"`
	Origin         string            `json:"origin,omitempty" maxLength:"100" title:"Origin" doc:"Marks what the outlet writes, so that a source there can leave it out (leave_out_origins). PostgreSQL: the name of a replication origin, which is made if it is not there, one for each outlet; MariaDB: a server id that no server has" example:"rillmark_reporting" advanced:"yes"`

	kind string // of the database, for errors
}

// ValidateAs checks the options of an outlet to a kind of database, and fills in what is left
// to us.
func (o *Options) ValidateAs(kind string) error {
	o.kind = kind
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
		if field.choices != nil && !slices.Contains(field.choices, *field.value) {
			return settings.Wrong(kind+"."+field.at, "unknown %s %q: there are %s", field.at, *field.value, strings.Join(field.choices, ", "))
		}
	}
	if _, _, ok := change.SplitTable(o.Offsets); !ok {
		return settings.Wrong(kind+".offsets", "%q is no name of a table: write schema.table", o.Offsets)
	}
	for at, name := range map[string]string{"schema": o.Schema, "table": o.Table} {
		if rest := names("", "").Replace(name); strings.ContainsAny(rest, "{}") {
			return settings.Wrong(kind+"."+at, "%q names a field that is not there: there are {schema} and {table}", name)
		}
	}
	places := make(map[string]string)
	for _, source := range slices.Sorted(maps.Keys(o.RenamedTables)) {
		target := o.RenamedTables[source]
		if _, _, ok := change.SplitTable(source); !ok {
			return settings.Wrong(kind+".renamed_tables", "%q is no table of a source: write schema.table", source)
		}
		if _, _, ok := change.SplitTable(target); !ok {
			return settings.Wrong(kind+".renamed_tables", "%q is no name of a table: write schema.table", target)
		}
		if other := places[target]; other != "" {
			return settings.Wrong(kind+".renamed_tables", "%s and %s would both be written into %s", other, source, target)
		}
		places[target] = source
	}
	_, err := o.Kept()
	return err
}

// names puts a source table's names into a template.
func names(schema, table string) *strings.Replacer {
	return strings.NewReplacer("{schema}", schema, "{table}", table)
}

// Kept is how the rows of tables are kept, by their names in the source.
func (o *Options) Kept() (func(table string) Keep, error) {
	var patterns []shape.Pattern
	var keeps []Keep
	for _, list := range []struct {
		at   string
		keep Keep
		some []string
	}{{"flagged_tables", Flagged, o.FlaggedTables}, {"versions_tables", Versions, o.VersionsTables}} {
		for i, text := range list.some {
			p, err := shape.ParsePattern(text)
			if err != nil {
				return nil, settings.Wrong(fmt.Sprintf("%s.%s[%d]", o.kind, list.at, i), "%s", err)
			}
			patterns, keeps = append(patterns, p), append(keeps, list.keep)
		}
	}
	return func(table string) Keep {
		for i, p := range patterns {
			if p.Matches(table) {
				return keeps[i]
			}
		}
		return o.Keep
	}, nil
}

// Place is a table's name in a database whose names have so many bytes at most, for a table
// of the source.
func (o *Options) Place(source string, longest int) (schema, name string, err error) {
	from, bare, ok := change.SplitTable(source)
	if !ok {
		return "", "", fmt.Errorf("%q is no name of a table", source)
	}
	put := names(from, bare)
	schema, name = put.Replace(o.Schema), put.Replace(o.Table)
	if own := o.RenamedTables[source]; own != "" {
		schema, name, _ = change.SplitTable(own) // it has been validated
	}
	for _, one := range []string{schema, name} {
		if one == "" || len(one) > longest || strings.ContainsRune(one, 0) {
			return "", "", &engine.Fault{Code: "name-unfit", Final: true, Message: fmt.Sprintf("%s cannot be named %q here: a name has 1 to %d bytes", source, one, longest),
				Fix: fmt.Sprintf("give the outlet other templates in %s.schema and %[1]s.table, or leave the table out", o.kind)}
		}
	}
	return schema, name, nil
}

// PlaceTable implements [destination.TablePlacer].
func (o *Options) PlaceTable(source string) (string, error) {
	const longest = 64 // of any kind; the writer knows its own
	schema, name, err := o.Place(source, longest)
	return change.TableName(schema, name), err
}

// OffsetsTable is the name of the table of offsets.
func (o *Options) OffsetsTable() (schema, name string) {
	schema, name, _ = change.SplitTable(o.Offsets) // it has been validated
	return schema, name
}
