package destination

import (
	"os"

	"rillmark/internal/encode"
	"rillmark/internal/netguard"
)

// Kind is a kind of destination: what people define of it, what it takes, and how one
// is made. Each is a package below this one; package kinds lists them.
type Kind struct {
	// Name is the kind's in definitions, where it also names its sections.
	Name string
	// Title is the kind in a list for people, About a sentence on it.
	Title, About string
	// Settings makes an empty section of a destination's definition, a pointer to a
	// struct that package settings describes.
	Settings func() Settings
	// Outlet makes an empty section of an outlet's definition; nil for a kind whose
	// outlets have none.
	Outlet func() OutletSettings
	// Topic is the trade's word for the names that messages go to: topic, subject, stream.
	// Empty for a kind without them.
	Topic string
	// CheckTopic refuses a name that cannot be one; nil without topics.
	CheckTopic func(name string) error
	// Formats are those that it takes, as they are offered.
	Formats []encode.Format
	// SchemaInside says that Avro files hold their schema themselves.
	SchemaInside bool
	// Markers says that a message can be a key without a value.
	Markers bool
	// AttributePrefix stands before the names of CloudEvents' attributes in headers.
	AttributePrefix string
	// OutsideOnly says that by default no private network is reached: whoever may define
	// such a destination chooses an address freely, and what is sent there.
	OutsideOnly bool
	// Make makes a destination; it reaches nothing yet.
	Make func(env Environment, d Definition) (Destination, error)
}

// Settings is a kind's section of a destination's definition.
type Settings interface {
	// Validate checks what can be checked without reaching the destination, and fills in
	// what is left to us. The places in its errors begin with the kind's name.
	Validate() error
	// Where is the destination in a few words, for lists.
	Where() string
	// Reaches is what decides to whom the secrets are shown: where the destination is, as
	// whom, and how that is checked.
	Reaches() []any
}

// HereChecker are settings that depend on the machine which the service runs on.
type HereChecker interface {
	// CheckHere is asked when a definition is written.
	CheckHere(env Environment) error
}

// OutletSettings is a kind's section of an outlet's definition.
type OutletSettings interface {
	// Validate is as [Settings]' own, for an outlet of a format that delivers to a
	// destination with its settings.
	Validate(format encode.Format, to Settings) error
}

// Placer are an outlet's settings that say where events go by a template of their own.
type Placer interface{ PlaceTemplate() string }

// RowsFitted are an outlet's settings that can ask for rows that are fitted to what the destination
// has: see [RowFitter].
type RowsFitted interface{ FitsRows() bool }

// TablePlacer are an outlet's settings that say into which table the rows of one go.
type TablePlacer interface {
	// PlaceTable is the table's name at the destination.
	PlaceTable(source string) (target string, err error)
}

// Environment is what the service gives to the destinations that it makes.
type Environment struct {
	// Dial reaches only what the service's policy lets this kind reach.
	Dial netguard.Dial
	// Allowed says why an address may not be reached; nil for one that may.
	Allowed func(address string) error
	// FilesRoot is the directory below which files are written; empty: none are.
	FilesRoot string
	// FileMode is that of files.
	FileMode os.FileMode
}

// Definition is what one destination is made of.
type Definition struct {
	// Settings are valid, and their secrets are opened.
	Settings Settings
	// Outlet is the outlet's own section, valid; nil where the kind has none.
	Outlet OutletSettings
	Format encode.Format
	// Topics are those that are known beforehand, for the check.
	Topics []string
}
