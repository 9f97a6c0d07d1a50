package mariadb

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
)

var (
	// typeText is a type as a MariaDB server names it, without what it says behind.
	typeText = regexp.MustCompile(`^([a-z]+[0-9]*)((?:\((?:[^')]|'(?:[^']|'')*')*\))?(?: unsigned)?(?: zerofill)?)`)
	numeric  = regexp.MustCompile(`^numeric\((\d+),(-?\d+)\)$`)
	sized    = regexp.MustCompile(`^(?:character varying|character|varchar|char|varbinary|binary)\((\d+)\)$`)
	// numbers are types whose values are written without quotes: they are compared exactly
	// so.
	numbers = regexp.MustCompile(`^(tinyint|smallint|mediumint|int|bigint|decimal|float|double|bit|year)\b`)
	texts   = regexp.MustCompile(`^(char|varchar|tinytext|text|mediumtext|longtext|enum|set)\b`)
)

// exact orders and compares texts by their characters, each for itself.
const exact = "CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"

const (
	longestIndex = 3072 // bytes of an index of InnoDB
	longestTyped = 255  // characters of a varchar that is made as such outside of a key
)

// typeFor is the type for a column of a source's schema version; docs/outlets/mariadb.md has
// the table. hasUUID says that the server has a type for those.
func typeFor(of *change.Schema, c *change.Column, hasUUID bool) string {
	kind := general(c, hasUUID)
	if c.Treatment == "" {
		if of.Engine == change.MariaDB {
			kind = same(c, kind, hasUUID)
		} else {
			kind = ofPostgreSQL(c, kind)
		}
	}
	switch {
	case c.Key > 0:
		kind = inKey(of, kind)
	case c.Treatment == "" && of.Engine == change.MariaDB:
		kind = inRow(of, kind)
	}
	return kind
}

// longestRow is how many bytes the columns of a row can have, but for those of texts and blobs
// (the manual, "InnoDB Limitations"), less what others need.
const longestRow = 60_000

// inRow makes of a long varchar a text, where those of the row are too long together in utf8mb4, in
// which the table is made whatever the source's character sets are.
func inRow(of *change.Schema, kind string) string {
	length := func(kind string) int {
		parts := sized.FindStringSubmatch(kind)
		if parts == nil || !strings.HasPrefix(kind, "varchar") {
			return 0
		}
		n, _ := strconv.Atoi(parts[1]) // it is digits
		return n
	}
	all := 0
	for i := range of.Columns {
		all += 4 * length(of.Columns[i].Type)
	}
	switch n := length(kind); {
	case all <= longestRow || n <= longestTyped:
		return kind
	case 4*n <= 65_535:
		return "text"
	default:
		return "mediumtext"
	}
}

// general is a type that holds the values of a rule.
func general(c *change.Column, hasUUID bool) string {
	if c.Treatment != "" {
		return "longtext"
	}
	switch c.Rule {
	case change.RuleBoolean:
		return "tinyint(1)"
	case change.RuleInteger:
		switch c.Bits {
		case 8, 16:
			return "smallint"
		case 24, 32:
			return "int"
		}
		return "bigint"
	case change.RuleUnsigned:
		return "bigint unsigned"
	case change.RuleFloat:
		return "double"
	case change.RuleUUID:
		if hasUUID {
			return "uuid"
		}
		return "varchar(36)"
	case change.RuleDate:
		return "date"
	case change.RuleTime:
		return "time(6)"
	case change.RuleTimeTZ:
		return "varchar(40)"
	case change.RuleTimestamp, change.RuleTimestampTZ:
		return "datetime(6)"
	case change.RuleDuration:
		return "varchar(100)"
	case change.RuleBinary:
		return "longblob"
	case change.RuleJSON, change.RuleArray:
		return "json"
	case change.RuleEnum:
		return "varchar(63)" // PostgreSQL's labels are no longer
	default:
		return "longtext"
	}
}

// ofPostgreSQL is the type for a column of a PostgreSQL source, where it is narrower than its
// rule's.
func ofPostgreSQL(c *change.Column, general string) string {
	if parts := numeric.FindStringSubmatch(c.Type); parts != nil {
		digits, _ := strconv.Atoi(parts[1]) // they are digits
		scale, _ := strconv.Atoi(parts[2])
		if digits <= 65 && scale >= 0 && scale <= 38 && scale <= digits {
			return fmt.Sprintf("decimal(%d,%d)", digits, scale)
		}
	}
	if parts := sized.FindStringSubmatch(c.Type); parts != nil {
		if n, err := strconv.Atoi(parts[1]); err == nil && n <= longestTyped {
			return fmt.Sprintf("varchar(%d)", n)
		}
	}
	return general
}

// same is the type of a column of a MariaDB source.
func same(c *change.Column, general string, hasUUID bool) string {
	if c.Rule == change.RuleJSON {
		return "json"
	}
	parts := typeText.FindStringSubmatch(c.Type)
	if parts == nil || parts[1] == "uuid" && !hasUUID {
		return general
	}
	switch parts[1] {
	case "varchar", "varbinary", "char", "binary", "set", "bit", "decimal":
		if !strings.Contains(parts[2], "(") {
			return general // an earlier version did not know how long it was
		}
	}
	switch kind := parts[1] + parts[2]; parts[1] {
	case "enum":
		labels := make([]string, len(c.Labels))
		for i, label := range c.Labels {
			labels[i] = literal(label)
		}
		return "enum(" + strings.Join(labels, ",") + ")"
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "bit", "year", "date", "time", "datetime", "timestamp",
		"char", "varchar", "tinytext", "text", "mediumtext", "longtext", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob",
		"uuid", "inet4", "inet6", "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection":
		return kind
	}
	return general
}

// inKey makes of a type that is too long for an index one that is not.
func inKey(of *change.Schema, kind string) string {
	long := 0
	for _, i := range of.Key() {
		if c := &of.Columns[i]; c.Rule == change.RuleText || c.Rule == change.RuleEngineText || c.Rule == change.RuleBinary || c.Rule == change.RuleDecimal || c.Rule == change.RuleJSON || c.Rule == change.RuleArray {
			long++
		}
	}
	room := (longestIndex - 16*(1+len(of.Key())-long)) / max(long, 1)
	length := longestIndex
	if parts := sized.FindStringSubmatch(kind); parts != nil {
		length, _ = strconv.Atoi(parts[1]) // it is digits
	}
	switch {
	case strings.HasPrefix(kind, "enum"):
	case texts.MatchString(kind), kind == "json":
		if 4*length > room || !strings.Contains(kind, "char") {
			return fmt.Sprintf("varchar(%d)", min(length, room/4))
		}
	case strings.Contains(kind, "blob"), strings.Contains(kind, "binary"):
		if length > room || strings.Contains(kind, "blob") {
			return fmt.Sprintf("varbinary(%d)", min(length, room))
		}
	}
	return kind
}

// writingOf makes the literal of a column's values.
func writingOf(c *change.Column, into *sql.Column) sql.Writing {
	bare := numbers.MatchString(into.Kind)
	if c.Treatment != "" {
		return quotedText
	}
	switch c.Rule {
	case change.RuleBoolean:
		if bare {
			return func(dst, canonical []byte) ([]byte, error) {
				if string(canonical) == "true" {
					return append(dst, '1'), nil
				}
				return append(dst, '0'), nil
			}
		}
	case change.RuleBinary:
		if isGeometry(into.Kind) {
			return geometry
		}
		return func(dst, canonical []byte) ([]byte, error) {
			return append(hex.AppendEncode(append(dst, "X'"...), canonical), '\''), nil
		}
	case change.RuleTimestampTZ:
		return func(dst, canonical []byte) ([]byte, error) {
			return quotedText(dst, bytes.TrimSuffix(canonical, []byte("Z")))
		}
	case change.RuleInteger, change.RuleUnsigned, change.RuleDecimal, change.RuleFloat:
		if bare && c.Rule == change.RuleFloat && c.Bits == 32 && strings.HasPrefix(into.Kind, "float") {
			return single
		}
		if bare {
			return number
		}
	default:
	}
	return quotedText
}

func isGeometry(kind string) bool {
	return strings.HasPrefix(kind, "geometry") || strings.HasSuffix(kind, "point") || strings.HasSuffix(kind, "linestring") || strings.HasSuffix(kind, "polygon")
}

// number writes a number as such; what is none (NaN) is left to the server to refuse.
func number(dst, canonical []byte) ([]byte, error) {
	for i, b := range canonical {
		if (b < '0' || b > '9') && b != '.' && (b != '-' && b != '+' && b != 'e' && b != 'E' || i == 0 && b != '-') {
			return quotedText(dst, canonical)
		}
	}
	return append(dst, canonical...), nil
}

// single writes a number of single precision with all of its digits: the server takes the shortest
// text of the largest one for one that is too large.
func single(dst, canonical []byte) ([]byte, error) {
	v, err := strconv.ParseFloat(string(canonical), 32)
	if err != nil {
		return number(dst, canonical)
	}
	return strconv.AppendFloat(dst, v, 'g', -1, 64), nil
}

func quotedText(dst, text []byte) ([]byte, error) { return appendQuoted(dst, text), nil }

// appendQuoted appends a literal, under the session's sql_mode.
func appendQuoted(dst, text []byte) []byte {
	dst = append(dst, '\'')
	for {
		i := bytes.IndexByte(text, '\'')
		if i < 0 {
			return append(append(dst, text...), '\'')
		}
		dst = append(append(dst, text[:i+1]...), '\'')
		text = text[i+1:]
	}
}

// geometry makes the server's form of WKB, or of extended WKB: the number of the reference
// system stands before it.
func geometry(dst, canonical []byte) ([]byte, error) {
	if len(canonical) < 5 || canonical[0] != 1 {
		return dst, fmt.Errorf("a geometry of %d bytes that is no WKB of the low byte first", len(canonical))
	}
	system, head, rest := []byte{0, 0, 0, 0}, bytes.Clone(canonical[:5]), canonical[5:]
	if head[4]&0x20 != 0 && len(rest) >= 4 {
		head[4] &^= 0x20
		system, rest = rest[:4], rest[4:]
	}
	dst = append(dst, "X'"...)
	for _, part := range [][]byte{system, head, rest} {
		dst = hex.AppendEncode(dst, part)
	}
	return append(dst, '\''), nil
}
