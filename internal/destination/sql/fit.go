package sql

import (
	"regexp"
	"strconv"
	"strings"
)

// fit is how the values of one type go into a column of another.
type fit int8

const (
	fits     fit = iota // each value has room
	narrower            // some values have no room, or lose digits
	other               // another kind of type: the database converts what it can
)

// family is what types have in common whose values can be compared for room.
type family int8

const (
	noFamily family = iota
	integers
	decimals
	floats
	texts
	binaries
	moments // with a precision of seconds
)

// valueRoom is what a column has room for.
type valueRoom struct {
	family   family
	base     string // the name without sizes
	bits     int    // of integers and floats
	unsigned bool
	digits   int // of decimals, in front of the point
	places   int // behind the point, of decimals and seconds
	size     int // of texts in characters, of binaries in bytes
}

const unlimited = 1 << 40

var typeParts = regexp.MustCompile(`^([a-z ]+?[a-z0-9]*)\s*(?:\(([0-9]+)(?:,\s*(-?[0-9]+))?\))?((?: [a-z ]+)*)$`)

// oneWord are types whose names have two.
var oneWord = strings.NewReplacer("character varying", "varchar", "double precision", "double")

var integerBits = map[string]int{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "integer": 32, "bigint": 64}

// integerDigits are the digits of the largest integer of so many bits, without a sign.
var integerDigits = map[int]int{8: 3, 16: 5, 24: 8, 32: 10, 64: 20}

var textSizes = map[string]int{"text": unlimited, "longtext": unlimited, "mediumtext": 1<<24 - 1, "tinytext": 255, "varchar": unlimited, "char": 1, "character": 1}

var binarySizes = map[string]int{"bytea": unlimited, "longblob": unlimited, "mediumblob": 1<<24 - 1, "blob": 1<<16 - 1, "tinyblob": 255, "varbinary": unlimited, "binary": 1}

// roomOf reads a type's name as PostgreSQL and MariaDB write it. mariaDB tells apart what
// both write alike.
func roomOf(kind string, mariaDB bool) valueRoom {
	parts := typeParts.FindStringSubmatch(oneWord.Replace(strings.ToLower(kind)))
	if parts == nil {
		return valueRoom{base: kind}
	}
	base, rest := parts[1], parts[4]
	number := func(text string, without int) int {
		if n, err := strconv.Atoi(text); err == nil {
			return n
		}
		return without
	}
	r := valueRoom{base: base + rest}
	switch {
	case integerBits[base] > 0:
		r.family, r.bits, r.unsigned = integers, integerBits[base], strings.Contains(rest, "unsigned")
	case base == "numeric" || base == "decimal":
		r.family, r.digits, r.places = decimals, unlimited, unlimited
		if parts[2] != "" {
			r.places = number(parts[3], 0)
			r.digits = number(parts[2], 0) - r.places
		}
	case base == "real" || base == "float":
		r.family, r.bits = floats, 32
	case base == "double":
		r.family, r.bits = floats, 64
	case textSizes[base] > 0:
		r.family, r.size = texts, number(parts[2], textSizes[base])
		if base == "text" && mariaDB {
			r.size = 1<<16 - 1
		}
	case binarySizes[base] > 0:
		r.family, r.size = binaries, number(parts[2], binarySizes[base])
	case base == "time" || base == "timestamp" || base == "datetime" || base == "interval":
		most := 6
		if mariaDB {
			most = 0 // where none is written
		}
		r.family, r.places = moments, number(parts[2], most)
	}
	return r
}

// fitOf is how values of the type wanted go into a column of another type.
func fitOf(column, wanted string, mariaDB bool) fit {
	if column == wanted {
		return fits
	}
	has, needs := roomOf(column, mariaDB), roomOf(wanted, mariaDB)
	enough := func(is bool) fit {
		if is {
			return fits
		}
		return narrower
	}
	switch {
	case has.family == noFamily || needs.family == noFamily:
		return other
	case has.family == integers && needs.family == integers:
		switch {
		case has.unsigned == needs.unsigned:
			return enough(has.bits >= needs.bits)
		case has.unsigned:
			return narrower
		}
		return enough(has.bits > needs.bits)
	case has.family == decimals && needs.family == integers:
		return enough(has.digits >= integerDigits[needs.bits] || has.digits == 19 && !needs.unsigned)
	case has.family == decimals && needs.family == decimals:
		return enough(has.digits >= needs.digits && has.places >= needs.places)
	case has.family == integers && needs.family == decimals, has.family == decimals && needs.family == floats:
		return narrower
	case has.family == floats && needs.family == floats:
		return enough(has.bits >= needs.bits)
	case has.family == floats && needs.family == integers:
		return enough(has.bits == 64 && needs.bits <= 32 || needs.bits <= 16)
	case has.family == floats && needs.family == decimals, has.family == integers && needs.family == floats:
		return narrower
	case has.family != needs.family:
		return other
	case has.family == moments:
		if has.base != needs.base {
			return other
		}
		return enough(has.places >= needs.places)
	}
	return enough(has.size >= needs.size)
}

// rounds reports whether a column may make one value of two different ones of the type wanted,
// without an error.
func rounds(column, wanted string, mariaDB bool) bool {
	has, needs := roomOf(column, mariaDB), roomOf(wanted, mariaDB)
	switch {
	case needs.family == moments && has.base == "date":
		return true
	case has.family != needs.family && (has.family == floats || needs.family == decimals || needs.family == floats):
		return fitOf(column, wanted, mariaDB) == narrower
	case has.family != needs.family:
		return false
	case has.family == floats:
		return has.bits < needs.bits
	}
	return (has.family == decimals || has.family == moments) && has.places < needs.places
}
