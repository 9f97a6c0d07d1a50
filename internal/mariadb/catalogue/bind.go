package catalogue

import (
	"slices"
	"strings"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/statement"
	"rillmark/internal/mariadb/values"
)

// Bind is the columns of a table map, with what the catalogue adds where it is of the same
// definition: t, which may be nil, is what it says. agrees is false where it says otherwise:
// of the columns that differ, what the log does not say is then not known, but for the types that a
// statement has given them: stated has their first words by the columns' names in lower case.
func Bind(m *binlog.TableMap, t *Table, sets values.Charsets, stated map[string]string) (columns []*values.Column, agrees bool, err error) {
	agrees = t != nil && len(t.Columns) == len(m.Columns)
	columns = make([]*values.Column, len(m.Columns))
	for i, log := range m.Columns {
		var known *values.Column
		if t != nil {
			known = t.column(log.Name)
		}
		if known == nil || !same(&known.Log, &log) || len(known.Known) != len(log.Labels) {
			agrees = false
			if columns[i], err = values.FromLog(log, sets, stated[strings.ToLower(log.Name)]); err != nil {
				return nil, false, err
			}
			continue
		}
		c := *known
		c.Log, c.Key, c.Nullable = log, log.Key, log.Nullable
		if former[log.Type] != 0 {
			c.Log.Meta = known.Log.Meta // the log does not say how many decimals there are
		}
		agrees = agrees && t.Columns[i] == known && known.Nullable == log.Nullable && known.Key == log.Key
		if err := c.Prepare(sets); err != nil {
			return nil, false, err
		}
		columns[i] = &c
	}
	return columns, agrees, nil
}

// sequence are the columns of the one row that a sequence is; it stands in the log whenever
// its numbers are handed out.
var sequence = []string{"next_not_cached_value", "minimum_value", "maximum_value", "start_value", "increment", "cache_size", "cycle_option", "cycle_count"}

// MayBeSequence reports whether a table map has the columns of a sequence. A table can have
// the same ones: only the catalogue knows which it is.
func MayBeSequence(m *binlog.TableMap) bool {
	return slices.EqualFunc(m.Columns, sequence, func(c binlog.Column, name string) bool {
		kind := byte(binlog.ColLongLong)
		if name == "cycle_option" {
			kind = binlog.ColTiny
		}
		return c.Name == name && c.Type == kind && !c.Nullable
	})
}

// same reports whether the catalogue and the log describe a column alike.
func same(known, log *binlog.Column) bool {
	if old := former[log.Type]; old != 0 && old == known.Type {
		return true // a time in its former form
	}
	if known.Type != log.Type || known.Unsigned != log.Unsigned {
		return false
	}
	switch known.Type {
	case binlog.ColTiny, binlog.ColShort, binlog.ColInt24, binlog.ColLong, binlog.ColLongLong, binlog.ColYear, binlog.ColDate:
		return true
	}
	return known.Meta == log.Meta
}

// former are the types of times before the log said how many decimals they have, with what they
// are now.
var former = map[byte]byte{binlog.ColTime: binlog.ColTime2, binlog.ColDateTime: binlog.ColDateTime2, binlog.ColTimestamp: binlog.ColTimestamp2, binlog.ColNewDate: binlog.ColDate}

// aliases are other words for types, which the catalogue does not use.
var aliases = map[string]string{"integer": "int", "int4": "int", "int8": "bigint", "int2": "smallint", "int1": "tinyint", "int3": "mediumint", "middleint": "mediumint", "bool": "tinyint", "boolean": "tinyint",
	"dec": "decimal", "numeric": "decimal", "fixed": "decimal", "number": "decimal", "real": "double", "float8": "double", "float4": "float", "character": "char", "nchar": "char", "varcharacter": "varchar", "nvarchar": "varchar"}

// comparable are the types of which a CREATE and the catalogue have the same word.
var comparable = strings.Fields("tinyint smallint mediumint int bigint decimal double float bit date time datetime timestamp year char varchar binary varbinary enum set uuid inet4 inet6")

// MayBe reports whether a table may be the one that a CREATE has defined: the catalogue may be far
// ahead of the log, and have another one under its name. A statement may define fewer columns than
// the table has.
func MayBe(t *Table, defined []statement.Column) bool {
	for i := range defined {
		c := &defined[i]
		known := slices.IndexFunc(t.Columns, func(one *values.Column) bool { return strings.EqualFold(one.Name, c.Name) })
		if known < 0 {
			return false
		}
		said := strings.ToLower(c.Type)
		if to := aliases[said]; to != "" {
			said = to
		}
		is := strings.FieldsFunc(t.Columns[known].Type, func(r rune) bool { return r == '(' || r == ' ' })
		if len(is) > 0 && is[0] != said && slices.Contains(comparable, said) && slices.Contains(comparable, is[0]) {
			return false
		}
	}
	return true
}
