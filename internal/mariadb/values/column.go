package values

import (
	"fmt"
	"slices"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/charset"
)

// Kind is what a column's values are.
type Kind uint8

// The kinds.
const (
	Integer Kind = iota
	Year
	Bits
	Float
	Double
	Decimal
	Date
	Time
	DateTime
	Timestamp
	Text
	JSON
	Binary
	Enum
	Set
	UUID
	Inet4
	Inet6
	Geometry
)

// Column is a column of a table: what it is in events, and how its values are read.
type Column struct {
	change.Column
	Kind Kind
	// Log is how the log has it; its Name may be empty where only the catalogue is known.
	Log binlog.Column
	// Decode turns text into UTF-8; nil for text that is UTF-8 already.
	Decode charset.Decoder
	// Generated is true of a column whose values follow from others.
	Generated bool
	// Invisible columns are in the log, and in no SELECT *.
	Invisible bool
	// Known are the labels of an enum or a set in UTF-8, where the catalogue gave them.
	Known []string
	// Bytes is the length of a binary value that the log strips of zeros at its end.
	Bytes int
	// set are the labels of an enum or a set, in UTF-8; noText has those that are no text in
	// their character set, by their place, and is nil where all are.
	set    []string
	noText map[int][]byte
	// asked has a SELECT convert the labels: the catalogue writes "?" where one is no text,
	// and so does the conversion.
	asked bool
	// old is a temporal type in its former form.
	old bool
	// size is how many bytes an integer has in the log, prefix a text's length; aliased is
	// set where the log has the value as events have it.
	size, prefix int
	aliased      bool
}

// Undecodable is what a text could not be decoded from, and what stands in its place: in a
// value U+FFFD for what is no text, in an enum's label what the catalogue has.
type Undecodable struct {
	Bytes   []byte
	Instead string
}

// Error names the bytes.
func (u *Undecodable) Error() string {
	return fmt.Sprintf("bytes that are no text in its character set: % x", u.Bytes[:min(len(u.Bytes), 32)])
}

// integers are the types of whole numbers, with their size in bytes.
var integers = map[byte]int{binlog.ColTiny: 1, binlog.ColShort: 2, binlog.ColInt24: 3, binlog.ColLong: 4, binlog.ColLongLong: 8}

var integerNames = map[int]string{1: "tinyint", 2: "smallint", 3: "mediumint", 4: "int", 8: "bigint"}

// Charsets are character sets by the numbers of their collations.
type Charsets map[uint16]Charset

// Charset is a character set, and how its texts are compared.
type Charset struct {
	Name, Collation string
	// Longest is how many bytes a character can have; 0 where that is not known.
	Longest int
}

// characters is how many characters a column of so many bytes holds.
func (s Charsets) characters(collation, bytes uint16) int {
	return int(bytes) / max(s[collation].Longest, 1)
}

const collationBinary = 63

// FromLog is a column of which only the log is known, and the first word of the type that the
// statement gave it which made the table: the log does not say JSON, UUID and INET. It is empty
// where nobody has seen that.
func FromLog(log binlog.Column, sets Charsets, stated string) (*Column, error) {
	c := &Column{Log: log}
	c.Name, c.Nullable, c.Key = log.Name, log.Nullable, log.Key
	if size := integers[log.Type]; size > 0 {
		c.Type = integerNames[size]
	}
	unsigned := ""
	if log.Unsigned {
		unsigned = " unsigned"
	}
	switch log.Type {
	case binlog.ColTiny, binlog.ColShort, binlog.ColInt24, binlog.ColLong, binlog.ColLongLong:
		c.Kind, c.Type = Integer, c.Type+unsigned
	case binlog.ColFloat:
		c.Kind, c.Type = Float, "float"+unsigned
	case binlog.ColDouble:
		c.Kind, c.Type = Double, "double"+unsigned
	case binlog.ColNewDecimal:
		c.Kind, c.Type = Decimal, fmt.Sprintf("decimal(%d,%d)%s", log.Meta>>8, log.Meta&0xFF, unsigned)
	case binlog.ColYear:
		c.Kind, c.Type = Year, "year(4)"
	case binlog.ColBit:
		c.Kind, c.Type = Bits, fmt.Sprintf("bit(%d)", log.Meta>>8*8+log.Meta&0xFF)
	case binlog.ColDate, binlog.ColNewDate:
		c.Kind, c.Type = Date, "date"
	case binlog.ColTime, binlog.ColTime2:
		c.Kind, c.Type = Time, "time"
	case binlog.ColDateTime, binlog.ColDateTime2:
		c.Kind, c.Type = DateTime, "datetime"
	case binlog.ColTimestamp, binlog.ColTimestamp2:
		c.Kind, c.Type = Timestamp, "timestamp"
	case binlog.ColEnum:
		c.Kind, c.Type = Enum, "enum"
	case binlog.ColSet:
		c.Kind, c.Type = Set, "set"
	case binlog.ColGeometry:
		c.Kind, c.Type = Geometry, geometryName(log.Geometry)
	case binlog.ColVarchar, binlog.ColVarString, binlog.ColVarcharCompr:
		bytes := log.Meta
		if log.Type == binlog.ColVarcharCompr {
			bytes--
		}
		c.Kind, c.Type = Text, fmt.Sprintf("varchar(%d)", sets.characters(log.Collation, bytes))
		if log.Collation == collationBinary {
			c.Kind, c.Type = Binary, fmt.Sprintf("varbinary(%d)", bytes)
		}
	case binlog.ColString:
		c.Kind, c.Type = Text, fmt.Sprintf("char(%d)", sets.characters(log.Collation, log.Meta))
		kind, same := unsaid[stated]
		switch {
		case log.Collation == collationBinary && same && log.Meta == unsaidBytes[kind]:
			c.Kind, c.Type = kind, stated
		case log.Collation == collationBinary:
			c.Kind, c.Type, c.Bytes = Binary, fmt.Sprintf("binary(%d)", log.Meta), int(log.Meta)
		}
	case binlog.ColTinyBlob, binlog.ColBlob, binlog.ColMediumBlob, binlog.ColLongBlob, binlog.ColBlobCompressed:
		c.Kind, c.Type = Text, [5]string{"text", "tinytext", "text", "mediumtext", "longtext"}[min(log.Meta&7, 4)]
		if log.Collation == collationBinary {
			c.Kind, c.Type = Binary, strings.Replace(c.Type, "text", "blob", 1)
		} else if stated == "json" {
			c.Kind, c.Type = JSON, stated
		}
	default:
		return nil, fmt.Errorf("column %s is of a type (%d) that is not known", log.Name, log.Type)
	}
	if c.Kind >= Date && c.Kind <= Timestamp && log.Meta > 0 {
		c.Type = fmt.Sprintf("%s(%d)", c.Type, log.Meta)
	}
	return c, c.Prepare(sets)
}

// unsaid are the types of which the log says no more than that they are bytes, and so many.
var (
	unsaid      = map[string]Kind{"uuid": UUID, "inet4": Inet4, "inet6": Inet6}
	unsaidBytes = map[Kind]uint16{UUID: 16, Inet4: 4, Inet6: 16}
)

func geometryName(subtype uint8) string {
	names := [...]string{"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection"}
	if int(subtype) < len(names) {
		return names[subtype]
	}
	return names[0]
}

// Prepare fills in what follows from the kind: the rule, the labels, the decoder.
func (c *Column) Prepare(sets Charsets) error {
	c.old = c.Log.Type == binlog.ColTime || c.Log.Type == binlog.ColDateTime || c.Log.Type == binlog.ColTimestamp
	c.size, c.prefix, c.aliased = integers[c.Log.Type], c.lengthBytes(), false
	defer func() {
		compressed := c.Log.Type == binlog.ColBlobCompressed || c.Log.Type == binlog.ColVarcharCompr
		c.aliased = !compressed && (c.Kind == Text && c.Decode == nil || c.Kind == Binary && c.Bytes == 0)
	}()
	c.Rule, c.Bits, c.Labels = ruleOf[c.Kind], 0, nil
	switch c.Kind {
	case Integer:
		c.integer()
	case Year:
		c.Bits = 16
	case Float:
		c.Bits = 32
	case Double:
		c.Bits = 64
	default:
	}
	if c.Kind != Text && c.Kind != JSON && c.Kind != Enum && c.Kind != Set {
		return nil
	}
	name := sets[c.Log.Collation].Name
	if name == "" {
		return fmt.Errorf("column %s has collation %d, which the server does not list", c.Name, c.Log.Collation)
	}
	if name == "binary" {
		name = "utf8mb4" // labels, or JSON, of a column in binary
	}
	if c.Collation = ""; c.Kind == Text {
		c.Collation = sets[c.Log.Collation].Collation
	}
	var err error
	if c.Decode, err = charset.For(name); err != nil {
		return fmt.Errorf("column %s: %w", c.Name, err)
	}
	labels := slices.Clone(c.Known)
	c.noText = nil
	for i, l := range c.Log.Labels {
		label, ok := c.decode(nil, l)
		if c.Known == nil {
			labels = append(labels, string(label))
		}
		if !ok {
			if c.noText == nil {
				c.noText = make(map[int][]byte)
			}
			c.noText[i] = l
		}
	}
	c.set, c.asked = labels, slices.ContainsFunc(c.Known, func(l string) bool { return strings.Contains(l, "?") })
	switch {
	case c.Kind == Enum:
		c.Labels = once(labels)
	case c.Kind == Set && c.Type == "set": // of the log alone
		quoted := make([]string, len(labels))
		for i, label := range labels {
			quoted[i] = "'" + strings.ReplaceAll(label, "'", "''") + "'"
		}
		c.Type = "set(" + strings.Join(quoted, ",") + ")"
	}
	return nil
}

// once are the labels without repeats: two that are no text can read the same.
func once(labels []string) []string {
	seen := make(map[string]bool, len(labels))
	return slices.DeleteFunc(slices.Clone(labels), func(l string) bool {
		was := seen[l]
		seen[l] = true
		return was
	})
}

var ruleOf = map[Kind]change.Rule{
	Integer: change.RuleInteger, Year: change.RuleInteger, Bits: change.RuleUnsigned, Float: change.RuleFloat, Double: change.RuleFloat, Decimal: change.RuleDecimal,
	Date: change.RuleDate, Time: change.RuleTime, DateTime: change.RuleTimestamp, Timestamp: change.RuleTimestampTZ, Text: change.RuleText, JSON: change.RuleJSON,
	Binary: change.RuleBinary, Enum: change.RuleEnum, Set: change.RuleText, UUID: change.RuleUUID, Inet4: change.RuleText, Inet6: change.RuleText, Geometry: change.RuleBinary,
}

// integer says how many bits a reader needs for all of a column's numbers.
func (c *Column) integer() {
	size := integers[c.Log.Type]
	switch {
	case size == 8 && c.Log.Unsigned:
		c.Rule, c.Bits = change.RuleUnsigned, 64
	case size == 1 || size == 2 && !c.Log.Unsigned:
		c.Bits = 16
	case size <= 3 || size == 4 && !c.Log.Unsigned:
		c.Bits = 32
	default:
		c.Bits = 64
	}
}

// decode makes UTF-8 of text in the column's character set.
func (c *Column) decode(dst, text []byte) ([]byte, bool) {
	if c.Decode == nil {
		return charset.Check(dst, text)
	}
	return c.Decode(dst, text)
}
