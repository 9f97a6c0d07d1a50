package change

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Engine names a kind of database.
type Engine string

// The engines, each of the package of its name.
const (
	PostgreSQL Engine = "postgresql"
	MariaDB    Engine = "mariadb"
)

// AppendPosition writes a place in the engine's log as that engine's own tools
// write it; of an engine that this version does not know, as a number.
func (e Engine) AppendPosition(dst []byte, place uint64) []byte {
	switch e {
	case PostgreSQL:
		return appendLSN(dst, place)
	case MariaDB:
		return appendFileOffset(dst, place)
	}
	return strconv.AppendUint(dst, place, 10)
}

// appendFileOffset writes the number of a log's file and an offset in it, the latter being
// the lower 40 bits, as in 000012:34567.
func appendFileOffset(dst []byte, place uint64) []byte {
	const offsetBits = 40
	file := strconv.FormatUint(place>>offsetBits, 10)
	dst = append(append(dst, "000000"[min(len(file), 6):]...), file...)
	return strconv.AppendUint(append(dst, ':'), place&(1<<offsetBits-1), 10)
}

// appendLSN writes the two hexadecimal halves of a log sequence number.
func appendLSN(dst []byte, place uint64) []byte {
	const digits = "0123456789ABCDEF"
	hex := func(v uint32) {
		var buf [8]byte
		i := len(buf)
		for {
			i--
			buf[i] = digits[v&15]
			if v >>= 4; v == 0 {
				break
			}
		}
		dst = append(dst, buf[i:]...)
	}
	hex(uint32(place >> 32))
	dst = append(dst, '/')
	hex(uint32(place))
	return dst
}

// Column is one column of a schema version.
type Column struct {
	Name string `json:"name"`
	// From is the column's name in the source, where a flat format needed another
	// one; empty otherwise. See [UniqueNames].
	From string `json:"from,omitempty"`
	// Type is the engine's name of the type with its modifiers, as the
	// engine itself prints it: "numeric(8,2)".
	Type string `json:"type"`
	// Rule says how values are written.
	Rule Rule `json:"rule"`
	// Treatment is what a source's rule has made of the values, which Rule follows
	// then; empty where they are the database's own.
	Treatment Treatment `json:"treatment,omitempty"`
	// Element is the rule of an array's elements; empty for anything else.
	Element Rule `json:"element,omitempty"`
	// Bits is the width of an integer or a float: 16, 32 or 64; 0 for
	// anything else.
	Bits int `json:"bits,omitempty"`
	// Labels are an enum's, in the engine's order.
	Labels []string `json:"labels,omitempty"`
	// Nullable is false where the engine forbids nulls.
	Nullable bool `json:"nullable"`
	// Key is the column's place in the key, from 1; 0 for a column outside.
	Key int `json:"key,omitempty"`
	// Collation says which texts in the key are one key, by the engine's name; empty where
	// each text is a key of its own, as is usual in PostgreSQL, or where it is not known.
	Collation string `json:"collation,omitempty"`
}

// Treatment is what a source's rule makes of a column's values before they are
// journaled.
type Treatment string

// The treatments that a column of a schema version can have.
const (
	Masked Treatment = "masked" // each value is ***
	Hashed Treatment = "hashed" // each value is its HMAC-SHA256
)

// TypeName is the engine's type, with the treatment where there is one.
func (c *Column) TypeName() string {
	if c.Treatment == "" {
		return c.Type
	}
	return c.Type + " (" + string(c.Treatment) + ")"
}

// Treated is the column once its values are masked or hashed.
func (c Column) Treated(to Treatment) Column {
	c.Treatment, c.Rule, c.Element, c.Bits, c.Labels, c.Collation = to, RuleText, "", 0, nil, ""
	return c
}

// Schema is one version of a table's definition. It is not changed once
// [NewSchema] has made it, and may be shared between goroutines.
type Schema struct {
	Engine  Engine   `json:"engine"`
	Table   string   `json:"table"`
	Columns []Column `json:"columns"`
	// Guessed marks a version for which the catalogue no longer agreed with
	// the log: nullability, key and labels may be those of a later moment.
	Guessed bool `json:"guessed,omitempty"`
	// LeftOut names the columns that the source's rules leave out on purpose.
	LeftOut []string `json:"left_out,omitempty"`

	fingerprint Fingerprint
	key         []int
	forms       []Form
	names       [][]byte // `"name":`, escaped once
	documents   []int    // columns of JSON
}

// Fingerprint names a schema version: the first eight bytes of a SHA-256 over
// its whole definition.
type Fingerprint uint64

// String is the fingerprint in sixteen hexadecimal digits.
func (f Fingerprint) String() string { return fmt.Sprintf("%016x", uint64(f)) }

// ParseFingerprint reads what String wrote.
func ParseFingerprint(s string) (Fingerprint, error) {
	n, err := strconv.ParseUint(s, 16, 64)
	if err != nil || len(s) != 16 {
		return 0, fmt.Errorf("%q is no fingerprint of a schema version: it has sixteen hexadecimal digits", s)
	}
	return Fingerprint(n), nil
}

// NewSchema takes over columns and works out the fingerprint. Only those in the key keep
// their collation.
func NewSchema(engine Engine, table string, columns []Column, leftOut []string, guessed bool) *Schema {
	s := &Schema{Engine: engine, Table: table, Columns: columns, LeftOut: leftOut, Guessed: guessed}
	for i := range s.Columns {
		if s.Columns[i].Key == 0 {
			s.Columns[i].Collation = ""
		}
	}
	s.prepare()
	return s
}

// ParseSchema reads a definition that [Schema.Definition] wrote.
func ParseSchema(definition []byte) (*Schema, error) {
	s := new(Schema)
	if err := json.Unmarshal(definition, s); err != nil {
		return nil, fmt.Errorf("reading a schema version: %w", err)
	}
	for i := range s.Columns {
		// Until version 0.2 the treatment was a part of the type's name.
		c := &s.Columns[i]
		for _, treatment := range []Treatment{Masked, Hashed} {
			if bare, is := strings.CutSuffix(c.Type, " ("+string(treatment)+")"); is && c.Treatment == "" {
				c.Type, c.Treatment = bare, treatment
			}
		}
	}
	s.prepare()
	return s, nil
}

// hashed is what the fingerprint is made of. It is the definition with the treatment
// in the type's name, as versions were first kept: their fingerprints stay.
func (s *Schema) hashed() []byte {
	plain := *s
	plain.Columns = slices.Clone(s.Columns)
	for i := range plain.Columns {
		c := &plain.Columns[i]
		c.Type, c.Treatment = c.TypeName(), ""
	}
	return plain.Definition()
}

func (s *Schema) prepare() {
	sum := sha256.Sum256(s.hashed())
	s.fingerprint = Fingerprint(binary.BigEndian.Uint64(sum[:8]))
	s.forms = make([]Form, len(s.Columns))
	s.names = make([][]byte, len(s.Columns))
	places := 0
	for i, c := range s.Columns {
		s.forms[i] = c.Rule.Form()
		if c.Rule == RuleJSON {
			s.documents = append(s.documents, i)
		}
		name, _ := json.Marshal(c.Name)
		s.names[i] = append(name, ':')
		places = max(places, c.Key)
	}
	for place := 1; place <= places; place++ {
		for i, c := range s.Columns {
			if c.Key == place {
				s.key = append(s.key, i)
			}
		}
	}
}

// Definition is the version as JSON, the form that is kept.
func (s *Schema) Definition() []byte {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // strings, numbers and booleans always marshal
	}
	return b
}

// NameInSource is the column's name in the source.
func (c *Column) NameInSource() string {
	if c.From != "" {
		return c.From
	}
	return c.Name
}

// Column is the column of a name; nil where there is none.
func (s *Schema) Column(name string) *Column {
	for i := range s.Columns {
		if s.Columns[i].Name == name {
			return &s.Columns[i]
		}
	}
	return nil
}

// Fingerprint names the version.
func (s *Schema) Fingerprint() Fingerprint { return s.fingerprint }

// Key lists the indexes of the key's columns in key order; empty without a key.
func (s *Schema) Key() []int { return s.key }

// JSONNulls appends the indexes of the columns that hold the JSON document null,
// which is not SQL's null.
func (s *Schema) JSONNulls(dst []int, image []Value) []int {
	for _, i := range s.documents {
		if i < len(image) && image[i].Presence == Present && string(image[i].Text) == "null" {
			dst = append(dst, i)
		}
	}
	return dst
}

// Form is how column i becomes JSON.
func (s *Schema) Form(i int) Form { return s.forms[i] }

// QuotedName is column i's name as a JSON member name with its colon. The
// caller must not change it.
func (s *Schema) QuotedName(i int) []byte { return s.names[i] }
