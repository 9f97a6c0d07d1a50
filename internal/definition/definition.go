// Package definition holds what people define: sources, destinations and
// outlets, as they stand in files, go over the API and are kept. It validates
// them without reaching anything.
package definition

import (
	"fmt"
	"regexp"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/shape"
)

// Source is a database whose log is captured.
type Source struct {
	Engine     string      `json:"engine" enum:"postgresql" default:"postgresql" required:"false" doc:"The kind of database"`
	Connection Connection  `json:"connection"`
	Tables     []TableRule `json:"tables" minItems:"1" doc:"The first rule that matches a table decides; a table that none matches is left out"`
	Load       *bool       `json:"load,omitempty" doc:"Read the rows that exist already before following their tables; true unless it is said otherwise"`
	Slot       string      `json:"slot,omitempty" doc:"A replication slot that an administrator has made; without it the source makes one of its own" maxLength:"63" pattern:"^[a-z0-9_]*$" patternDescription:"lower-case letters, digits and underscores"`
	// Publication is an administrator's, like Slot.
	Publication string `json:"publication,omitempty" doc:"A publication that an administrator has made; without it the source makes one of its own" maxLength:"63"`
	Description string `json:"description,omitempty" maxLength:"500"`
}

// Connection says how a database is reached.
type Connection struct {
	Host     string `json:"host" minLength:"1" doc:"Host name, address, or directory of a Unix socket"`
	Port     int    `json:"port,omitempty" default:"5432" minimum:"1" maximum:"65535"`
	Database string `json:"database" minLength:"1"`
	User     string `json:"user" minLength:"1"`
	Password string `json:"password,omitempty" doc:"A reference, ${env:NAME} or ${file:/path}, or the password itself, which is sealed and never shown again"`
	TLS      string `json:"tls,omitempty" enum:"disable,prefer,require,verify-full" default:"prefer" doc:"require: encrypted; verify-full: encrypted, and the server's name and certificate checked"`
}

// TableRule is a pattern of tables and what to capture of them.
type TableRule struct {
	Match       string `json:"match" minLength:"1" doc:"Schema-qualified name; * stands for any characters, ? for one"`
	Active      *bool  `json:"active,omitempty" doc:"false leaves the matching tables out"`
	Description string `json:"description,omitempty" maxLength:"500"`
}

// Destination is the connection to where events go.
type Destination struct {
	Kind        string           `json:"kind" enum:"file" doc:"What it is"`
	File        *FileDestination `json:"file,omitempty"`
	Description string           `json:"description,omitempty" maxLength:"500"`
}

// FileDestination is a directory.
type FileDestination struct {
	Directory string `json:"directory" minLength:"1" doc:"Below the service's files_root; a relative path starts there"`
}

// Outlet is one consumer of a journal.
type Outlet struct {
	Source      string      `json:"source" minLength:"1"`
	Destination string      `json:"destination,omitempty" doc:"Where the events go; without it consumers come and read (pull)"`
	Tables      []string    `json:"tables,omitempty" doc:"Patterns of the tables whose events go out; all without it"`
	Operations  []string    `json:"operations,omitempty" doc:"Operations that go out; all without it" enum:"existing,insert,update,delete,truncate,schema,loaded,void,message"`
	Format      string      `json:"format,omitempty" enum:"cloudevents" default:"cloudevents"`
	From        string      `json:"from,omitempty" doc:"Where a new outlet starts: beginning, now, or an offset" default:"beginning" pattern:"^(beginning|now|[0-9]{1,18})$" patternDescription:"beginning, now, or an offset"`
	File        *FileOutlet `json:"file,omitempty"`
	Description string      `json:"description,omitempty" maxLength:"500"`
}

// FileOutlet is how an outlet writes files.
type FileOutlet struct {
	RotateBytes int64  `json:"rotate_bytes,omitempty" minimum:"1024" doc:"A file that reaches this size is closed and the next one begun; 64 MiB unless it is said otherwise"`
	RotateEvery string `json:"rotate_every,omitempty" doc:"A file that is this old is closed and the next one begun: 90s, 15m, 24h; 1h unless it is said otherwise"`
}

// Invalid is an error with the place of what is wrong.
type Invalid struct {
	Location string // "connection.port", "tables[1].match"
	Message  string
}

// Error is place and message.
func (e *Invalid) Error() string { return e.Location + ": " + e.Message }

var name = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// CheckName refuses a name that could not stand in an id, a path or a slot.
func CheckName(kind, s string) error {
	if !name.MatchString(s) {
		return &Invalid{Location: "name", Message: fmt.Sprintf("%q is no name for %s: a lower-case letter, then up to 39 lower-case letters, digits and hyphens", s, kind)}
	}
	return nil
}

// Loads reports whether existing rows are read first.
func (s *Source) Loads() bool { return s.Load == nil || *s.Load }

// Validate checks what can be checked without reaching the source.
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
	if len(s.Tables) == 0 {
		return &Invalid{"tables", "at least one rule is needed: for all tables of the schema public, match public.*"}
	}
	for i, rule := range s.Tables {
		if _, err := shape.ParsePattern(rule.Match); err != nil {
			return &Invalid{fmt.Sprintf("tables[%d].match", i), err.Error()}
		}
	}
	return nil
}

// Validate checks what can be checked without reaching the destination.
func (d *Destination) Validate() error {
	if d.Kind != "file" {
		return &Invalid{"kind", fmt.Sprintf("unknown kind %q: this version knows file", d.Kind)}
	}
	if d.File == nil {
		return &Invalid{"file", "a destination of kind file needs file.directory"}
	}
	return nil
}

// Validate checks what can be checked without the journal.
func (o *Outlet) Validate() error {
	if o.Format == "" {
		o.Format = "cloudevents"
	}
	if o.Format != "cloudevents" {
		return &Invalid{"format", fmt.Sprintf("unknown format %q: this version knows cloudevents", o.Format)}
	}
	if o.From == "" {
		o.From = "beginning"
	}
	if _, err := o.Filter(); err != nil {
		return err
	}
	if o.File != nil {
		if o.Destination == "" {
			return &Invalid{"file", "how files are written is said of an outlet with a destination of kind file; this one has no destination"}
		}
		if _, _, err := o.File.Limits(); err != nil {
			return err
		}
	}
	return nil
}

// Filter is what the outlet lets through.
func (o *Outlet) Filter() (*shape.Filter, error) {
	f := new(shape.Filter)
	for i, text := range o.Tables {
		p, err := shape.ParsePattern(text)
		if err != nil {
			return nil, &Invalid{fmt.Sprintf("tables[%d]", i), err.Error()}
		}
		f.Tables = append(f.Tables, p)
	}
	for i, text := range o.Operations {
		operation, err := change.ParseOperation(text)
		if err != nil {
			return nil, &Invalid{fmt.Sprintf("operations[%d]", i), err.Error()}
		}
		f.Operations = append(f.Operations, operation)
	}
	return f, nil
}

// Limits are size and age at which a file is closed, with their defaults.
func (f *FileOutlet) Limits() (bytes int64, age time.Duration, err error) {
	bytes, age = 64<<20, time.Hour
	if f == nil {
		return bytes, age, nil
	}
	if f.RotateBytes > 0 {
		bytes = f.RotateBytes
	}
	if f.RotateEvery != "" {
		if age, err = time.ParseDuration(f.RotateEvery); err != nil || age < time.Second {
			return 0, 0, &Invalid{"file.rotate_every", fmt.Sprintf("%q is no duration of at least a second: write 90s, 15m or 24h", f.RotateEvery)}
		}
	}
	return bytes, age, nil
}
