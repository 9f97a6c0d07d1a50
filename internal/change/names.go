package change

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"
	"unicode"
)

// TableName is the one text form of a schema-qualified name, the same in events,
// patterns, files and the API: both parts with a dot between them. A part that is
// empty or holds a dot, a double quote or a control character below U+0020 is
// written as a JSON string, so that two tables never have the same name and
// [SplitTable] gives the parts back: a."b.c" and "a.b".c.
func TableName(schema, table string) string { return NamePart(schema) + "." + NamePart(table) }

// Argument is a name as a shell takes it for one argument, for commands that people paste.
func Argument(name string) string {
	const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-:/@%+"
	if name != "" && strings.Trim(name, plain) == "" {
		return name
	}
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// NamePart is one part of a name that [TableName] makes.
func NamePart(s string) string {
	quote := s == ""
	for i := 0; i < len(s); i++ {
		quote = quote || s[i] == '.' || s[i] == '"' || s[i] < 0x20
	}
	if !quote {
		return s
	}
	const digits = "0123456789abcdef"
	escapes := map[byte]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '"': '"', '\\': '\\'}
	b := []byte{'"'}
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case escapes[c] != 0:
			b = append(b, '\\', escapes[c])
		case c < 0x20:
			b = append(b, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
		default:
			b = append(b, c)
		}
	}
	return string(append(b, '"'))
}

// SplitTable gives back the parts of a name that [TableName] made; ok is false for
// any other text.
func SplitTable(name string) (schema, table string, ok bool) {
	schema, rest, ok := cutPart(name)
	if !ok || !strings.HasPrefix(rest, ".") {
		return "", "", false
	}
	table, rest, ok = cutPart(rest[1:])
	return schema, table, ok && rest == ""
}

// DatabaseOf is the database that an event names: that of its source, or where a source is a whole
// server and has none, the part of the table's name before the table. Empty for an event without one.
func DatabaseOf(source, table string) string {
	if source != "" || table == "" {
		return source
	}
	database, _, _ := SplitTable(table)
	return database
}

// cutPart takes one part off the front of a name.
func cutPart(s string) (part, rest string, ok bool) {
	if !strings.HasPrefix(s, `"`) {
		end := strings.IndexByte(s, '.')
		if end < 0 {
			end = len(s)
		}
		part = s[:end]
		return part, s[end:], part != "" && !strings.ContainsRune(part, '"')
	}
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			err := json.Unmarshal([]byte(s[:i+1]), &part)
			return part, s[i+1:], err == nil
		}
	}
	return "", "", false
}

// Place is a table's schema and name as they are, for templates: without quotes.
// A name that [TableName] did not make has no schema.
func Place(name string) (schema, table string) {
	schema, table, ok := SplitTable(name)
	if !ok {
		return "", name
	}
	return schema, table
}

// UniqueNames makes names of columns that flat formats can hold: without control
// characters, and no two alike but for case, nor like one that is taken already. A
// name that needs no change stays, the first one of two that collide; the others
// get an underscore and six hexadecimal digits of a hash of the whole name, which
// stay the same whatever else comes to the table. clean, where not nil, is what
// the format does to a name.
func UniqueNames(names []string, taken []string, clean func(string) string) []string {
	if clean == nil {
		clean = withoutControls
	}
	used := make(map[string]bool, len(names)+len(taken))
	for _, name := range taken {
		used[strings.ToLower(name)] = true
	}
	unique := make([]string, len(names))
	claim := func(i int, name string) bool {
		folded := strings.ToLower(name)
		if used[folded] {
			return false
		}
		used[folded] = true
		unique[i] = name
		return true
	}
	var others []int
	for i, name := range names {
		if clean(name) != name || !claim(i, name) {
			others = append(others, i)
		}
	}
	for _, i := range others {
		base := clean(names[i])
		if strings.IndexFunc(names[i], unicode.IsControl) < 0 && base != names[i] && claim(i, base) {
			continue
		}
		sum := sha256.Sum256([]byte(names[i]))
		for digits := 6; !claim(i, base+"_"+hex.EncodeToString(sum[:])[:digits]); digits++ {
		}
	}
	return unique
}

func withoutControls(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '_'
		}
		return r
	}, name)
}

// Storable is a text as every database stores it: U+0000, and what is no UTF-8, is replaced.
func Storable(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}
