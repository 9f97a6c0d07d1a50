package definition

import (
	"encoding/json"
	"slices"

	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/settings"
)

// Destination is the connection to where events go. In JSON its settings stand in a
// section that has the kind's name, and no other section is there.
type Destination struct {
	Kind string `json:"kind" title:"Kind" doc:"What it is; the section of this name says how it is reached"`
	// Settings are its kind's; nil where the section is missing, or the kind unknown.
	Settings    destination.Settings `json:"-"`
	Description string               `json:"description,omitempty" title:"Description" advanced:"yes" maxLength:"500"`

	sections []string // those that were read
}

// UnmarshalJSON implements [json.Unmarshaler].
func (d *Destination) UnmarshalJSON(raw []byte) error {
	type plain Destination
	if err := json.Unmarshal(raw, (*plain)(d)); err != nil {
		return err
	}
	d.Settings = nil
	sections, err := sectionsOf(raw)
	for name, text := range sections {
		if err == nil && name == d.Kind {
			d.Settings = kinds.Named(name).Settings()
			err = json.Unmarshal(text, d.Settings)
		}
		d.sections = append(d.sections, name)
	}
	slices.Sort(d.sections)
	return err
}

// MarshalJSON implements [json.Marshaler].
func (d Destination) MarshalJSON() ([]byte, error) {
	type plain Destination
	return withSection(plain(d), d.Kind, d.Settings)
}

// sectionsOf are the parts of a definition that have a kind's name.
func sectionsOf(raw []byte) (map[string]json.RawMessage, error) {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(raw, &all); err != nil {
		return nil, err
	}
	sections := make(map[string]json.RawMessage)
	for name, text := range all {
		if kinds.Named(name) != nil && string(text) != "null" {
			sections[name] = text
		}
	}
	return sections, nil
}

// withSection is a definition in JSON with its kind's section at the end.
func withSection(plain any, name string, section any) ([]byte, error) {
	raw, err := json.Marshal(plain)
	if err != nil || section == nil {
		return raw, err
	}
	label, err := json.Marshal(name)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(section)
	if err != nil {
		return nil, err
	}
	raw = append(raw[:len(raw)-1], ',')
	return append(append(append(append(raw, label...), ':'), text...), '}'), nil
}

// EachSecret puts what change makes of each secret in its place. Names tell the secrets
// of one definition apart; an empty secret is none.
func (d *Destination) EachSecret(change func(name, secret string) string) {
	if d.Settings != nil {
		settings.EachSecret(d.Settings, d.Kind, change)
	}
}

// Reaches is what decides to whom the secrets are shown: where the destination is, as
// whom, and how that is checked.
func (d *Destination) Reaches() string {
	var parts []any
	if d.Settings != nil {
		parts = d.Settings.Reaches()
	}
	return reaches(d.Kind, parts)
}

// Clone is a definition whose section nobody else holds.
func (d Destination) Clone() Destination {
	if d.Settings != nil {
		d.Settings = settings.Clone(d.Settings)
	}
	return d
}

// Where is the destination in a few words, for lists.
func (d *Destination) Where() string {
	if d.Settings == nil {
		return ""
	}
	return d.Settings.Where()
}

// Validate checks what can be checked without reaching the destination, and
// fills in what is left to us.
func (d *Destination) Validate() error {
	if kinds.Named(d.Kind) == nil {
		return settings.Wrong("kind", "unknown kind %q: there are %s", d.Kind, kinds.Names())
	}
	for _, name := range d.sections {
		if name != d.Kind {
			return settings.Wrong(name, "a destination of kind %s has no section %s", d.Kind, name)
		}
	}
	if d.Settings == nil {
		return settings.Wrong(d.Kind, "a destination of kind %s needs the section %s", d.Kind, d.Kind)
	}
	return d.Settings.Validate()
}

// CheckHere looks at what depends on the machine which the service runs on: the files
// that the definition names, and the kind's own places.
func (d *Destination) CheckHere(env destination.Environment) error {
	if err := settings.CheckFiles(d.Settings, d.Kind); err != nil {
		return err
	}
	if here, is := d.Settings.(destination.HereChecker); is {
		return here.CheckHere(env)
	}
	return nil
}
