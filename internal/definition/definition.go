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
