package definition

import (
	"fmt"
	"regexp"
	"time"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/shape"
)

// Source is a database whose log is captured.
type Source struct {
	Engine     string      `json:"engine" enum:"postgresql" default:"postgresql" required:"false" doc:"The kind of database"`
	Connection Connection  `json:"connection"`
	Tables     []TableRule `json:"tables" minItems:"1" doc:"The first rule that matches a table decides; a table that none matches is left out"`
	Mode       string      `json:"mode,omitempty" enum:"load-and-follow,load-only,follow-only" default:"load-and-follow" doc:"load-only ends, and lets the source's log go, when all tables are loaded; follow-only leaves the rows that exist already out"`
	// FromPosition needs Slot: only a slot holds a log's past.
	FromPosition string `json:"from_position,omitempty" doc:"With follow-only and a slot: the place in the log where somebody else's load ended, such as 0/19A2F48; what was committed before it is passed over" pattern:"^[0-9A-Fa-f]{1,8}/[0-9A-Fa-f]{1,8}$" patternDescription:"a place in a PostgreSQL log, such as 0/19A2F48"`
	HashKey      string `json:"hash_key,omitempty" doc:"The key for columns that are hashed: a reference, ${env:NAME} or ${file:/path}, or the key itself, which is sealed and never shown again"`
	Slot         string `json:"slot,omitempty" doc:"A replication slot that an administrator has made; without it the source makes one of its own" maxLength:"63" pattern:"^[a-z0-9_]*$" patternDescription:"lower-case letters, digits and underscores"`
	// Publication is an administrator's, like Slot.
	Publication  string `json:"publication,omitempty" doc:"A publication that an administrator has made; without it the source makes one of its own" maxLength:"63"`
	LoadSessions int    `json:"load_sessions,omitempty" minimum:"1" maximum:"16" default:"2" doc:"How many sessions read at once while tables are loaded"`
	LargestValue int64  `json:"largest_value,omitempty" minimum:"1048576" maximum:"536870912" default:"16777216" doc:"A value of more bytes is left out of its event, which then names it under too_large with its size"`
	Description  string `json:"description,omitempty" maxLength:"500"`
}

// Connection says how a database is reached.
type Connection struct {
	Host     string `json:"host" minLength:"1" doc:"Host name, address, or directory of a Unix socket"`
	Port     int    `json:"port,omitempty" default:"5432" minimum:"1" maximum:"65535"`
	Database string `json:"database" minLength:"1"`
	User     string `json:"user" minLength:"1"`
	Password string `json:"password,omitempty" doc:"A reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again"`
	TLS      string `json:"tls,omitempty" enum:"disable,prefer,require,verify-full" doc:"verify-full without it for a new source that is not on this machine, else prefer. require: encrypted; verify-full: encrypted, and the server's name and certificate checked"`
	Root     string `json:"tls_root,omitempty" doc:"With verify-full: file of the certificates to trust, on the service's machine; the system's own without it"`
}

// TableRule is a pattern of tables and what to capture of them.
type TableRule struct {
	Match         string       `json:"match" minLength:"1" doc:"Schema-qualified name; * stands for any characters, ? for one"`
	Active        *bool        `json:"active,omitempty" doc:"false leaves the matching tables out"`
	Columns       []ColumnRule `json:"columns,omitempty" doc:"The first that matches a column decides; a column that none matches is kept"`
	Image         string       `json:"image,omitempty" enum:"key,after,both" default:"both" doc:"How much of a row is recorded: its key, the row after the change, or before and after"`
	Key           []string     `json:"key,omitempty" doc:"Columns that tell rows apart, for tables without a primary key"`
	Filter        string       `json:"filter,omitempty" doc:"A condition (CEL) over the row's columns; only rows for which it holds are loaded and followed" maxLength:"4000"`
	SkipUntouched bool         `json:"skip_untouched,omitempty" doc:"An update that touches none of the captured columns gives no event; needs the whole old row in the log"`
	Priority      int          `json:"priority,omitempty" minimum:"-100" maximum:"100" doc:"Tables with a higher one are loaded first"`
	LoadBy        string       `json:"load_by,omitempty" enum:"range,key" default:"range" doc:"How a load walks through a table: by where rows lie on disk, or in the order of the key"`
	AfterRewrite  string       `json:"after_rewrite,omitempty" enum:"stale,reload" default:"stale" doc:"What follows a schema change that changed rows without an event: the table is shown as stale until somebody reloads it, or it is reloaded at once"`
	KeepFor       string       `json:"keep_for,omitempty" doc:"How long the table's events are kept, such as 72h, where the journal keeps others longer; what an outlet has yet to deliver stays until it has"`
	Partitions    string       `json:"partitions,omitempty" enum:"each,root" default:"each" doc:"Whether rows of a partitioned table carry the partition's name or the root's"`
	Description   string       `json:"description,omitempty" maxLength:"500"`
}

// ColumnRule is a pattern of columns and what becomes of their values.
type ColumnRule struct {
	Match string `json:"match" minLength:"1" doc:"The column's name; * stands for any characters, ? for one"`
	Treat string `json:"treat" enum:"keep,drop,mask,hash" doc:"drop: the column is not captured; mask: each value becomes ***; hash: each value becomes an HMAC-SHA256 of it under hash_key, so that equal ones stay equal"`
}

var logPosition = regexp.MustCompile(`^[0-9A-Fa-f]{1,8}/[0-9A-Fa-f]{1,8}$`)

// Loads reports whether existing rows are read first.
func (s *Source) Loads() bool { return s.Mode != "follow-only" }

// Validate checks what can be checked without reaching the source, and fills in
// what is left to us.
func (s *Source) Validate() error {
	if s.Engine == "" {
		s.Engine = string(change.PostgreSQL)
	}
	if s.Engine != string(change.PostgreSQL) {
		return &Invalid{"engine", fmt.Sprintf("unknown engine %q: this version knows postgresql", s.Engine)}
	}
	if s.Connection.Port == 0 {
		s.Connection.Port = 5432
	}
	if s.Connection.TLS == "" {
		s.Connection.TLS = "prefer"
	}
	if s.Connection.Root != "" && s.Connection.TLS != "verify-full" {
		return &Invalid{"connection.tls_root", "certificates to trust are of use with tls: verify-full only"}
	}
	if s.Mode == "" {
		s.Mode = "load-and-follow"
	}
	if s.FromPosition != "" {
		switch {
		case !logPosition.MatchString(s.FromPosition):
			return &Invalid{"from_position", fmt.Sprintf("%q is no place in a PostgreSQL log: it looks like 0/19A2F48", s.FromPosition)}
		case s.Mode != "follow-only":
			return &Invalid{"from_position", "a place to follow from goes with mode: follow-only"}
		case s.Slot == "":
			return &Invalid{"from_position", "the log's past is there only where a slot has held it: name the slot that was made before that place"}
		}
	}
	if len(s.Tables) == 0 {
		return &Invalid{"tables", "at least one rule is needed: for all tables of the schema public, match public.*"}
	}
	for i := range s.Tables {
		if err := s.Tables[i].validate(fmt.Sprintf("tables[%d]", i), s.HashKey != ""); err != nil {
			return err
		}
	}
	return nil
}

// Rules are the table rules as an engine follows them.
func (s *Source) Rules() (rules.Set, error) {
	set := make(rules.Set, 0, len(s.Tables))
	for _, rule := range s.Tables {
		p, err := shape.ParsePattern(rule.Match)
		if err != nil {
			return nil, err
		}
		one := rules.Table{Match: p, Active: rule.Active == nil || *rule.Active, Image: rules.ImageBoth, Key: rule.Key, SkipUntouched: rule.SkipUntouched,
			Priority: rule.Priority, ByKey: rule.LoadBy == "key", ReloadRewritten: rule.AfterRewrite == "reload", Root: rule.Partitions == "root"}
		if rule.Image != "" {
			one.Image = rules.Image(rule.Image)
		}
		for _, c := range rule.Columns {
			match, err := shape.ParseColumnPattern(c.Match)
			if err != nil {
				return nil, err
			}
			one.Columns = append(one.Columns, rules.Column{Match: match, Treat: rules.Treatment(c.Treat)})
		}
		if rule.Filter != "" {
			if one.Filter, err = shape.ParseCondition(rule.Filter); err != nil {
				return nil, err
			}
		}
		set = append(set, one)
	}
	return set, nil
}

func (r *TableRule) validate(at string, hashKey bool) error {
	if _, err := shape.ParsePattern(r.Match); err != nil {
		return &Invalid{at + ".match", err.Error()}
	}
	for i, c := range r.Columns {
		here := fmt.Sprintf("%s.columns[%d]", at, i)
		if _, err := shape.ParseColumnPattern(c.Match); err != nil {
			return &Invalid{here + ".match", err.Error()}
		}
		switch c.Treat {
		case "keep", "drop", "mask":
		case "hash":
			if !hashKey {
				return &Invalid{here + ".treat", "hashing needs a key: give the source a hash_key, such as ${env:RILLMARK_SECRET_HASH_KEY}"}
			}
		default:
			return &Invalid{here + ".treat", fmt.Sprintf("%q is none of keep, drop, mask and hash", c.Treat)}
		}
	}
	if r.Filter != "" {
		if _, err := shape.ParseCondition(r.Filter); err != nil {
			return &Invalid{at + ".filter", err.Error()}
		}
	}
	if r.KeepFor != "" {
		if _, err := durationOf(at+".keep_for", r.KeepFor, time.Second, 100*365*24*time.Hour); err != nil {
			return err
		}
	}
	seen := make(map[string]bool)
	for i, name := range r.Key {
		if name == "" || seen[name] {
			return &Invalid{fmt.Sprintf("%s.key[%d]", at, i), "a key names each of its columns once"}
		}
		seen[name] = true
	}
	return nil
}
