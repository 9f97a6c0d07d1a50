package definition

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/engine"
	"rillmark/internal/engine/engines"
	"rillmark/internal/expression"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Source is a database whose log is captured.
type Source struct {
	Engine     string      `json:"engine" default:"postgresql" required:"false" title:"Engine" doc:"The kind of database"`
	Connection Connection  `json:"connection" title:"Connection"`
	Tables     []TableRule `json:"tables" minItems:"1" title:"Tables" doc:"The first rule that matches a table decides; a table that none matches is left out"`
	Mode       string      `json:"mode,omitempty" enum:"load-and-follow,load-only,follow-only" default:"load-and-follow" title:"What to do" doc:"Existing rows are loaded, then changes are followed; load-only ends, and lets the source's log go, when all tables are loaded; follow-only leaves the rows that exist already out"`
	// FromPosition is in the engine's own form.
	FromPosition string `json:"from_position,omitempty" title:"Follow from position" doc:"With follow-only: the place in the log where somebody else's load ended; what was committed before it is passed over. PostgreSQL: 0/19A2F48, and a slot that was made before; MariaDB: the GTID of each domain, 0-1-42" maxLength:"200" advanced:"yes" when:"mode=follow-only"`
	HashKey      string `json:"hash_key,omitempty" title:"Key for hashed columns" secret:"yes" doc:"The key for columns that are hashed: a reference, ${env:NAME} or ${file:/path}, or the key itself, which is sealed and never shown again" example:"${env:RILLMARK_SECRET_HASH_KEY}" advanced:"yes"`
	LoadSessions int    `json:"load_sessions,omitempty" minimum:"1" maximum:"16" default:"2" title:"Load sessions" doc:"How many sessions read at once while tables are loaded" unit:"sessions" advanced:"yes"`
	LargestValue int64  `json:"largest_value,omitempty" minimum:"1048576" maximum:"536870912" default:"16777216" title:"Largest value" doc:"A value of more bytes is left out of its event, which then names it under too_large with its size" unit:"bytes" advanced:"yes"`
	// LeaveOutOrigins are patterns, as [rules.Origins].
	LeaveOutOrigins []string `json:"leave_out_origins,omitempty" title:"Leave out by origin" doc:"Transactions of these origins are left out, so that what an outlet has written here does not come back. PostgreSQL: names of replication origins; MariaDB: server ids; * stands for any characters, ? for one" example:"rillmark_*" advanced:"yes"`
	Description     string   `json:"description,omitempty" maxLength:"500" title:"Description" advanced:"yes"`
}

// Connection is the engine's own part of a source's definition. It is nil where the
// engine is unknown.
type Connection struct{ engine.Connection }

// UnmarshalJSON implements [json.Unmarshaler].
func (s *Source) UnmarshalJSON(raw []byte) error {
	type plain Source
	var section struct {
		Connection json.RawMessage `json:"connection"`
	}
	if err := json.Unmarshal(raw, (*plain)(s)); err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &section); err != nil {
		return err
	}
	if s.Engine == "" {
		s.Engine = string(change.PostgreSQL)
	}
	s.Connection = Connection{}
	kind := engines.Named(s.Engine)
	if kind == nil {
		return nil
	}
	s.Connection = Connection{kind.Connection()}
	if section.Connection == nil {
		return nil
	}
	return json.Unmarshal(section.Connection, s.Connection.Connection)
}

// UnmarshalJSON implements [json.Unmarshaler]: a connection is read by the source that
// it belongs to, which knows its engine.
func (*Connection) UnmarshalJSON([]byte) error { return nil }

// MarshalJSON implements [json.Marshaler].
func (c Connection) MarshalJSON() ([]byte, error) { return json.Marshal(c.Connection) }

// EachSecret puts what change makes of each secret in its place. Names tell the secrets
// apart; an empty secret is none.
func (s *Source) EachSecret(change func(name, secret string) string) {
	settings.EachSecret(s, "", change)
}

// Reaches is what decides to whom the secrets of the connection are shown.
func (s *Source) Reaches() string {
	if s.Connection.Connection == nil {
		return s.Engine
	}
	return reaches(s.Engine, s.Connection.Reaches())
}

// reaches is a text that differs where one of the parts does.
func reaches(kind string, parts []any) string {
	encoded, err := json.Marshal(append(parts, kind))
	if err != nil {
		panic(err) // strings and numbers always marshal
	}
	return string(encoded)
}

// Database is the name of the database, as events carry it.
func (s *Source) Database() string {
	if s.Connection.Connection == nil {
		return ""
	}
	return s.Connection.Catalog()
}

// Clone is a definition whose connection nobody else holds.
func (s Source) Clone() Source {
	if s.Connection.Connection != nil {
		s.Connection.Connection = settings.Clone(s.Connection.Connection)
	}
	return s
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
	AfterRewrite  string       `json:"after_rewrite,omitempty" enum:"small,stale,reload" default:"small" doc:"What follows when rows have changed without an event: small reloads the table at once if a schema change did that and it has no more rows than reload_up_to, reload does so in any case; else it is shown as stale until somebody reloads it"`
	ReloadUpTo    *int64       `json:"reload_up_to,omitempty" minimum:"0" doc:"How many rows a table may have, as the source estimates them, that after_rewrite: small reloads; 100000 if it is not said, 0 is none"`
	KeepFor       string       `json:"keep_for,omitempty" doc:"How long the table's events are kept, such as 72h, where the journal keeps others longer; what an outlet has yet to deliver stays until it has"`
	Partitions    string       `json:"partitions,omitempty" enum:"each,root" default:"each" doc:"Whether rows of a partitioned table carry the partition's name or the root's"`
	AllowMissing  bool         `json:"allow_missing,omitempty" doc:"The rule need not match a table yet; without it one that keeps something back is refused where it matches none, since a mistyped name would let it out"`
	Description   string       `json:"description,omitempty" maxLength:"500"`
}

// KeepsBack reports whether a rule keeps tables, rows or values back.
func (r *TableRule) KeepsBack() bool {
	return r.Active != nil && !*r.Active || r.Filter != "" || slices.ContainsFunc(r.Columns, func(c ColumnRule) bool { return c.Treat != "keep" })
}

// ColumnRule is a pattern of columns and what becomes of their values.
type ColumnRule struct {
	Match string `json:"match" minLength:"1" doc:"The column's name; * stands for any characters, ? for one"`
	Treat string `json:"treat" enum:"keep,drop,mask,hash" doc:"drop: the column is not captured; mask: each value becomes ***; hash: each value becomes an HMAC-SHA256 of it under hash_key, so that equal ones stay equal"`
}

// Complete is Validate for a definition that somebody has just written: what its engine
// needs to reach the source has to be there.
func (s *Source) Complete() error {
	if err := s.Validate(); err != nil {
		return err
	}
	return settings.Missing(s.Connection.Connection, "connection")
}

// Loads reports whether existing rows are read first.
func (s *Source) Loads() bool { return s.Mode != "follow-only" }

// Validate checks what can be checked without reaching the source, and fills in
// what is left to us.
func (s *Source) Validate() error {
	if s.Engine == "" {
		s.Engine = string(change.PostgreSQL)
	}
	kind := engines.Named(s.Engine)
	if kind == nil {
		return settings.Wrong("engine", "unknown engine %q: this version knows %s", s.Engine, engines.Names())
	}
	if s.Connection.Connection == nil {
		s.Connection.Connection = kind.Connection()
	}
	if err := s.Connection.Validate(); err != nil {
		return err
	}
	if s.Mode == "" {
		s.Mode = "load-and-follow"
	}
	if s.FromPosition != "" {
		if s.Mode != "follow-only" {
			return settings.Wrong("from_position", "a place to follow from goes with mode: follow-only")
		}
		if err := kind.CheckPosition(s.FromPosition, s.Connection.Connection); err != nil {
			return err
		}
	}
	if len(s.Tables) == 0 {
		return settings.Wrong("tables", "at least one rule is needed: for all tables of the schema public, match public.*")
	}
	if _, err := rules.ParseOrigins(s.LeaveOutOrigins); err != nil {
		return settings.Wrong("leave_out_origins", "%s", err)
	}
	for i := range s.Tables {
		if err := s.Tables[i].validate(fmt.Sprintf("tables[%d]", i), s.HashKey != ""); err != nil {
			return err
		}
	}
	return nil
}

// reloadUpTo is how many rows are read again without a question: a matter of seconds.
const reloadUpTo = 100_000

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
		switch {
		case rule.AfterRewrite != "" && rule.AfterRewrite != "small":
		case rule.ReloadUpTo != nil:
			one.ReloadUpTo = *rule.ReloadUpTo
		default:
			one.ReloadUpTo = reloadUpTo
		}
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
			if one.Filter, err = expression.ParseCondition(rule.Filter); err != nil {
				return nil, err
			}
		}
		set = append(set, one)
	}
	return set, nil
}

func (r *TableRule) validate(at string, hashKey bool) error {
	if _, err := shape.ParsePattern(r.Match); err != nil {
		return settings.Wrong(at+".match", "%s", err)
	}
	for i, c := range r.Columns {
		here := fmt.Sprintf("%s.columns[%d]", at, i)
		if _, err := shape.ParseColumnPattern(c.Match); err != nil {
			return settings.Wrong(here+".match", "%s", err)
		}
		switch c.Treat {
		case "keep", "drop", "mask":
		case "hash":
			if !hashKey {
				return settings.Wrong(here+".treat", "hashing needs a key: give the source a hash_key, such as ${env:RILLMARK_SECRET_HASH_KEY}")
			}
		default:
			return settings.Wrong(here+".treat", "%q is none of keep, drop, mask and hash", c.Treat)
		}
	}
	if r.Filter != "" {
		if _, err := expression.ParseCondition(r.Filter); err != nil {
			return settings.Wrong(at+".filter", "%s", err)
		}
	}
	if r.ReloadUpTo != nil && r.AfterRewrite != "" && r.AfterRewrite != "small" {
		return settings.Wrong(at+".reload_up_to", "it is for after_rewrite: small; with %s nothing looks at it", r.AfterRewrite)
	}
	if r.KeepFor != "" {
		if _, err := settings.Duration(at+".keep_for", r.KeepFor, time.Second, 100*365*24*time.Hour); err != nil {
			return err
		}
	}
	seen := make(map[string]bool)
	for i, name := range r.Key {
		if name == "" || seen[name] {
			return settings.Wrong(fmt.Sprintf("%s.key[%d]", at, i), "a key names each of its columns once")
		}
		seen[name] = true
	}
	return nil
}
